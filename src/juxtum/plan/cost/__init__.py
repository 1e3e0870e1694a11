"""What a measurement costs: spacing, points, minutes, the order of the day."""
