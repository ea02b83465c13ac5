"""What one source of a recipe gives, and how its coordinates become those of the site."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import NamedTuple

import numpy as np

from evrin.check import Finding
from evrin.errors import DataError
from evrin.formats.reference import carried
from evrin.surface import Shots, Surface
from evrin.survey import Selection
from evrin.survey.things import Contents, Line, Points, Refusal
from evrin.tin.types import Flags, Floats


@dataclass
class Opened:
    """What one source gives, and what became of the rest of it.

    ``merged`` counts ends of edges that share a vertex; ``thinned`` points that others of the cloud stand for.
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


class Setting(NamedTuple):
    """How the coordinates of a source become those of the site: carried or multiplied in plan, multiplied in height."""

    exchanged: bool
    factor: float
    start: str
    end: str
    rise: float
    stretch: float

    def places(self, xyz: Floats) -> Floats:
        """Return places (n, 3) set right; the array itself where nothing is to be done."""
        if self.exchanged:
            xyz = xyz[:, [1, 0, 2]]
        plan_factor = self.factor
        if self.start:
            xyz, plan_factor = carried(xyz, self.start, self.end), 1.0
        if self.factor != 1.0:
            xyz = xyz * (plan_factor, plan_factor, self.factor)
        return self.heights(xyz)

    def heights(self, xyz: Floats) -> Floats:
        """Return places with their heights stretched and raised."""
        if self.stretch == 1.0 and self.rise == 0.0:
            return xyz
        return np.column_stack((xyz[:, :2], xyz[:, 2] * self.stretch + self.rise))


def is_meant(things: Points | list[Line], keep: Selection | None, leave_out: Selection | None) -> Flags:
    """Tell which things a source's table means."""
    meant = np.ones(len(things), np.bool_)
    if keep is not None:
        meant &= keep.all_met(things)
    if leave_out is not None:
        meant &= ~leave_out.any_met(things)
    return meant


def check_holds(things: object, contents: Contents, what: str) -> None:
    """Refuse a file that holds nothing of the kind that is wanted."""
    if not len(things):  # type: ignore[arg-type]
        raise DataError(f"{contents.file}: there is no {what} in it ({contents.form})")


def set_right(heights: Floats, setting: Setting) -> Floats:
    """Return heights in the site's units, stretched and raised."""
    return heights * setting.factor * setting.stretch + setting.rise


def shots_of(contents: Contents, surface: Surface) -> Shots:
    """Return where a surface's vertices came from, by number where the file says no more."""
    if surface.provenance is not None:
        return surface.provenance.shots.take(surface.provenance.shot_of.astype(np.int64))
    return Shots.of_file(contents.file, np.arange(1, len(surface.vertices) + 1), word="vertex")
