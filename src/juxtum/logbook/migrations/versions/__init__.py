"""How the logbook's tables came to be, step by step."""
