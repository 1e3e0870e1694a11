"""Guided calibration of scanners and of what stands beside them."""
