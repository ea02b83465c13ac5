"""Pieces of surfaces cut exactly and put together."""
