"""Exact signs, and the one order of places."""
