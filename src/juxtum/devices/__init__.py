"""Devices: a small protocol for each kind, and stand-ins that behave like the real ones."""
