"""Point clouds: their ground, and fewer points of it."""
