"""Symbols that were drawn line by line, taken out of the lines of a drawing and put among its points."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from evrin.base.tolerances import FILE_METRES
from evrin.base.wording import counted
from evrin.kernels import Indices
from evrin.surface.provenance import Shots
from evrin.survey.contents import SYMBOL, TEXT, Column, Contents, Points
from evrin.survey.drawn_sizes import DrawnSizes, likely_unit
from evrin.survey.drawn_symbols import symbols_among
from evrin.survey.heights import heights_in


def with_symbols(contents: Contents) -> Contents:
    """Return what a drawing holds with a point for each symbol that was drawn line by line.

    Parameters
    ----------
    contents : Contents
        What the drawing holds.
    """
    if not contents.lines:
        return contents
    points = contents.points
    texts = points.take(points.column("kind") == TEXT)
    numbers = np.ascontiguousarray(texts.xyz[np.isfinite(heights_in(texts.column("text"))), :2])
    # A header that is wrong would make whole contours small.
    unit = likely_unit(DrawnSizes.of(contents), contents.stated.hinted_units or "m")
    symbols = symbols_among(contents.lines, numbers, 1.0 / FILE_METRES[unit])
    if not symbols.lines:
        return contents
    firsts = np.array([rows[0] for rows in symbols.lines], np.int64)
    used = set(np.concatenate(symbols.lines).tolist())
    several, strokes = counted(len(firsts), "symbol"), counted(len(used), "line")
    return replace(
        contents,
        points=Points.joined([points, _as_points(contents, symbols.places, firsts)]),
        lines=tuple(line for k, line in enumerate(contents.lines) if k not in used),
        notes=(*contents.notes, f"{several} drawn with {strokes} are points at their centres"),
    )


def _as_points(contents: Contents, places: np.ndarray, firsts: Indices) -> Points:
    drawn = [contents.lines[k] for k in firsts.tolist()]
    layers, kinds = np.empty(len(drawn), object), np.empty(len(drawn), object)
    layers[:], kinds[:] = [str(line.facts.get("layer", "")) for line in drawn], SYMBOL
    handles = [int(line.shots.line_of[0]) for line in drawn]
    columns: dict[str, Column] = {"layer": layers, "kind": kinds}
    return Points(places, Shots.of_file(contents.file, handles, "", "", "entity"), columns=columns)
