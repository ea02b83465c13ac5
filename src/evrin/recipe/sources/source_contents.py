"""What one source of a recipe gives."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from evrin.base.errors import DataError
from evrin.check import Finding
from evrin.kernels import Flags
from evrin.surface.provenance import Shots
from evrin.surface.surface import Surface
from evrin.survey.contents import Contents, Line, Points, Refusal
from evrin.survey.selection import Selection


@dataclass
class SourceContents:
    """What one source gives, and what became of the rest of it.

    ``merged`` counts ends of edges that share a vertex; ``thinned`` points that others of the cloud represent;
    ``is_stated`` is whether its file or its table states a unit or a reference system.
    """

    name: str
    points: Points = field(default_factory=Points.none)
    lines: list[Line] = field(default_factory=list)
    surface: Surface | None = None
    left_out: int = 0
    thinned: int = 0
    merged: int = 0
    refused: list[Refusal] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    findings: list[Finding] = field(default_factory=list)
    is_stated: bool = False


def is_meant(things: Points | list[Line], keep: Selection | None, leave_out: Selection | None) -> Flags:
    """Return which items a source's table means."""
    meant = np.ones(len(things), np.bool_)
    if keep is not None:
        meant &= keep.all_met(things)
    if leave_out is not None:
        meant &= ~leave_out.any_met(things)
    return meant


def check_holds(things: object, contents: Contents, what: str) -> None:
    """Refuse a file that holds nothing of the kind that is wanted."""
    if not len(things):  # type: ignore[arg-type]
        raise DataError(f"{contents.file}: no {what} in it ({contents.form})")


def shots_of(contents: Contents, surface: Surface) -> Shots:
    """Return the shots behind a surface's vertices, by vertex number where the file states none."""
    if surface.provenance is not None:
        return surface.provenance.shots.take(surface.provenance.shot_of.astype(np.int64))
    return Shots.of_file(contents.file, np.arange(1, len(surface.vertices) + 1), word="vertex")
