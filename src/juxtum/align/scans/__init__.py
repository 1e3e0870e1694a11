"""Joining scans: what overlaps with what, ties between pairs, and all of them together."""
