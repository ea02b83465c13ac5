"""Named areas out of files: closed lines, those of one name together."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from evrin.base.errors import DataError
from evrin.check import Finding
from evrin.formats.door.claims import Claim
from evrin.formats.door.intake import take_in_lines
from evrin.kernels import Floats
from evrin.making.limits.limit_cells import Area
from evrin.surface.frame import Frame


def read_areas(files: Sequence[tuple[Path, Claim]], frame: Frame) -> tuple[list[Area], list[Finding]]:
    """Return the areas that files hold, in the site's coordinates; rings of one name are one area.

    Parameters
    ----------
    files : sequence of (Path, Claim)
        Files, each with what is stated of it.
    frame : Frame
        Of the site.

    Returns
    -------
    areas : list of Area
    findings : list of Finding
        What contradicts the site.

    Raises
    ------
    DataError
        Where a file holds no closed line, or one that is open.
    """
    rings: dict[str, list[Floats]] = {}
    findings: list[Finding] = []
    for path, claim in files:
        taken = take_in_lines(path, frame, claim)
        findings += taken.findings
        is_open = [line.name for line in taken.contents.lines if not line.closed]
        if is_open:
            raise DataError(f"{path}: {', '.join(is_open[:5])} is not closed; an area is a closed line or a polygon")
        for line in taken.contents.lines:
            rings.setdefault(line.name or path.stem, []).append(line.xyz)
    return [Area(name, own) for name, own in rings.items()], findings
