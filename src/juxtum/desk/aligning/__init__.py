"""Panels of Align."""
