"""The surface at Assemble: its holes, and what is done to it."""
