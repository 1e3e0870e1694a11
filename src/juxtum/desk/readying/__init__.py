"""The station Ready: pose pad, go list, panels."""
