"""The demo world: invented parts with known errors."""
