"""Capture: what is taken in from a device, held against the plan while it comes, and kept."""
