"""Contours: followed, smoothed, labelled, compared with given ones."""
