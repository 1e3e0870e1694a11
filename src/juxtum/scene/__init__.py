"""What is drawn: surfaces, maps and sections through an off-screen renderer; no windows here."""
