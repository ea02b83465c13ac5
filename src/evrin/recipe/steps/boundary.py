"""`[[boundary]]`: rings that limit the surface, and the ground extrapolated to those that ask for it."""

from __future__ import annotations

from dataclasses import dataclass, replace
from difflib import get_close_matches
from fnmatch import fnmatchcase
from typing import Literal, Self

import numpy as np
from pydantic import StrictBool, model_validator

from evrin.base.errors import DataError
from evrin.base.tolerances import BUST_LEAST
from evrin.base.wording import counted
from evrin.check import Finding, RingGap, rule
from evrin.kernels import Floats
from evrin.making.limits.cleaned_rings import cleaned_ring
from evrin.recipe.building.work import Work
from evrin.recipe.sources.frame_findings import OFF_SITE
from evrin.recipe.steps import Phase, Step, step
from evrin.recipe.tables import FileTable, InputFile, Kind, Positive, Ring, Selecting
from evrin.surface.surface import SourceLine


class Boundary(FileTable):
    """`[[boundary]]`: rings that limit the surface, table after table.

    The first `keep` leaves only its inside, each later one adds its inside; each `cut` takes its inside away.
    """

    file: InputFile = ""
    """The file, from the folder of the recipe."""
    places: Ring | None = None
    """Corners of a ring, in the site's coordinates, instead of a file."""
    line: str = ""
    """Name of a line of the sources instead of a file, such as one joined by its code; `*` matches anything."""
    effect: Literal["keep", "cut"]
    """`keep` keeps what is inside, `cut` what is outside. Rings of one table that lie in one another alternate."""
    keep: Selecting = Selecting()
    """Which lines of the file."""
    reach: StrictBool | Positive = False
    """The ground is extrapolated to the boundary where the data ends before it: `true`, or how far at most."""

    @model_validator(mode="after")
    def _states_rings(self) -> Self:
        if bool(self.file) + bool(self.line) + (self.places is not None) != 1:
            raise ValueError("give a file, the line of a source, or places, one of the three")
        if self.reach and self.effect != "keep":
            raise ValueError('reach is allowed only for effect = "keep"')
        return self

    @property
    def title(self) -> str:
        """What messages call it."""
        return self.name or self.file or self.line or "of places"


BOUNDARY = Kind("boundary", Boundary, listed=True)
BOUNDARY_CLEANED = rule(
    "boundary-cleaned",
    "boundaries with repeated vertices, spikes, or sides that meet",
    "note",
    fix="draw the ring again without them",
)


EXTRAPOLATED_FAR = rule(
    "extrapolated-far",
    "ground extrapolated to heights far beyond those measured",
    "warning",
    fix="draw the boundary nearer to the data, or survey the ground there",
)


@dataclass(frozen=True)
class _Rings:
    """The rings of one table, and how far the ground is extrapolated to them."""

    rings: list[SourceLine]
    reach: float = 0.0


def read_boundaries(work: Work) -> str:
    """Read the rings, and extend the ground to those that ask for it."""
    shaped = work.shaped
    coded = [_Rings(rings) for rings in work.gathered.rings]
    limits = [each for each in coded if each.rings[0].effect == "keep"]
    limits += [*_read(work), *(each for each in coded if each.rings[0].effect == "cut")]
    before, added = shaped.triangulation.mesh.vertex_count, 0
    for each in limits:
        rings = _cleaned(each.rings, shaped.findings)
        shaped.limits.append(rings)
        shaped.cutting.append([])
        for ring in rings:
            reached, count = shaped.triangulation.reach(ring, each.reach) if each.reach else (ring, 0)
            shaped.cutting[-1].append(reached)
            added += count
    mesh = shaped.triangulation.mesh
    places = np.column_stack((mesh.xy, mesh.z))[: mesh.vertex_count]
    shaped.findings += _about_extrapolated(places[:before], places[before:], work.frame.units)
    extended = f"; ground extrapolated to {counted(added, 'place')}" if any(each.reach for each in limits) else ""
    return f"{counted(len(shaped.rings), 'ring')} read{extended}"


