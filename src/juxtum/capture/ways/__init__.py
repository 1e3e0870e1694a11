"""Devices that are not moved by a hand along the surface, probing, and practice."""
