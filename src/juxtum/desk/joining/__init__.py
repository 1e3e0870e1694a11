"""Several scans at Assemble: their list, the ring of their ties, and picking what two of them have in common."""
