"""Tiles of the plane, and what is done with each."""
