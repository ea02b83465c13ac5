"""What every sheet has: a frame at equal scales, a panel of figures, scale bar, north and title block; saving it."""

from __future__ import annotations

import os
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from matplotlib.figure import Figure
from matplotlib.font_manager import FontProperties
from matplotlib.patches import Rectangle
from matplotlib.textpath import TextPath

from evrin.base.errors import DataError
from evrin.base.files import whole_file
from evrin.base.named_values import Row
from evrin.draw.colours import INK
from evrin.draw.paper import new_sheet, sheet_paper
from evrin.formats.door.writers import check_folder
from evrin.survey.file_inventory import box_of_most

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from evrin.surface.surface import Surface

UNIT_NAMES = {"m": "metres", "ft": "international feet", "ftUS": "US survey feet"}
PLAN_BOX = (0.065, 0.165, 0.655, 0.795)
PANEL, PANEL_END = 0.745, 0.965
PANEL_TOP, PANEL_FOOT = 0.96, 0.165
Window = tuple[float, float, float, float]


def check_picture(path: Path) -> None:
    """Refuse a picture nobody can write, before any work is done.

    Raises
    ------
    DataError
        For an extension other than PNG, PDF or SVG, or a folder that cannot be written to.
    """
    if path.suffix.lower() not in (".png", ".pdf", ".svg"):
        raise DataError(f"{path}: a picture is .png, .pdf or .svg")
    check_folder(path)


def save_sheet(figure: Figure, path: str | os.PathLike[str]) -> None:
    """Write a figure as PNG, PDF or SVG; it appears whole or not at all.

    Parameters
    ----------
    figure : Figure
        The sheet.
    path : str | os.PathLike[str]
        The file; its extension names the format.

    Raises
    ------
    DataError
        As `check_picture` does.

    Examples
    --------
    >>> import tempfile
    >>> from pathlib import Path
    >>> import evrin
    >>> field = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]], name="field")
    >>> from evrin.draw import map_sheet, save_sheet
    >>> save_sheet(map_sheet(field), Path(tempfile.mkdtemp()) / "plan.png")
    """
    target = Path(path)
    check_picture(target)
    with whole_file(target) as stream:
        figure.savefig(stream, format=target.suffix.lower()[1:], dpi=sheet_paper().dpi)


def frame_surface(axes: Axes, surface: Surface, window: Window | None) -> None:
    """Fill the axes with a window, or with all of a surface and a margin, at equal scales."""
    west, south, east, north = window or window_of_most(surface)
    margin = 0.03 * max(east - west, north - south) if window is None else 0.0
    frame_axes(axes, (west - margin, south - margin, east + margin, north + margin))


def frame_axes(axes: Axes, window: Window) -> None:
    """Fill the axes with a window, or somewhat more, at equal scales.

    Raises
    ------
    DataError
        Where the window has no area.
    """
    west, south, east, north = window
    if not (east > west and north > south):
        raise DataError(f"a window runs west, south, east, north; {window} has no area")
    box = axes.get_position()
    shape = (box.height * sheet_paper().height) / (box.width * sheet_paper().width)
    width = max(east - west, (north - south) / shape)
    middle_x, middle_y = (west + east) / 2.0, (south + north) / 2.0
    axes.set_xlim(middle_x - width / 2.0, middle_x + width / 2.0)
    axes.set_ylim(middle_y - width * shape / 2.0, middle_y + width * shape / 2.0)
    axes.set_aspect("equal")
    axes.autoscale(False)
    axes.ticklabel_format(style="plain", useOffset=False)
    axes.tick_params(labelsize=8, direction="in", top=True, right=True)
    axes.locator_params(nbins=7)
    axes.set_xlabel("easting", fontsize=8)
    axes.set_ylabel("northing", fontsize=8)
    axes.tick_params(axis="y", labelrotation=90)
    for label in axes.get_yticklabels():
        label.set(verticalalignment="center")


def arrow_spacing(surface: Surface, window: Window | None = None) -> float:
    """Return the distance on the ground at which arrows remain legible on a plan."""
    west, south, east, north = window or window_of_most(surface)
    return (
        max(east - west, (north - south) * PLAN_BOX[2] * sheet_paper().width / (PLAN_BOX[3] * sheet_paper().height))
        / 42.0
    )


def window_of_most(surface: Surface) -> Window:
    """Return the extent of a surface, without vertices that lie far away from all the rest, such as control."""
    places = surface.vertices[:, :2]
    box = box_of_most(places)
    near = places if box is None else places[((places >= box[0]) & (places <= box[1])).all(axis=1)]
    low, high = near.min(axis=0), near.max(axis=0)
    return float(low[0]), float(low[1]), float(high[0]), float(high[1])


def new_plan(surface: Surface, window: Window | None = None) -> tuple[Figure, Axes]:
    """Return a figure with axes that show a surface, or a window of it, and room for a panel beside them."""
    figure = new_sheet()
    axes = figure.add_axes(PLAN_BOX)
    frame_surface(axes, surface, window)
    return figure, axes


def finish_plan(figure: Figure, axes: Axes, surface: Surface, title: str, facts: Sequence[str] = ()) -> Figure:
    """Add title block, scale bar and north."""
    draw_title_block(figure, surface.name, title, [*frame_facts(surface), *facts], surface.facts.line())
    draw_scale_bar(figure, axes, surface.units)
    draw_north(figure)
    return figure


def frame_facts(surface: Surface) -> list[str]:
    """Return what the coordinates and heights of a surface mean, for a title block."""
    datum = [f"heights above {surface.facts.height_datum}"] if surface.facts.height_datum else []
    return [f"units: {UNIT_NAMES[surface.units]}", f"reference system: {surface.crs}", *datum]


