"""Rings that limit a surface, ground carried out to them, and outlines."""
