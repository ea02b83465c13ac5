"""Clouds and grids larger than memory: made surfaces in tiles, and written from there."""
