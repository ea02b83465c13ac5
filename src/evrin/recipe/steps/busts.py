"""`[busts]`: shots to leave out because of their heights."""

from __future__ import annotations

from typing import Literal

import numpy as np

from evrin.base.errors import GeometryError
from evrin.base.tolerances import BUST_LEAST
from evrin.base.wording import counted
from evrin.check import Finding, rule
from evrin.kernels import Floats, Indices
from evrin.making.triangulation import Triangulation
from evrin.recipe.building.fates import OPEN
from evrin.recipe.building.rows import Rows
from evrin.recipe.building.work import Work
from evrin.recipe.steps import Phase, Step, step
from evrin.recipe.tables import Kind, Positive, Table, default_length
from evrin.surface.provenance import Shots
from evrin.surface.surface import SourceLine
from evrin.survey.doubts.height_busts import find_busts
from evrin.survey.unset_heights import find_unset_heights, levels_of

_MOST = 50


class LeaveBusts(Table):
    """`[busts]`: shots to leave out because of their heights."""

    leave_out: tuple[Literal["zero", "no-data", "repeated", "spikes"], ...] = ("zero", "no-data", "repeated", "spikes")
    """`zero`: at or near zero height; `no-data`: at a value for no data, such as -9999; `repeated`: several at one
    height far from all the rest; `spikes`: far above or below the ground around them."""
    scales: Positive = 8.0
    """A spike differs by this many times the usual deviation around it."""
    least: Positive = default_length(BUST_LEAST)
    """A spike differs by at least this, too."""
    why: str = ""
    on: bool = True


BUSTS = Kind("busts", LeaveBusts)
_UNSET = {
    "zero": "at or near zero height",
    "no-data": "at a value for no data",
    "repeated": "at one height far from all the rest",
}
BUST_LEFT_OUT = rule("bust-left-out", "shots left out because of their heights", "note")


def leave_busts(work: Work) -> str:
    """Leave out shots whose height was never set, and spikes and pits."""
    rows, table = work.rows, work.tables.on(BUSTS)[0]
    left: dict[str, Indices] = {}
    open_rows = np.flatnonzero((rows.fate == OPEN) & ~rows.is_taken)
    levels = levels_of(strand.xyz for strand in rows.strands)
    unset = find_unset_heights(rows.xyz[open_rows, 2], work.frame.units, levels)
    for kind, what in _UNSET.items():
        if kind in table.leave_out:
            rows_of_kind = [open_rows[each.rows] for each in unset if each.kind == kind]
            left[what] = np.concatenate([np.empty(0, np.int64), *rows_of_kind])
            rows.leave(left[what])
    if "spikes" in table.leave_out:
        spikes = _spikes(rows, table)
        left["far above or below nearby ground"] = spikes
        rows.leave(spikes)
    rows.findings += _about_busts(rows.xyz, rows.shots, left)
    # What never occurs needs no mention, except where nothing occurs.
    some = {
        what: rows_of_kind for what, rows_of_kind in left.items() if len(rows_of_kind) or what == _UNSET["zero"]
    } or left
    return "left out: " + ", ".join(
        f"{counted(len(rows_of_kind), 'shot')} {what}" for what, rows_of_kind in some.items()
    )


def _spikes(rows: Rows, table: LeaveBusts) -> Indices:
    active = np.flatnonzero(rows.is_active())
    lines = [SourceLine(strand.name, strand.xyz, strand.closed) for strand in rows.strands if len(strand) > 1]
    try:
        work = Triangulation(rows.xyz[active], lines)
        surface, reading = work.surface()
    except GeometryError:
        return np.empty(0, np.int64)
    busts = find_busts(surface, table.scales, table.least)
    is_bust = np.zeros(work.mesh.vertex_count + 1, np.bool_)
    is_bust[reading.vertices[busts.vertices]] = True
    own = [np.empty(0, np.int64), *(strand.rows for strand in rows.strands if len(strand) > 1)]
    every = np.concatenate((active, *own))
    spike_rows = every[is_bust[work.mesh_vertex_of] & (work.mesh_vertex_of >= 0)]
    spike_rows = np.unique(spike_rows[spike_rows >= 0])
    spikes: Indices = spike_rows[~rows.is_taken[spike_rows]]
    return spikes


def _about_busts(xyz: Floats, shots: Shots, left: dict[str, Indices]) -> list[Finding]:
    """Name the shots that were left out."""
    out = []
    for what, rows in left.items():
        if len(rows) > _MOST:
            place = (float(xyz[rows[0], 0]), float(xyz[rows[0], 1]))
            message = f"{counted(len(rows), 'shot')} {what}: left out by [busts]"
            out.append(BUST_LEFT_OUT.finding(place, message, tuple(shots.describe(row) for row in rows.tolist())))
            continue
        for row in rows.tolist():
            place = (float(xyz[row, 0]), float(xyz[row, 1]))
            message = f"height {xyz[row, 2]:.3f}, {what}: left out by [busts]"
            out.append(BUST_LEFT_OUT.finding(place, message, (shots.describe(row),)))
    return out


STEP = step(Step("busts", 110, Phase.ROWS, BUSTS, leave_busts, group="busts left out"))