def write_rows(
    figure: Figure, top: float, title: str, rows: Sequence[Sequence[str]], heads: Sequence[str] = ()
) -> float:
    """Write a small table into the panel, its first column to the left, all others to the right; return its foot."""
    size, step = (8.5, 0.024) if not heads and len(rows) < 14 else (7.5, 0.0205)
    figure.text(PANEL, top, title, fontsize=9, fontweight="bold", va="top", color=INK)
    y = top - 0.032
    columns = max([len(heads), *(len(row) for row in rows)], default=1)
    first = 0.30 if columns > 3 else 0.45
    ends = [PANEL + (PANEL_END - PANEL) * (first + (1.0 - first) * k / max(columns - 1, 1)) for k in range(columns)]
    step_width = (PANEL_END - PANEL) * (1.0 - first) / max(columns - 1, 1)
    if columns > 2:
        size = min(
            [size, *(fitting_size(figure, c, size, 0.94 * step_width) for row in (heads, *rows) for c in row[1:])]
        )
    for number, row in enumerate([heads, *rows] if heads else rows):
        if y - step < PANEL_FOOT:
            more = len(rows) - number + bool(heads)
            figure.text(PANEL, y, f"… and {more} more", fontsize=size, va="top", color=INK)
            return y - step
        is_head = bool(heads) and number == 0
        for k, cell in enumerate(row):
            style: Row = {
                "fontsize": size,
                "va": "top",
                "color": INK,
                "fontstyle": "italic" if is_head else "normal",
            }
            if k == 0:
                figure.text(PANEL, y, cell, **style)
            else:
                figure.text(ends[k], y, cell, ha="right", **style)
        y -= step
    return y - 0.014


def draw_title_block(figure: Figure, name: str, title: str, facts: Sequence[str], credit: str = "") -> None:
    """Draw the block at the foot of a sheet: a name, what the sheet shows, facts, and who surveyed it."""
    figure.add_artist(Rectangle((0.012, 0.015), 0.976, 0.085, fill=False, edgecolor=INK, linewidth=1.0))
    # A long name is set smaller, to end before the facts begin.
    size = fitting_size(figure, name, 14.0, 0.325, "bold")
    top, middle = (0.068, 0.036) if not credit else (0.079, 0.054)
    figure.text(0.03, top, name, fontsize=size, fontweight="bold", color=INK, va="center")
    figure.text(0.03, middle, title, fontsize=9.5, color=INK, va="center")
    if credit:
        small = fitting_size(figure, credit, 7.5, 0.335)
        figure.text(0.03, 0.03, credit, fontsize=small, color=INK, va="center")
    # Five facts fill the height of the block; further ones are smaller, beside the first.
    half = len(facts) if len(facts) <= 5 else (len(facts) + 1) // 2
    for k, column in enumerate((facts[:half], facts[half:])):
        size, width = (8.5, 7.8, 6.9)[min(max(half - 3, 0), 2)], 0.31 if len(facts) <= 5 else (0.18, 0.125)[k]
        size = min([size, *(fitting_size(figure, fact, size, width) for fact in column)])
        place = (0.375 + 0.19 * k, 0.0575)
        figure.text(*place, "\n".join(column), fontsize=size, color=INK, va="center", linespacing=1.3)


def fitting_size(figure: Figure, text: str, size: float, width: float, weight: str = "normal") -> float:
    """Return the size of letters, *size* or less, at which a text fits into a part of the width of a sheet."""
    if not text.strip():
        return size
    points = (
        TextPath((0.0, 0.0), text.replace("$", "S"), size=size, prop=FontProperties(weight=weight)).get_extents().width
    )
    return size * min(1.0, 72.0 * float(figure.get_size_inches()[0]) * width / max(points, 1e-9))


def draw_scale_bar(figure: Figure, axes: Axes, units: str) -> None:
    """Draw a scale bar for some axes in the title block."""
    box = axes.get_position()
    west, east = axes.get_xlim()
    per_unit = box.width / (east - west)
    wanted = 0.14 / per_unit
    power = 10.0 ** np.floor(np.log10(wanted))
    length = max(step * power for step in (1.0, 2.0, 5.0) if step * power <= wanted)
    left, width = 0.70, length * per_unit
    for k in range(4):
        face = INK if k % 2 == 0 else "white"
        figure.add_artist(
            Rectangle((left + k * width / 4, 0.062), width / 4, 0.012, facecolor=face, edgecolor=INK, linewidth=0.8)
        )
    many = length >= 5000.0 and units == "m"
    shown, unit = (length / 1000.0, "km") if many else (length, units)
    marks = [(0.0, "0"), (0.5, f"{shown / 2:g}"), (1.0, f"{shown:g} {unit}")]
    if fitting_size(figure, marks[1][1] + marks[2][1], 8.0, 0.9 * width) < 8.0:
        del marks[1]
    for part, text in marks:
        figure.text(left + part * width, 0.056, text, fontsize=8, ha="center", va="top", color=INK)


def draw_north(figure: Figure) -> None:
    """Draw a north arrow in the title block."""
    axes = figure.add_axes((0.945, 0.022, 0.03, 0.07))
    axes.set_axis_off()
    axes.set_xlim(-1, 1)
    axes.set_ylim(0, 3)
    axes.annotate("", xy=(0, 2.1), xytext=(0, 0), arrowprops={"arrowstyle": "-|>", "color": INK, "linewidth": 1.4})
    axes.text(0, 2.2, "N", ha="center", va="bottom", fontsize=10, fontweight="bold", color=INK)
