"""Pads with slopes, planes, and pads whose cut fills the rest."""
