"""Inks of lines and marks, and colour maps that are even to the eye and readable in grey."""

from __future__ import annotations

import numpy as np
from matplotlib import colormaps
from matplotlib.colors import Colormap, ListedColormap

INK = "#22303c"
CONTOUR = "#7a4a21"
LINE = "#0b6e69"
RING = "#5b2a86"
MARK = "#c2185b"
WATER = "#1f5fa8"
CUT, FILL = "#5e3c99", "#b35806"
# M. Okabe and K. Ito (2008), Color universal design: told apart by nearly everybody; and two darker ones.
GROUPS = ("#0072b2", "#d55e00", "#009e73", "#cc79a7", "#e69f00", "#56b4e9", "#7f5539", "#5b2a86")
PROFILES = ("#7a4a21", "#1f5fa8", "#5b2a86", "#0b6e69")


def lightened(name: str) -> Colormap:
    """Return a colour map a third of the way to white, so that lines and labels remain visible on it."""
    colours = colormaps[name](np.linspace(0.0, 1.0, 256))
    colours[:, :3] += (1.0 - colours[:, :3]) * 0.3
    return ListedColormap(colours)
