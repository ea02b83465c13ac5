"""A line that a table or a command names, such as that of sections, in the coordinates of a surface."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from evrin.analysis.along.alignment import Alignment
from evrin.base.errors import DataError
from evrin.check import Finding
from evrin.formats.door.claims import Claim
from evrin.formats.door.intake import take_in_lines
from evrin.recipe.sources.frame_findings import off_surface
from evrin.surface.surface import Surface
from evrin.survey.contents import FIRST_CHAINAGE, OWN_LENGTH, STATION_EQUATIONS, Line


def alignment_of(
    path: Path, claim: Claim, ground: Surface, start: float | None = None
) -> tuple[Alignment, list[Finding]]:
    """Return the one line that a file holds, and what contradicts the surface about it.

    Parameters
    ----------
    path : Path
        The file.
    claim : Claim
        What is known of it.
    ground : Surface
        In whose coordinates the line is.
    start : float
        Chainage of its beginning; what the file states if not given, or 0.

    Raises
    ------
    DataError
        For another number of lines than one, or an alignment whose chainage jumps (station equations).
    """
    taken = take_in_lines(path, ground.frame, claim)
    lines = taken.contents.lines
    if len(lines) != 1:
        names = ", ".join(line.name for line in lines) or "none"
        raise DataError(f"{path}: {len(lines)} lines in it ({names}); a file with one line is needed")
    xyz = lines[0].xyz
    places = [*xyz.tolist(), xyz[0].tolist()] if lines[0].closed else xyz
    return Alignment.along(places, _first_chainage(path, lines[0]) if start is None else start), [
        *taken.findings,
        *off_surface(path.name, xyz, ground),
    ]


def _first_chainage(path: Path, line: Line) -> float:
    """The chainage at which a line begins, in the unit of the site."""
    if STATION_EQUATIONS in line.facts:
        raise DataError(
            f"{path}: the chainage of {line.name} jumps, at {line.facts[STATION_EQUATIONS]} station equations, which "
            "are not read. Give a line without them, or --start where there is one, to count on without jumps"
        )
    own = float(line.facts.get(OWN_LENGTH, 0.0))
    if not own > 0.0:
        return 0.0
    places = np.vstack((line.xyz, line.xyz[:1])) if line.closed else line.xyz
    return float(line.facts[FIRST_CHAINAGE]) * float(np.hypot(*np.diff(places[:, :2], axis=0).T).sum()) / own
