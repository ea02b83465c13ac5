"""GIS files."""
