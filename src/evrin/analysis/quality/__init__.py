"""How far a surface can be relied on: check points, distance to shots, figures."""
