"""Panels of Brief."""
