"""What the ground is like: slopes, water, grids, one place."""
