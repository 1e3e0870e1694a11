"""Photo networks of large parts, scale bars and the adjustment that predicts their length error."""
