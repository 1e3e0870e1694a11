"""Cleaning a scan at Assemble."""
