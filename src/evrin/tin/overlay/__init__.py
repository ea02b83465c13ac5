"""Two meshes walked together: what overlaps, and how much lies between them."""
