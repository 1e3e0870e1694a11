"""Reference targets: from where a part is looked at, whether that tracks, and where targets go."""
