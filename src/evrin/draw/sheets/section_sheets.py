"""Cross-sections on sheets, several to a page, all at one scale."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from matplotlib.figure import Figure

from evrin.base.errors import DataError
from evrin.base.files import whole_file
from evrin.draw.axes import axes_or_new
from evrin.draw.colours import CUT, FILL, INK, LINE, PROFILES
from evrin.draw.paper import new_sheet, sheet_paper
from evrin.draw.sheets.profile_sheets import EXAGGERATIONS
from evrin.draw.sheets.sheet import UNIT_NAMES, check_picture, draw_title_block
from evrin.draw.strips import MOST_ROWS, spaced, strip_height, write_strip

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from evrin.analysis.along.sections import Section

_COLUMNS, _ROWS = 2, 3
A_PAGE = _COLUMNS * _ROWS
_LEFT, _TOP, _WIDTH = 0.1, 0.955, 0.39
_ACROSS, _UP = 0.495, 0.285
_LETTERS = 5.5


def draw_section(section: Section, base: float, ax: Axes | None = None) -> Axes:
    """Draw the surfaces of one section, the first filled down to *base*, with the line it lies across.

    Parameters
    ----------
    section : Section
        What is drawn.
    base : float
        Height of the bottom of the drawing.
    ax : Axes, optional
        Where to draw; new axes of pyplot if not given.

    Returns
    -------
    Axes

    Examples
    --------
    >>> import evrin
    >>> field = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]], name="field")
    >>> from matplotlib.figure import Figure
    >>> from evrin.draw import draw_section
    >>> (section,) = field.sections([(0, 4), (8, 4)], stations=[4.0], left=2, right=2)
    >>> axes = draw_section(section, 0.0, Figure().add_subplot())
    """
    axes = axes_or_new(ax)
    for number, (name, ground) in enumerate(section.profiles.items()):
        colour = PROFILES[number % len(PROFILES)]
        axes.plot(ground.chainage, ground.heights, color=colour, linewidth=1.3, label=name, zorder=4 - number / 10)
        if number == 0:
            axes.fill_between(ground.chainage, ground.heights, base, color=colour, alpha=0.14, linewidth=0, zorder=1)
    axes.axvline(0.0, color=LINE, linewidth=0.8, linestyle=(0, (6, 3)), zorder=2)
    axes.grid(color=INK, alpha=0.12, linewidth=0.5)
    return axes


def section_sheets(
    sections: Sequence[Section],
    *,
    units: str = "m",
    exaggeration: float | None = None,
    name: str = "",
    title: str = "cross-sections",
    credit: str = "",
    areas: Sequence[tuple[float, float]] = (),
) -> list[Figure]:
    """Return sheets of six sections each, all at one scale and exaggeration, each from its own height up.

    Parameters
    ----------
    sections : sequence of Section
        What is drawn.
    units : str
        Unit of all lengths.
    exaggeration : float, optional
        Vertical over horizontal scale; the largest usual one at which every section fits if not given. At a larger
        one the ground is cut off at the edge of its drawing, which the section states.
    name, title, credit : str
        For the title block.
    areas : sequence of (float, float)
        Of each section the area of cut and of fill, where the second surface lies below the first and above it: they
        are hatched, and written in.

    Returns
    -------
    list of Figure

    Raises
    ------
    DataError
        Without a section, or where none has ground.

    Examples
    --------
    >>> import evrin
    >>> field = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]], name="field")
    >>> from evrin.draw import section_sheets
    >>> len(section_sheets(field.sections([(0, 4), (8, 4)], 4.0, left=2, right=2)))
    1
    """
    if not sections:
        raise DataError("no section to draw")
    relief = max((_relief(section) for section in sections), default=0.0)
    if all(np.isnan(_heights(section)).all() for section in sections):
        raise DataError("no section has any ground to draw")
    first = next(iter(sections[0].profiles.values()))
    left, right = float(first.bends[0]), float(first.bends[-1])
    strip = strip_height(min(len(sections[0].profiles), MOST_ROWS) + 1, _LETTERS) / sheet_paper().height
    high = _UP - 0.035 - strip
    room = (right - left) * (high * sheet_paper().height) / (_WIDTH * sheet_paper().width)
    fitting = [step for step in EXAGGERATIONS if step <= room / (1.2 * max(relief, 1e-6))]
    exaggeration_used = (
        exaggeration if exaggeration is not None else float(fitting[-1]) if fitting else room / (1.2 * relief)
    )
    if not (exaggeration_used > 0.0 and np.isfinite(exaggeration_used)):
        raise DataError(f"the exaggeration must be above 0; it is {exaggeration_used:g}")
    span = room / exaggeration_used
    pages = [sections[k : k + A_PAGE] for k in range(0, len(sections), A_PAGE)]
    figures: list[Figure] = []
    for number, page in enumerate(pages, 1):
        figure = new_sheet()
        for k, section in enumerate(page):
            row, column = divmod(k, _COLUMNS)
            box = (_LEFT + _ACROSS * column, _TOP - _UP * row - high, _WIDTH, high)
            axes = _place_section(figure, box, section, (left, right), span, units)
            if areas:
                hatch_cut_and_fill(axes, section, areas[(number - 1) * A_PAGE + k], units)
        facts = [
            f"units: {UNIT_NAMES[units]}; vertical exaggeration {exaggeration_used:g}",
            f"chainage {page[0].chainage:,.2f} to {page[-1].chainage:,.2f}; offsets as seen along the line",
            f"page {number} of {len(pages)}",
        ]
        if len(page[0].profiles) > 1:
            handles, labels = figure.axes[0].get_legend_handles_labels()
            figure.legend(handles, labels, loc="lower right", bbox_to_anchor=(0.985, 0.02), fontsize=8, frameon=False)
        draw_title_block(figure, name or " and ".join(page[0].profiles), title, facts, credit)
        figures.append(figure)
    return figures


def _heights(section: Section) -> np.ndarray:
    return np.concatenate([ground.heights for ground in section.profiles.values()])


def _relief(section: Section) -> float:
    heights = _heights(section)
    heights = heights[np.isfinite(heights)]
    return float(np.ptp(heights)) if len(heights) else 0.0


def _place_section(
    figure: Figure,
    box: tuple[float, float, float, float],
    section: Section,
    width: tuple[float, float],
    span: float,
    units: str,
) -> Axes:
    axes = figure.add_axes(box)
    heights = _heights(section)
    heights = heights[np.isfinite(heights)]
    middle = float(heights.min() + heights.max()) / 2.0 if len(heights) else 0.0
    base = _base(heights, middle, span)
    axes.set_xlim(*width)
    axes.set_ylim(base, base + span)
    draw_section(section, base, axes)
    cut = " (cut off)" if len(heights) and (heights.min() < base or heights.max() > base + span) else ""
    east, north = section.centre
    ground = next(iter(section.profiles.values()))
    centre = float(ground.height(0.0)) if width[0] <= 0.0 <= width[1] else float("nan")
    ground_height = f"{centre:.3f} {units}" if np.isfinite(centre) else "no ground"
    axes.set_title(f"chainage {section.chainage:,.2f}{cut}", fontsize=9.5, fontweight="bold", color=INK, loc="left")
    axes.set_title(f"E {east:.2f}  N {north:.2f}  on the line: {ground_height}", fontsize=7.5, color=INK, loc="right")
    axes.tick_params(labelsize=7.5)
    axes.ticklabel_format(style="plain", useOffset=False)
    axes.locator_params(axis="y", nbins=5)
    axes.set_ylabel(f"height ({units})", fontsize=6.5)
    named = [("ground" if len(section.profiles) == 1 else name, each) for name, each in section.profiles.items()]
    turns = [at for _, each in named[:MOST_ROWS] for at in each.changes(1.0)[0].tolist()]
    ends = (float(ground.chainage[0]), float(ground.chainage[-1]))
    keys = [at for at in (*ends, 0.0) if ends[0] <= at <= ends[1]]
    stations = spaced(keys, [at for at in turns if width[0] <= at <= width[1]], (width[1] - width[0]) / 32.0)
    write_strip(axes, stations, named, f"offset ({units})", size=_LETTERS)
    if not len(heights):
        axes.text(0.5, 0.5, "off the surface", transform=axes.transAxes, ha="center", va="center", color=INK)
    return axes


def hatch_cut_and_fill(axes: Axes, section: Section, areas: tuple[float, float], units: str) -> None:
    """Hatch where the second surface of a section lies below the first and above it, and write the areas in."""
    base, top = list(section.profiles.values())[:2]
    at = np.unique(np.concatenate((base.chainage, top.chainage)))
    low, high = base.height(at), top.height(at)
    for is_fill, hatch, colour in ((False, "\\\\\\\\", CUT), (True, "////", FILL)):
        where = high >= low if is_fill else high <= low
        axes.fill_between(
            at, low, high, where=where, interpolate=True, facecolor="none", hatch=hatch, edgecolor=colour, linewidth=0.0
        )
    text = f"cut {areas[0]:,.2f} {units}²   fill {areas[1]:,.2f} {units}²"
    box = {"facecolor": "white", "edgecolor": "none", "alpha": 0.8, "pad": 1.5}
    axes.text(0.985, 0.955, text, transform=axes.transAxes, ha="right", va="top", fontsize=7.5, color=INK, bbox=box)


def _base(heights: np.ndarray, middle: float, span: float) -> float:
    """A round height for the foot of a drawing from which the ground is within it, or as near to that as can be."""
    step = 10.0 ** np.floor(np.log10(span / 5.0))
    exact = middle - span / 2.0
    for base in (np.floor(exact / step) * step, np.ceil(exact / step) * step):
        if not len(heights) or (heights.min() >= base and heights.max() <= base + span):
            return float(base)
    return float(exact)


def save_pages(figures: Sequence[Figure], path: Path, names: Sequence[str] = ()) -> list[Path]:
    """Write sheets: as one PDF, or as a PNG or SVG each, numbered where there are several.

    Parameters
    ----------
    figures : Sequence[Figure]
        The sheets in order.
    path : Path
        The file; its extension names the format.
    names : sequence of str
        Added to the names of files where there are several; their numbers if not given.

    Returns
    -------
    list[Path]

    Raises
    ------
    DataError
        For an extension other than PNG, PDF or SVG, or a folder that cannot be written to.

    Examples
    --------
    >>> import tempfile
    >>> from pathlib import Path
    >>> import evrin
    >>> field = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]], name="field")
    >>> from evrin.draw import map_sheet, save_pages
    >>> [path.name for path in save_pages([map_sheet(field)], Path(tempfile.mkdtemp()) / "plan.pdf")]
    ['plan.pdf']
    """
    check_picture(path)
    kind = path.suffix.lower()[1:]
    if kind == "pdf":
        from matplotlib.backends.backend_pdf import PdfPages

        with whole_file(path) as stream, PdfPages(stream) as pages:
            for figure in figures:
                pages.savefig(figure)
        return [path]
    digits = len(str(len(figures)))
    called = names or [f"{k:0{digits}}" for k in range(1, len(figures) + 1)]
    paths = [path.with_stem(f"{path.stem}-{name}") for name in called]
    written = paths if len(figures) > 1 else [path]
    for figure, target in zip(figures, written, strict=True):
        with whole_file(target) as stream:
            figure.savefig(stream, format=kind, dpi=sheet_paper().dpi)
    return written
