"""One surface out of several: each keeps its own triangles where it is used, cut exactly along the join."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from itertools import pairwise
from typing import TYPE_CHECKING

import numpy as np

from evrin.base.errors import DataError
from evrin.kernels import Floats, Ints
from evrin.making.combining.clipping import within_areas
from evrin.making.combining.combined_lines import lines_on
from evrin.making.combining.combined_provenance import provenance_of
from evrin.making.limits.limit_cells import AreasGiven, as_areas
from evrin.making.patches.gaps_between import across_gaps
from evrin.making.patches.patch_joining import (
    Meeting,
    laid_over,
    meetings,
    part_above,
    split_where_steps_turn,
    with_upright_faces,
)
from evrin.making.patches.patches import Patch, patch_of, snap_of, without_rim_slivers
from evrin.surface.chains import chained
from evrin.surface.frame import check_same_frame
from evrin.surface.surface import SourceLine, Surface

if TYPE_CHECKING:
    import pandas as pd

RULES = ("newer", "higher", "lower")
_JOINED = "on the join of surfaces"


@dataclass(frozen=True, eq=False)
class Join:
    """A line along which two surfaces meet.

    Attributes
    ----------
    name : str
        What the join is called.
    points : (k, 3) float64
        With the heights of the newer.
    other_heights : (k,) float64
        Of the older.
    surfaces : (str, str)
        Names of the older and the newer.
    closed : bool
        Whether it ends where it began.

    Examples
    --------
    >>> import evrin
    >>> from evrin.making import combine
    >>> old = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 1], [0, 8, 1]], name="old")
    >>> new = evrin.triangulate([[4, -1, 2], [9, -1, 2], [9, 9, 2], [4, 9, 2]], name="new")
    >>> join = combine([old, new]).joins[0]
    >>> join.length, join.largest, join.mean
    (8.0, 1.0, 1.0)
    """

    name: str
    points: Floats
    other_heights: Floats
    surfaces: tuple[str, str]
    closed: bool = False

    @property
    def steps(self) -> Floats:
        """(k,) float64: how far the newer lies above the older."""
        return self.points[:, 2] - self.other_heights

    @cached_property
    def chainages(self) -> Floats:
        """(k,) float64: along the join in plan."""
        lengths = np.hypot(*np.diff(self.points[:, :2], axis=0).T)
        return np.concatenate(([0.0], np.cumsum(lengths)))

    @property
    def length(self) -> float:
        """In plan."""
        return float(self.chainages[-1])

    @property
    def largest(self) -> float:
        """The largest step, up or down."""
        return float(np.abs(self.steps).max())

    @property
    def mean(self) -> float:
        """The mean step, up and down alike, by length."""
        return float(_absolute_integral(self.steps, np.diff(self.chainages)) / self.length)

    @property
    def table(self) -> pd.DataFrame:
        """A row for each vertex: chainage, place, height of older and newer, and the step."""
        import pandas as pd

        x, y, z = self.points.T
        columns = {"join": self.name, "chainage": self.chainages, "easting": x, "northing": y}
        return pd.DataFrame(columns | {"older": self.other_heights, "newer": z, "step": self.steps})


def _absolute_integral(values: Floats, lengths: Floats) -> float:
    """Integral of what runs straight between values, its sign left out."""
    a, b = values[:-1], values[1:]
    same = a * b >= 0.0
    size = np.abs(a) + np.abs(b)
    turned = (a * a + b * b) / np.where(size > 0.0, size, 1.0)
    return float((np.where(same, size, turned) / 2.0 * lengths).sum())


@dataclass(frozen=True, eq=False)
class Combined:
    """What several surfaces became.

    Attributes
    ----------
    surface : Surface
        The one surface.
    joins : list of Join
        Where the surfaces meet.
    parts : DataFrame
        A row for each surface: its triangles and plan area before, and what of it is used.
    pieces : (m,) int32
        For each triangle the row of *parts* that it is of; one more than there are across gaps.
    gaps_filled : float
        Plan area triangulated across gaps.

    Examples
    --------
    >>> import evrin
    >>> from evrin.making import combine
    >>> old = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 1], [0, 8, 1]], name="old")
    >>> new = evrin.triangulate([[4, -1, 2], [9, -1, 2], [9, 9, 2], [4, 9, 2]], name="new")
    >>> combine([old, new]).parts["area_used"].tolist()
    [32.0, 50.0]
    """

    surface: Surface
    joins: list[Join]
    parts: pd.DataFrame
    pieces: Ints
    gaps_filled: float = 0.0

    @property
    def lines(self) -> list[SourceLine]:
        """The joins as lines."""
        return [SourceLine(join.name, _open(join), join.closed) for join in self.joins]

    @cached_property
    def table(self) -> pd.DataFrame:
        """A row for each join: length, largest and mean step."""
        import pandas as pd

        names = ("join", "older", "newer", "length", "largest_step", "mean_step")
        rows = [(join.name, *join.surfaces, join.length, join.largest, join.mean) for join in self.joins]
        return pd.DataFrame(rows, columns=names)

    @cached_property
    def steps(self) -> pd.DataFrame:
        """All joins vertex by vertex; see `Join.table`."""
        import pandas as pd

        tables = [join.table for join in self.joins]
        return pd.concat(tables, ignore_index=True) if tables else pd.DataFrame()


def _open(join: Join) -> Floats:
    return join.points[:-1] if join.closed else join.points


def combine(
    surfaces: Sequence[Surface],
    rule: str = "newer",
    within: AreasGiven = (),
    *,
    band: float = 0.0,
    across: float = 0.0,
    name: str = "",
) -> Combined:
    """Return one surface out of several.

    Parameters
    ----------
    surfaces : sequence of Surface
        In order of rank: each later one is newer.
    rule : str
        What is used where several are: the ``"newer"``, the ``"higher"`` or the ``"lower"``.
    within : mapping of str to rings, sequence of Area, or one ring
        The newer ones count only in these areas.
    band : float
        Ground of the older nearer to the join than this is raised or lowered by the step there, in proportion to its
        distance, so that there is no step; for 0 both heights are held and an upright face closes the step. With the
        rule ``"newer"``.
    across : float
        Gaps between pieces are triangulated with edges up to this length; for 0 they stay open.
    name : str
        Of the result; if not given, that of the first surface with that of the other.

    Returns
    -------
    Combined
        Heights are those of the surface that is used, bit for bit at its vertices. Of two that are equal over an area
        one is used, whichever comes first.

    Raises
    ------
    DataError
        For fewer than two surfaces, unlike units or systems, or numbers out of bounds.
    GeometryError
        Where areas leave nothing of a surface.

    Examples
    --------
    >>> import evrin
    >>> from evrin.making import combine
    >>> old = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 1], [0, 8, 1]], name="old")
    >>> new = evrin.triangulate([[4, -1, 2], [9, -1, 2], [9, 9, 2], [4, 9, 2]], name="new")
    >>> both = combine([old, new]).surface
    >>> both.height([2, 6], [4, 4]).tolist(), both.plan_area
    ([1.0, 2.0], 82.0)
    """
    given = list(surfaces)
    _check(given, rule, band, across)
    areas = as_areas(within)
    kept = [given[0], *(within_areas(surface, areas) for surface in given[1:])]
    patches = _patches(kept)
    if rule != "newer":
        patches = [patches[k] for k in sorted(range(len(kept)), key=lambda k: kept[k].sorting_key)]
    whole = patches[0]
    for patch in patches[1:]:
        over = patch if rule == "newer" else part_above(patch, whole, 1.0 if rule == "higher" else -1.0)
        whole = laid_over(whole, over, band)
    filled = 0.0
    if across > 0.0:
        whole, filled = across_gaps(whole, across, len(kept))
    whole = split_where_steps_turn(whole)
    meeting = meetings(whole, len(kept))
    joins = _joins(whole, meeting, kept)
    parts = _parts(whole, kept)
    closed = with_upright_faces(whole)
    surface = _surface_of(closed, kept, joins, meeting)
    return Combined(surface.renamed(name=name or _name_of(given)), joins, parts, closed.surface_of, filled)


def _name_of(given: Sequence[Surface]) -> str:
    """A name that says that it is several."""
    others = list(dict.fromkeys(each.name for each in given[1:] if each.name != given[0].name))
    if not others:
        return f"{given[0].name}, combined"
    return f"{given[0].name} with {others[0] if len(others) == 1 else f'{others[0]} and {len(others) - 1} more'}"


def _check(surfaces: list[Surface], rule: str, band: float, across: float) -> None:
    if len(surfaces) < 2:
        raise DataError(f"combining takes two surfaces or more; {len(surfaces)} given")
    if rule not in RULES:
        raise DataError(f"rule must be one of {', '.join(RULES)}; it is {rule!r}")
    for what, value in (("band", band), ("across", across)):
        if not 0.0 <= value <= 1e6:
            raise DataError(f"{what} must lie between 0 and 1e6; it is {value:g}")
    if band > 0.0 and rule != "newer":
        raise DataError(f"a band goes with the rule newer; with {rule} both surfaces keep their heights")
    names = [f"{k}: {surface.name}" for k, surface in enumerate(surfaces, 1)]
    check_same_frame([(name, surface.frame) for name, surface in zip(names, surfaces, strict=True)])


def _patches(surfaces: Sequence[Surface]) -> list[Patch]:
    snap = snap_of(*(surface.vertices for surface in surfaces))
    rows = np.cumsum([0, *(len(surface.vertices) for surface in surfaces)]).tolist()
    lines = np.cumsum([0, *(len(surface.lines) for surface in surfaces)]).tolist()
    given = (patch_of(surface, snap, k, rows[k], lines[k]) for k, surface in enumerate(surfaces))
    return [without_rim_slivers(patch) for patch in given]


def _surface_of(patch: Patch, surfaces: Sequence[Surface], joins: Sequence[Join], meeting: Meeting) -> Surface:
    lines, edge_lines = lines_on(patch, patch.vertices, surfaces, _one_a_pair(joins, meeting, surfaces), meeting)
    vertices, triangles, rows = patch.compacted()
    first = surfaces[0]
    return Surface(
        vertices,
        triangles,
        edge_lines,
        lines,
        provenance_of(rows, surfaces, _JOINED),
        description="combined from " + ", ".join(surface.name for surface in surfaces),
        kind=first.kind,
        units=first.units,
        crs=first.crs,
        colour=first.colour,
        facts=first.facts,
    )


def _one_a_pair(joins: Sequence[Join], meeting: Meeting, surfaces: Sequence[Surface]) -> list[SourceLine]:
    """For each pair of surfaces that meet, the longest of their joins, in place of all."""
    out = []
    for newer, older in np.unique(meeting.surfaces, axis=0).tolist():
        names = (surfaces[older].name, surfaces[newer].name)
        longest = max((join for join in joins if join.surfaces == names), key=lambda join: join.length)
        out.append(SourceLine(longest.name, _open(longest), longest.closed))
    return out


def _joins(patch: Patch, meeting: Meeting, surfaces: Sequence[Surface]) -> list[Join]:
    z = patch.vertices[:, 2]
    out = []
    for newer, older in np.unique(meeting.surfaces, axis=0).tolist():
        of_pair = (meeting.surfaces == (newer, older)).all(axis=1)
        edges, others = meeting.newer[of_pair], meeting.older[of_pair]
        beside = {(int(a), int(b)): (float(z[c]), float(z[d])) for (a, b), (c, d) in zip(edges, others, strict=True)}
        names = (surfaces[older].name, surfaces[newer].name)
        for path in chained(edges[:, 0].tolist(), edges[:, 1].tolist()):
            heights = [beside[pair][0] for pair in pairwise(path)] + [beside[path[-2], path[-1]][1]]
            out.append((names, patch.vertices[path], np.array(heights), path[0] == path[-1] and len(path) > 3))
    out.sort(key=lambda each: (each[0], -len(each[1]), each[1][0].tolist()))
    return [
        Join(f"join {k}, {names[0]} and {names[1]}" if len(out) > 1 else f"join of {names[0]} and {names[1]}",
             points, heights, names, closed)
        for k, (names, points, heights, closed) in enumerate(out, 1)
    ]  # fmt: skip


def _parts(patch: Patch, surfaces: Sequence[Surface]) -> pd.DataFrame:
    import pandas as pd

    area = patch.areas
    used = np.bincount(patch.surface_of, np.maximum(area, 0.0), minlength=len(surfaces) + 1)
    counts = np.bincount(patch.surface_of[area > 0.0], minlength=len(surfaces) + 1)
    rows = []
    for k, surface in enumerate(surfaces):
        rows.append((surface.name, len(surface.triangles), surface.plan_area, int(counts[k]), float(used[k])))
    names = ["surface", "triangles", "area", "triangles_used", "area_used"]
    return pd.DataFrame(rows, columns=names)
