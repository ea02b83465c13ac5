"""The heart: exact triangulation on plain arrays, compiled."""
