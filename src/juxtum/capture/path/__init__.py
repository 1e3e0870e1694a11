"""Captures that follow the plan by themselves, and how far round a loop went."""
