"""What lines are by their shape, whatever their layer is called: contours, and a ring around all the rest."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from evrin.kernels import Floats
from evrin.recipe.document.draft_lines import most_crossed
from evrin.survey.contents import Line
from evrin.survey.lines.end_to_end import joined_end_to_end
from evrin.survey.lines.strands import Strand
from evrin.tin.query.inside_rings import is_inside_rings

_FEWEST, _VERTICES, _CROSSED = 5, 8, 0.5
_JOINED = 0.05
_NEARLY_ALL, _MOST_PLACES = 0.97, 5000


def look_like_contours(lines: Sequence[Line]) -> bool:
    """Return whether lines without heights are long, alike and lie one beside the other, as contours do.

    A straight line can be drawn that crosses most of them, or, where they are closed, each lies in another.
    """
    pieces = [Strand.made(line.name, line.xyz, closed=line.closed) for line in lines]
    whole = joined_end_to_end(pieces, _JOINED)
    if len(whole) < _FEWEST or np.median([len(each.xyz) for each in whole]) < _VERTICES:
        return False
    lengths = np.array([float(np.hypot(*np.diff(each.around()[:, :2], axis=0).T).sum()) for each in whole])
    every = np.concatenate([each.xyz[:, :2] for each in whole])
    size = float(np.hypot(*np.ptp(every, axis=0)))
    if np.median(lengths) < 0.15 * size:
        return False
    crossed = most_crossed([each.around()[:, :2] for each in whole])
    return crossed >= max(_FEWEST - 1, _CROSSED * len(whole))


def ring_around(lines: Sequence[Line], places: Floats) -> Line | None:
    """Return the one closed line around nearly all places (n, 2) and nearly all other lines; None if there is none.

    Of several, one in the other, it is the innermost.
    """
    best, smallest = None, np.inf
    for line in lines:
        others = [each.xyz[:, :2] for each in lines if each is not line]
        every = np.concatenate([np.empty((0, 2)), places, *others])
        if not line.closed or len(every) < _FEWEST:
            continue
        sample = np.ascontiguousarray(every[:: max(len(every) // _MOST_PLACES, 1)])
        area = float(np.prod(np.ptp(line.xyz[:, :2], axis=0)))
        if is_inside_rings(sample, [np.ascontiguousarray(line.xyz[:, :2])]).mean() >= _NEARLY_ALL and area < smallest:
            best, smallest = line, area
    return best
