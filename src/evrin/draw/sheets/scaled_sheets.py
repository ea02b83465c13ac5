"""Sheets at a numeric scale: as many as a surface needs, and an overview of them."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from matplotlib.patches import Rectangle

from evrin.base.errors import DataError
from evrin.base.tolerances import METRES
from evrin.base.wording import counted
from evrin.draw import plan_layers
from evrin.draw.colours import INK, MARK
from evrin.draw.paper import sheet_paper
from evrin.draw.shading import draw_shading
from evrin.draw.sheets.sheet import PLAN_BOX, Window, finish_plan, new_plan, window_of_most, write_rows
from evrin.kernels import Floats
from evrin.surface.surface import Surface

_INCH = 0.0254
_OVERLAP = 0.04
_MOST_SHEETS = 200
_LARGEST_SCALE = 1e6


@dataclass(frozen=True)
class ScaledSheets:
    """The windows of sheets at one scale, row by row from the north-west.

    Attributes
    ----------
    scale : float
        Ground over paper, 500 for 1:500.
    windows : list of (west, south, east, north)
        What each sheet shows.

    Examples
    --------
    >>> import evrin
    >>> from evrin.draw.sheets.scaled_sheets import sheets_at_scale
    >>> field = evrin.triangulate([[0, 0, 1], [80, 0, 1], [80, 80, 2], [0, 80, 2]])
    >>> sheets_at_scale(field, 500).words, len(sheets_at_scale(field, 200).windows)
    ('scale 1:500 on 325 × 203 mm', 6)
    """

    scale: float
    windows: list[Window]

    @property
    def words(self) -> str:
        """The scale and the paper, for a title block."""
        width, height = (1000.0 * _INCH * side for side in sheet_paper().size)
        return f"scale 1:{self.scale:g} on {width:.0f} × {height:.0f} mm"

    def drawn(self, draw: Callable[[Window], Figure]) -> Iterator[tuple[str, Figure]]:
        """Yield a name and a figure for each sheet, without the overview.

        Parameters
        ----------
        draw : callable
            Draws the sheet of a window.

        Returns
        -------
        iterator of (str, Figure)
        """
        for number, window in enumerate(self.windows, 1):
            yield (f"{number}" if len(self.windows) > 1 else "", draw(window))


def sheets_at_scale(surface: Surface, scale: float, window: Window | None = None) -> ScaledSheets:
    """Return the windows that show a surface at a scale on the paper that is drawn on now.

    Neighbours overlap by a twenty-fifth. Sheets without ground are left out.

    Parameters
    ----------
    surface : Surface
        What is drawn.
    scale : float
        Ground over paper, 500 for 1:500.
    window : Window, optional
        What to show; all of the surface if not given.

    Returns
    -------
    ScaledSheets

    Raises
    ------
    DataError
        For a scale that is not above 0, or that needs more than two hundred sheets.

    Examples
    --------
    >>> import evrin
    >>> from evrin.draw.sheets.scaled_sheets import sheets_at_scale
    >>> field = evrin.triangulate([[0, 0, 1], [80, 0, 1], [80, 80, 2], [0, 80, 2]])
    >>> [round(side) for side in sheets_at_scale(field, 1000).windows[0]]
    [-66, -41, 146, 121]
    """
    if not 0.0 < scale <= _LARGEST_SCALE:
        raise DataError(
            f"a scale is ground over paper, as in 500 for 1:500, up to {_LARGEST_SCALE:,.0f}; got {scale:g}"
        )
    west, south, east, north = window or window_of_most(surface)
    of_paper = scale * _INCH / METRES[surface.units]
    width, height = (part * side * of_paper for part, side in zip(PLAN_BOX[2:], sheet_paper().size, strict=True))
    across, up = (_sheets_for(extent, size) for extent, size in ((east - west, width), (north - south, height)))
    if across * up > _MOST_SHEETS:
        raise DataError(f"at 1:{scale:g} this takes {across * up:,} sheets; at most {_MOST_SHEETS} are drawn at once")
    middle = ((west + east) / 2.0, (south + north) / 2.0)
    steps = (width * (1.0 - _OVERLAP), height * (1.0 - _OVERLAP))
    windows = []
    for row in range(up):
        for column in range(across):
            x = middle[0] + (column - (across - 1) / 2.0) * steps[0]
            y = middle[1] - (row - (up - 1) / 2.0) * steps[1]
            windows.append((x - width / 2.0, y - height / 2.0, x + width / 2.0, y + height / 2.0))
    corners = surface.vertices[surface.triangles, :2]
    boxes = np.hstack((corners.min(axis=1), corners.max(axis=1)))
    shown = [each for each in windows if _has_ground(boxes, each)]
    return ScaledSheets(scale, shown or windows)


def _sheets_for(extent: float, size: float) -> int:
    if extent <= size:
        return 1
    return min(1 + math.ceil((extent - size) / (size * (1.0 - _OVERLAP)) - 1e-9), 10**6)


def _has_ground(boxes: Floats, window: Window) -> bool:
    """Whether any of the boxes of triangles meets a window."""
    west, south, east, north = window
    return bool(((boxes[:, :2] < (east, north)) & (boxes[:, 2:] > (west, south))).all(axis=1).any())


def overview_sheet(surface: Surface, sheets: ScaledSheets) -> Figure:
    """Return a plan that shows which sheet covers what.

    Parameters
    ----------
    surface : Surface
        What is drawn.
    sheets : ScaledSheets
        The sheets to show on it.

    Returns
    -------
    Figure

    Examples
    --------
    >>> import evrin
    >>> from evrin.draw.sheets.scaled_sheets import overview_sheet, sheets_at_scale
    >>> field = evrin.triangulate([[0, 0, 1], [80, 0, 1], [80, 80, 2], [0, 80, 2]])
    >>> type(overview_sheet(field, sheets_at_scale(field, 200))).__name__
    'Sheet'
    """
    sides = list(zip(*sheets.windows, strict=True))
    margin = 0.02 * (max(sides[2]) - min(sides[0]))
    all_of_them = (min(sides[0]) - margin, min(sides[1]) - margin, max(sides[2]) + margin, max(sides[3]) + margin)
    figure, axes = new_plan(surface, all_of_them)
    draw_shading(surface, "relief", axes)
    plan_layers.draw_lines(surface, axes)
    for number, each in enumerate(sheets.windows, 1):
        _outline(axes, each, f"{number}")
    rows = [
        (f"sheet {number}", f"{west:,.0f} – {east:,.0f}", f"{south:,.0f} – {north:,.0f}")
        for number, (west, south, east, north) in enumerate(sheets.windows, 1)
    ]
    write_rows(figure, 0.96, counted(len(rows), "sheet"), rows, ("", "easting", "northing"))
    return finish_plan(figure, axes, surface, "overview of the sheets", [sheets.words.replace("scale", "sheets at", 1)])


def _outline(axes: Axes, window: Window, name: str) -> None:
    west, south, east, north = window
    axes.add_patch(
        Rectangle((west, south), east - west, north - south, fill=False, edgecolor=MARK, linewidth=1.2, zorder=6)
    )
    axes.text(
        (west + east) / 2.0,
        (south + north) / 2.0,
        name,
        ha="center",
        va="center",
        fontsize=14,
        fontweight="bold",
        color=MARK,
        zorder=7,
        bbox={"boxstyle": "round,pad=0.25", "facecolor": "white", "edgecolor": INK, "linewidth": 0.6},
    )
