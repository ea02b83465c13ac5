"""DXF drawings."""
