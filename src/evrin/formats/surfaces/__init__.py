"""LandXML and mesh files."""
