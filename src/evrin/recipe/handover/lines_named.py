"""A line that a table or a command names, such as that of sections, in the coordinates of a surface."""

from __future__ import annotations

from pathlib import Path

from evrin.analysis.along.alignment import Alignment
from evrin.base.errors import DataError
from evrin.check import Finding
from evrin.formats.door.claims import Claim
from evrin.formats.door.intake import take_in_lines
from evrin.recipe.sources.frame_findings import off_surface
from evrin.surface.surface import Surface


def alignment_of(path: Path, claim: Claim, ground: Surface, start: float = 0.0) -> tuple[Alignment, list[Finding]]:
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
        Chainage of its beginning.

    Raises
    ------
    DataError
        For another number of lines than one.
    """
    taken = take_in_lines(path, ground.frame, claim)
    lines = taken.contents.lines
    if len(lines) != 1:
        names = ", ".join(line.name for line in lines) or "none"
        raise DataError(f"{path}: {len(lines)} lines in it ({names}); a file with one line is needed")
    xyz = lines[0].xyz
    places = [*xyz.tolist(), xyz[0].tolist()] if lines[0].closed else xyz
    return Alignment.along(places, start), [*taken.findings, *off_surface(path.name, xyz, ground)]
