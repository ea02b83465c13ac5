"""The viewer page: a surface in plan and in three dimensions, with the shots behind every place."""

from __future__ import annotations

import os
from collections.abc import Sequence
from pathlib import Path

import numpy as np
from matplotlib import colormaps
from matplotlib.colors import to_hex

from evrin.analysis.contours.contour_lines import Contours
from evrin.analysis.terrain.banding import SLOPE_LIMITS
from evrin.base.errors import DataError
from evrin.base.files import whole_text_file
from evrin.check import Finding
from evrin.draw.colours import lightened
from evrin.draw.projection import usual_exaggeration
from evrin.draw.shading import slope_text
from evrin.draw.sheets.sheet import window_of_most
from evrin.formats.door.writers import check_folder
from evrin.report.packing import packed
from evrin.report.templating import filled, part, vendored
from evrin.surface.surface import Surface

MOST_TRIANGLES = 2_000_000


def look_page(
    surface: Surface, findings: Sequence[Finding] = (), contours: Contours | None = None, *, report: str = ""
) -> str:
    """Return a page on which a surface can be looked at from every side.

    Parameters
    ----------
    surface : Surface
        What the page shows.
    findings : sequence of Finding
        Marked and listed, numbered from 1.
    contours : Contours, optional
        Contours to draw on it.
    report : str
        Address of the report, for a link back.

    Returns
    -------
    str
        HTML with all that it needs in it.

    Raises
    ------
    DataError
        For more than two million triangles, which no page shows smoothly.

    Examples
    --------
    >>> import evrin
    >>> field = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]], name="field")
    >>> from evrin.report import look_page
    >>> look_page(field, [], field.contours(0.5)).startswith("<!doctype html>")
    True
    """
    if len(surface.triangles) > MOST_TRIANGLES:
        raise DataError(
            f"{len(surface.triangles):,} triangles are more than a page can show ({MOST_TRIANGLES:,}); cut out the "
            "part to look at with a boundary, or thin the cloud"
        )
    facts, arrays = page_data(surface, findings, contours)
    return filled(
        "look.html",
        title=surface.name,
        style=part("look.css"),
        script=part("look.js"),
        kit=vendored("kit.txt"),
        data=packed(facts, arrays),
        report=report,
    )


def write_look(
    path: str | os.PathLike[str],
    surface: Surface,
    findings: Sequence[Finding] = (),
    contours: Contours | None = None,
    *,
    report: str = "",
) -> None:
    """Write the page; it appears whole or not at all.

    Parameters
    ----------
    path : str | os.PathLike[str]
        The page (.html).
    surface : Surface
        What the page shows.
    findings : Sequence[Finding]
        Findings to mark.
    contours : Contours, optional
        Contours to draw on it.
    report : str
        Address of the report, for a link.

    Raises
    ------
    DataError
        As `look_page` does, and for an extension other than .html or a folder that cannot be written to.

    Examples
    --------
    >>> import tempfile
    >>> import evrin
    >>> field = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]], name="field")
    >>> from evrin.report import write_look
    >>> write_look(tempfile.mkdtemp() + "/field.html", field, [], field.contours(0.5))
    """
    target = Path(path)
    check_page(target)
    text = look_page(surface, findings, contours, report=report)
    with whole_text_file(target) as stream:
        stream.write(text)


def check_page(path: Path) -> None:
    """Refuse a page nobody can write, before any work is done.

    Raises
    ------
    DataError
        For an extension other than .html, or a folder that cannot be written to.
    """
    if path.suffix.lower() not in (".html", ".htm"):
        raise DataError(f"{path}: a page is .html")
    check_folder(path)


def page_data(
    surface: Surface, findings: Sequence[Finding], contours: Contours | None
) -> tuple[dict[str, object], dict[str, np.ndarray]]:
    """Return what the page's script is given: facts, and arrays relative to an origin at the middle of the surface."""
    west, south, east, north = surface.extent
    origin = np.round([(west + east) / 2.0, (south + north) / 2.0, 0.0], 0)
    origin[2] = np.floor(surface.vertices[:, 2].min())
    arrays = {
        "vertices": surface.vertices - origin,
        "triangles": surface.triangles,
        "mates": surface.mates,
        "edge_lines": surface.edge_lines,
    }
    if contours is not None:
        for is_index, name in ((False, "contours"), (True, "index_contours")):
            arrays[name] = _legs(contours, is_index, origin).astype(np.float32)
    low, high = np.quantile(surface.vertices[:, 2], [0.005, 0.995]) - origin[2]
    facts = {
        "window": (np.array(window_of_most(surface)) - np.tile(origin[:2], 2)).tolist(),
        "range": [float(low), float(high)],
        "name": surface.name,
        "units": surface.units,
        "origin": origin.tolist(),
        "exaggeration": usual_exaggeration(surface),
        "lines": [{"name": line.name, "ring": line.is_ring} for line in surface.lines],
        "shots": _shots(surface),
        "findings": [_text_of(finding) for finding in findings],
        "heights": [to_hex(colour) for colour in lightened("cividis")(np.linspace(0.0, 1.0, 32))],
        "slopes": _slope_bands(),
        "interval": contours.interval if contours is not None else None,
    }
    return facts, arrays


def _legs(contours: Contours, is_index: bool, origin: np.ndarray) -> np.ndarray:
    """Both ends (k, 2, 3) of each leg of the index or of the other contours."""
    level = np.repeat(contours.levels[contours.level_of], np.diff(contours.starts))
    is_leg = np.repeat(contours.is_index[contours.level_of], np.diff(contours.starts)) == is_index
    xyz = np.column_stack((contours.points, level)) - origin
    starts_leg = np.ones(len(xyz), np.bool_)
    starts_leg[contours.starts[1:] - 1] = False
    first = np.flatnonzero(starts_leg & is_leg)
    return np.stack((xyz[first], xyz[first + 1]), axis=1)


def _slope_bands() -> list[dict[str, object]]:
    shades = colormaps["YlOrBr"](np.linspace(0.0, 1.0, len(SLOPE_LIMITS) + 1))
    ends = (*SLOPE_LIMITS, 1e9)
    starts = (0.0, *SLOPE_LIMITS)
    return [
        {
            "below": end,
            "colour": to_hex(shade),
            "name": f"{slope_text(100 * a, 'percent')} – {slope_text(100 * end, 'percent')} %"
            if end < 1e9
            else "steeper",
        }
        for a, end, shade in zip(starts, ends, shades, strict=True)
    ]


def _shots(surface: Surface) -> list[str]:
    """What each vertex was, in words."""
    if surface.provenance is None:
        return [f"vertex {k}" for k in range(len(surface.vertices))]
    return [surface.provenance.describe(k) for k in range(len(surface.vertices))]


def _text_of(finding: Finding) -> dict[str, object]:
    return {
        "code": finding.code,
        "severity": finding.severity,
        "open": finding.is_open,
        "place": finding.place,
        "message": finding.message,
        "shots": list(finding.shots[:4]),
        "fix": finding.fix if finding.is_open else finding.accepted or "",
        "snippet": finding.snippet or finding.acceptance if finding.is_open else "",
    }
