"""Measured figures for docs/measurements.md; run with `./run bench [NAME...]`."""
