"""Layers under the ground: boreholes, what lies between them, and the top of each material."""