def _about_extrapolated(measured: Floats, added: Floats, units: str) -> list[Finding]:
    """Report extrapolated heights that are farther from those measured than these are from each other."""
    if not len(measured) or not len(added):
        return []
    heights = measured[:, 2]
    excess = np.maximum(added[:, 2] - heights.max(), heights.min() - added[:, 2])
    worst = int(np.argmax(excess))
    if excess[worst] <= max(float(np.ptp(heights)), BUST_LEAST.in_units(units)):
        return []
    x, y, z = added[worst].tolist()
    what = f"height {z:.3f} {units}, {excess[worst]:.3f} {units} beyond any that was measured"
    return [EXTRAPOLATED_FAR.finding((x, y), what)]


def _read(work: Work) -> list[_Rings]:
    out = []
    outlines: list[Finding | None] = []
    for table in work.tables.on(BOUNDARY):
        if table.places is not None:
            rings = [(table.title, np.column_stack((table.places, np.full(len(table.places), np.nan))), True)]
        elif table.line:
            rings = _named(work, table)
        else:
            lines, findings, _ = work.lines_of(table, table.keep, "a boundary", 3)
            work.shaped.findings += findings
            if table.effect == "keep":
                outlines.append(next((each for each in findings if each.code in OFF_SITE), None))
            rings = [(line.name, line.xyz, line.closed) for line in lines]
        out.append(_Rings(_closed(work, table, rings), np.inf if table.reach is True else float(table.reach)))
    off = [finding for finding in outlines if finding is not None]
    if off and len(off) == len(outlines):
        raise DataError(f"no boundary to keep is where the data is: {off[0].message}. {off[0].fix.capitalize()}")
    return out


def _closed(work: Work, table: Boundary, rings: list[tuple[str, Floats, bool]]) -> list[SourceLine]:
    """Rings of a table; those that do not end where they began are noted."""
    out = []
    for own, xyz, is_closed in rings:
        name = own if not table.name or len(rings) > 1 else table.name
        if not is_closed:
            gap = float(np.hypot(*(xyz[0, :2] - xyz[-1, :2])))
            work.shaped.gaps.append(RingGap(name, gap, (float(xyz[-1, 0]), float(xyz[-1, 1]))))
        out.append(SourceLine(name, np.ascontiguousarray(xyz), True, table.effect))
    return out


def _named(work: Work, table: Boundary) -> list[tuple[str, Floats, bool]]:
    """The lines of the sources that a table names."""
    lines = [line for line in work.gathered.lines if fnmatchcase(line.name, table.line) and len(line.points) > 2]
    if not lines:
        names = sorted({line.name for line in work.gathered.lines})
        near = get_close_matches(table.line, names, 3) or names[:6]
        raise DataError(
            f"boundary {table.title}: no line {table.line} of three vertices or more. Lines here: "
            f"{', '.join(near) or 'none'}"
        )
    return [(line.name, line.points, line.closed) for line in lines]


def _cleaned(rings: list[SourceLine], findings: list[Finding]) -> list[SourceLine]:
    out = []
    for ring in rings:
        points, cleaning = cleaned_ring(ring.points, f"boundary {ring.name}")
        if str(cleaning):
            fix = None if cleaning.repeated or cleaning.spikes else "check which side is meant"
            what = f"boundary {ring.name}: {cleaning}"
            findings.append(BOUNDARY_CLEANED.finding(cleaning.place, what, (ring.name,), fix=fix))
        out.append(replace(ring, points=points))
    return out


def _is_asked(work: Work) -> bool:
    return bool(work.gathered.rings) or bool(work.tables.on(BOUNDARY))


STEP = step(
    Step(
        name="boundaries",
        place=170,
        phase=Phase.EXTENT,
        kind=BOUNDARY,
        act=read_boundaries,
        is_asked=_is_asked,
        group="boundaries cut",
    )
)
