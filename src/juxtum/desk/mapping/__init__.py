"""The map at the station Measure: how it is coloured, where it is worst, how thick the walls are."""
