"""A Delaunay triangulation made at once, in tiles, or of tiles joined."""
