"""What is taken in while a scanner works: frames, patches, coverage, what the person is told."""
