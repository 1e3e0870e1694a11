"""Many parts in one scan, at Assemble."""
