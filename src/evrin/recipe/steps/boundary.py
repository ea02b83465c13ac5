"""`[[boundary]]`: rings that limit the surface, and the ground extrapolated to those that ask for it."""

from __future__ import annotations

from dataclasses import replace
from typing import Literal, Self

import numpy as np
from pydantic import model_validator

from evrin.check import Finding, RingGap, rule
from evrin.errors import DataError
from evrin.recipe.sources.frame_findings import OFF_SITE
from evrin.recipe.steps import Phase, Step, step
from evrin.recipe.tables import FileTable, Kind, Selecting
from evrin.recipe.work import Work
from evrin.surface import SourceLine
from evrin.surface.rings import cleaned_ring
from evrin.tin.types import Floats
from evrin.tolerances import BUST_LEAST
from evrin.wording import counted


class Boundary(FileTable):
    """`[[boundary]]`: rings that limit the surface."""

    effect: Literal["keep", "cut"]
    """`keep` keeps what is inside, `cut` what is outside."""
    keep: Selecting = Selecting()
    """Which lines of the file."""
    reach: bool = False
    """The ground is extrapolated to the boundary where the data ends before it."""

    @model_validator(mode="after")
    def _only_outlines_reach(self) -> Self:
        if self.reach and self.effect != "keep":
            raise ValueError('reach is allowed only for effect = "keep"')
        return self


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


def read_boundaries(work: Work) -> str:
    """Read the rings, and extend the ground to those that ask for it."""
    shaped = work.shaped
    rings, reaching = _read(work)
    shaped.rings = _cleaned(rings + work.gathered.rings, shaped.findings)
    shaped.cutting = list(shaped.rings)
    before, added = shaped.mesh.mesh.vertex_count, 0
    for k, reaches in enumerate(reaching):
        if reaches:
            shaped.cutting[k], count = shaped.mesh.reach(shaped.rings[k])
            added += count
    mesh = shaped.mesh.mesh
    places = np.column_stack((mesh.xy, mesh.z))[: mesh.vertex_count]
    shaped.findings += _about_extrapolated(places[:before], places[before:], work.frame.units)
    extended = f"; ground extrapolated to {counted(added, 'place')} on the boundary" if any(reaching) else ""
    return f"{counted(len(shaped.rings), 'ring')} read{extended}"


def _about_extrapolated(measured: Floats, added: Floats, units: str) -> list[Finding]:
    """Report extrapolated heights that are farther from those measured than these are from each other."""
    if not len(measured) or not len(added):
        return []
    known = measured[:, 2]
    away = np.maximum(added[:, 2] - known.max(), known.min() - added[:, 2])
    worst = int(np.argmax(away))
    if away[worst] <= max(float(np.ptp(known)), BUST_LEAST.in_units(units)):
        return []
    x, y, z = added[worst].tolist()
    what = f"height {z:.3f} {units}, {away[worst]:.3f} {units} beyond any that was measured"
    return [EXTRAPOLATED_FAR.finding((x, y), what)]


def _read(work: Work) -> tuple[list[SourceLine], list[bool]]:
    rings, reaching = [], []
    outlines: list[Finding | None] = []
    for table in work.tables.on(BOUNDARY):
        lines, findings, _ = work.lines_of(table, table.keep, "a boundary", 3)
        work.shaped.findings += findings
        if table.effect == "keep":
            outlines.append(next((each for each in findings if each.code in OFF_SITE), None))
        for line in lines:
            name = line.name if not table.name or len(lines) > 1 else table.name
            if not line.closed:
                gap = float(np.hypot(*(line.xyz[0, :2] - line.xyz[-1, :2])))
                work.shaped.gaps.append(RingGap(name, gap, (float(line.xyz[-1, 0]), float(line.xyz[-1, 1]))))
            rings.append(SourceLine(name, np.ascontiguousarray(line.xyz), True, table.effect))
            reaching.append(table.reach)
    away = [finding for finding in outlines if finding is not None]
    if away and len(away) == len(outlines):
        raise DataError(f"no boundary to keep is where the data is: {away[0].message}. {away[0].fix.capitalize()}")
    return rings, reaching


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


STEP = step(Step("boundaries", 170, Phase.EXTENT, BOUNDARY, read_boundaries, _is_asked, "boundaries cut"))
