"""Point clouds and grids."""
