"""Features at the station Measure: clicked, held, made of others."""
