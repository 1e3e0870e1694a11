"""The capture as a job keeps it, and the surface that is made of it."""
