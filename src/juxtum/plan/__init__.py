"""Planning: which instrument, where targets, bars and stations go, how long it takes and what will not be seen."""
