"""Questions to triangles: which one is here, what is level, what is near."""
