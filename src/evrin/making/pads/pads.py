"""A pad put into its ground, with slopes out to where they meet it."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from evrin.kernels import Floats, Ints
from evrin.making.combining.combined_provenance import provenance_of
from evrin.making.pads.pad_earthworks import ON_GROUND, Earthwork, Ground, Pad, earthwork_of
from evrin.making.patches.arranging import NOWHERE
from evrin.making.patches.patch_joining import laid_over, meetings, with_upright_faces
from evrin.making.patches.patches import Patch, merged_triangles
from evrin.surface.chains import chained
from evrin.surface.surface import SourceLine, Surface
from evrin.tin.overlay import overlay


@dataclass(frozen=True, eq=False)
class PadToGround:
    """A pad on its ground.

    Attributes
    ----------
    pad : Pad
        What is built.
    surface : Surface
        The ground with the pad in it, of the kind ``"proposed"``.
    earthwork : Surface
        Pad and slopes alone.
    daylight : list of SourceLine
        Where slopes meet the ground.
    ends : (k, 3) float64
        Places where the ground ends before the slope meets it, or under the pad, and the length of the rim there.
    cut, fill : float
        Volumes.
    cut_area, fill_area : float
        Plan areas.

    Examples
    --------
    >>> import evrin
    >>> from evrin.making import Pad, pad_to_ground
    >>> field = evrin.triangulate([[0, 0, 0], [60, 0, 0], [60, 60, 0], [0, 60, 0]])
    >>> built = pad_to_ground(field, Pad.of([[20, 20], [40, 20], [40, 40], [20, 40]], -1.0))
    >>> round(built.cut), round(built.fill)
    (484, 0)
    """

    pad: Pad
    surface: Surface
    earthwork: Surface
    daylight: list[SourceLine]
    ends: Floats
    cut: float
    fill: float
    cut_area: float
    fill_area: float

    @property
    def net(self) -> float:
        """Fill less cut."""
        return self.fill - self.cut


def pad_to_ground(ground: Surface, pad: Pad) -> PadToGround:
    """Build a pad into the ground, with slopes of cut and fill out to where they meet it.

    Parameters
    ----------
    ground : Surface
        The ground before.
    pad : Pad
        What is built.

    Returns
    -------
    PadToGround

    Raises
    ------
    GeometryError
        Where there is no ground under the pad or beside it.

    Notes
    -----
    A slope runs at right angles to its side of the outline in plan. It ends where, on the way out from the outline, it
    first meets the ground; where it would come out of the ground again beyond, it is not continued.

    Examples
    --------
    >>> import evrin
    >>> from evrin.making import Pad, pad_to_ground
    >>> field = evrin.triangulate([[0, 0, 0], [60, 0, 0], [60, 60, 0], [0, 60, 0]])
    >>> built = pad_to_ground(field, Pad.of([[20, 20], [40, 20], [40, 40], [20, 40]], 2.0))
    >>> built.surface.height([30, 41, 43], [30, 30, 30]).round(9).tolist(), len(built.daylight)
    ([2.0, 1.5, 0.5], 1)
    """
    ready = Ground(ground, [pad])
    made = earthwork_of(ready, pad)
    return finished(ready, pad, made)


def finished(ground: Ground, pad: Pad, made: Earthwork) -> PadToGround:
    """Return an earthwork put into its ground."""
    is_near = ground.is_near(made.patch)
    near = laid_over(ground.patch.only(is_near), made.patch)
    meeting = meetings(near, 3)
    at_daylight = (meeting.surfaces[:, 1] == ON_GROUND) & (meeting.surfaces[:, 0] > ON_GROUND)
    daylight = _lines(near.vertices, meeting.newer[at_daylight], f"daylight of {pad.name}")
    outline = SourceLine(pad.name, pad.outline, True)
    whole = merged_triangles(ground.patch.only(~is_near), near)
    surface = _proposed(with_upright_faces(whole), ground, pad, [outline, *daylight])
    ground_patch = replace(made.patch, row_of=np.full(len(made.patch.vertices), NOWHERE))
    earthwork = _proposed(ground_patch, ground, pad, [outline])
    totals = made.totals
    areas = float(totals[overlay.FILL_AREA]), float(totals[overlay.CUT_AREA])
    return PadToGround(
        pad=pad,
        surface=surface,
        earthwork=earthwork,
        daylight=daylight,
        ends=_ends(near),
        cut=made.cut,
        fill=made.fill,
        cut_area=areas[0],
        fill_area=areas[1],
    )


def _lines(vertices: Floats, edges: Ints, name: str) -> list[SourceLine]:
    paths = chained(edges[:, 0].tolist(), edges[:, 1].tolist())
    out = []
    for number, path in enumerate(paths, 1):
        closed = len(path) > 3 and path[0] == path[-1]
        points = vertices[path[:-1] if closed else path]
        out.append(SourceLine(name if len(paths) == 1 else f"{name}, part {number}", points, closed))
    return out


def _proposed(patch: Patch, ground: Ground, pad: Pad, lines: list[SourceLine]) -> Surface:
    vertices, triangles, rows = patch.compacted()
    like = ground.surface
    return Surface(
        vertices,
        triangles,
        np.full(triangles.shape, NOWHERE, np.int32),
        tuple(lines),
        provenance_of(rows, [like], f"earthwork of {pad.name}"),
        name=pad.name,
        kind="proposed",
        units=like.units,
        crs=like.crs,
        facts=like.facts,
    )


def _ends(near: Patch) -> Floats:
    """Where earthwork has nothing beside it: the middle of each stretch, and its length."""
    half = np.flatnonzero((near.mates < 0) & (np.repeat(near.surface_of, 3) > ON_GROUND))
    tail, head = near.ends(half)
    out = []
    for path in chained(tail.tolist(), head.tolist()):
        points = near.vertices[path, :2]
        lengths = np.hypot(*np.diff(points, axis=0).T)
        total = float(lengths.sum())
        if total <= 1e3 * near.snap:
            continue
        at = np.concatenate(([0.0], np.cumsum(lengths)))
        x, y = (np.interp(total / 2.0, at, points[:, axis]) for axis in range(2))
        out.append((float(x), float(y), total))
    return np.array(out).reshape(-1, 3)
