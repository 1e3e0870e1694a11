"""Sections at the station Measure: where to cut, and the drawing of what the cut shows."""
