"""Heights along a line of places, exact at every edge that the line crosses."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import ArrayLike, NDArray

from evrin.analysis.along.stations import multiples_between
from evrin.base.errors import DataError
from evrin.base.tolerances import HEIGHTS_AGREE
from evrin.kernels import FloatRows, Floats, Indices, IntRows, Mutable, kernel
from evrin.surface.frame import Frame, check_same_frame
from evrin.surface.surface import Surface
from evrin.surface.validity.overlaps import check_covers_once
from evrin.tin.exact.predicates import orientation

if TYPE_CHECKING:
    import pandas as pd

_ONE_HEIGHT = 1e-6
_AT_AN_END = 1e-6


@dataclass(frozen=True, eq=False)
class Profile:
    """A surface along a line.

    Attributes
    ----------
    chainage : (n,) float64
        Plan distance from the start, never falling. A step in height shows as two rows at one chainage.
    points : (n, 3) float64
        Easting, northing, height; height NaN between stretches that lie on the surface.
    bends : (k,) float64
        Chainage of each vertex of the line asked for.
    frame : Frame
        Unit and reference system.

    Examples
    --------
    >>> import evrin
    >>> field = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]], name="field")
    >>> along = field.profile([(0, 4), (8, 4)])
    >>> along.length, along.height([4.0]).tolist()
    (8.0, [1.5])
    """

    chainage: Floats
    points: Floats
    bends: Floats
    frame: Frame = field(default_factory=Frame)

    def _repr_html_(self) -> str:
        from evrin.report.snippets import profile_snippet

        return profile_snippet(self)

    @property
    def heights(self) -> Floats:
        """(n,) float64: the heights alone."""
        return self.points[:, 2]

    @property
    def length(self) -> float:
        """Plan length of the whole line."""
        return float(self.bends[-1] - self.bends[0])

    def height(self, chainage: ArrayLike) -> Floats:
        """Return the height at chainages, NaN off the surface; at a step, that beyond it; at an end, that of the end.

        Parameters
        ----------
        chainage : (n,) array_like
            Distances along the line, in plan.

        Returns
        -------
        (n,) float64
            In units of the surface.
        """
        asked = np.asarray(chainage, np.float64)
        out = np.full(asked.shape, np.nan)
        # Where the surface ends or begins there are two entries at one chainage, of which one has no height.
        for aside in (0.0, -_AT_AN_END, _AT_AN_END):
            near = np.interp(asked + aside, self.chainage, self.heights, left=np.nan, right=np.nan)
            out = np.where(np.isnan(out), near, out)
        return out

    def changes(self, least_percent: float = 0.0) -> tuple[Floats, list[str]]:
        """Return the chainages at which grade or direction changes, and what each is.

        Parameters
        ----------
        least_percent : float
            Changes of grade below this are ignored; the grade is compared with that of the stretch since the
            last change, so that slow curves are not lost.

        Returns
        -------
        chainages : (k,) float64
        kinds : list of str
            ``start``, ``end``, ``bend``, ``grade``, ``step`` (two heights at one chainage), ``off`` and ``on`` (where
            the line leaves the surface or comes upon it).
        """
        kind_at: dict[float, str] = {}
        chainage, heights = self.chainage.tolist(), self.heights.tolist()
        bends = set(self.bends[1:-1].tolist())
        begun = 0
        for i in range(1, len(chainage) - 1):
            before, here, after = heights[i - 1], heights[i], heights[i + 1]
            at = chainage[i]
            if at in bends:
                kind_at[at], begun = "bend", i
            if np.isnan(here) or (np.isnan(before) and np.isnan(after)):
                continue
            if np.isnan(before) or np.isnan(after):
                kind_at.setdefault(at, "on" if np.isnan(before) else "off")
                begun = i
            elif chainage[i + 1] == at:
                kind_at[at], begun = "step", i + 1
            elif at > chainage[begun] and at not in kind_at:
                grade = (here - heights[begun]) / (at - chainage[begun])
                ahead = (after - here) / (chainage[i + 1] - at)
                # What is left of a straight stretch after rounding is not a change.
                if abs(ahead - grade) > max(least_percent / 100.0, 1e-9):
                    kind_at[at], begun = "grade", i
        kind_at[chainage[0]], kind_at[chainage[-1]] = "start", "end"
        ordered = sorted(kind_at)
        return np.array(ordered), [kind_at[at] for at in ordered]

    def table(self, interval: float | None = None, changes: float | None = None) -> pd.DataFrame:
        """Return chainage, easting, northing, height, grade to the next row, and why there is a row.

        Parameters
        ----------
        interval : float, optional
            Rows at its multiples, at the bends and at the end.
        changes : float, optional
            Rows where the grade changes by more than this many percent, and at the bends and ends; see `changes`.
            Without either of the two there is a row at each edge crossed.

        Returns
        -------
        DataFrame
            One row each place.

        Raises
        ------
        DataError
            For an interval that is not above 0, or changes below 0.
        """
        import pandas as pd

        chainage, points = self.chainage, self.points
        kinds = np.full(len(chainage), "edge", object)
        if interval is not None or changes is not None:
            chainage, kinds = self._stations(interval, changes)
            places = [np.interp(chainage, self.chainage, self.points[:, k]) for k in range(2)]
            points = np.column_stack((*places, self.height(chainage)))
        run, rise = np.diff(chainage), np.diff(points[:, 2])
        grade = np.append(np.divide(rise, run, out=np.full(len(run), np.nan), where=run > 0.0), np.nan)
        return pd.DataFrame(
            {
                "chainage": chainage,
                "easting": points[:, 0],
                "northing": points[:, 1],
                "height": points[:, 2],
                "grade_percent": 100.0 * grade,
                "at": kinds,
            }
        )

    def _stations(self, interval: float | None, changes: float | None) -> tuple[Floats, NDArray[np.object_]]:
        kinds = dict.fromkeys(self.bends.tolist(), "bend")
        if interval is not None:
            for at in multiples_between(float(self.bends[0]), float(self.bends[-1]), interval).tolist():
                kinds.setdefault(at, "interval")
        if changes is not None:
            if not changes >= 0.0:
                raise DataError(f"a change of grade must be at least 0 %; got {changes:g}")
            kinds |= dict(zip(*(list(each) for each in self.changes(changes)), strict=True))
        kinds[float(self.bends[0])], kinds[float(self.bends[-1])] = "start", "end"
        ordered = sorted(kinds)
        return np.array(ordered), np.array([kinds[at] for at in ordered], object)

    def area(self, datum: float) -> float:
        """Return the area between the ground and a level line, ground below it counted as less than nothing.

        Parameters
        ----------
        datum : float
            Height of the level line.

        Returns
        -------
        float
            In square units of the surface.
        """
        run, middle = np.diff(self.chainage), (self.heights[1:] + self.heights[:-1]) / 2.0 - datum
        return float(np.nansum(run * middle))

    def area_between(self, other: Profile) -> tuple[float, float]:
        """Return the areas in which this profile lies above another along the same line, and in which below.

        Exact: the difference is straight between the rows of both, and stretches are divided where it changes sign.
        Stretches that only one of them covers count in neither.

        Parameters
        ----------
        other : Profile
            A profile along the same line.

        Returns
        -------
        above, below : float
            In square units of the surface.

        Raises
        ------
        DataError
            Where the other runs along another line, or is in another unit or reference system.

        Examples
        --------
        >>> import evrin
        >>> low, high = (evrin.triangulate([[0, 0, a], [10, 0, b], [10, 10, b], [0, 10, a]])
        ...              for a, b in ((0, 0), (-1, 1)))
        >>> high.profile([(0, 5), (10, 5)]).area_between(low.profile([(0, 5), (10, 5)]))
        (2.5, 2.5)
        """
        if len(self.bends) != len(other.bends) or not np.allclose(self.bends, other.bends, rtol=0.0, atol=1e-6):
            raise DataError("areas are between profiles along one line; these run along two")
        check_same_frame({"one profile": self.frame, "the other": other.frame})
        breaks = np.unique(np.concatenate((self.chainage, other.chainage)))
        start, end = breaks[:-1], breaks[1:]
        one, two = (_beside(self, start, end) - _beside(other, start, end)).T
        run = end - start
        above = np.maximum(one, 0.0) + np.maximum(two, 0.0)
        below = np.maximum(-one, 0.0) + np.maximum(-two, 0.0)
        # Where it changes sign there are two triangles, each with its share of the stretch.
        crosses = one * two < 0.0
        high, low = above[crosses], below[crosses]
        above[crosses], below[crosses] = high**2 / (high + low), low**2 / (high + low)
        return float(np.nansum(run * above) / 2.0), float(np.nansum(run * below) / 2.0)


def _beside(ground: Profile, start: Floats, end: Floats) -> Floats:
    """Heights (k, 2) just after the start and just before the end of stretches without a row of *ground* inside."""
    row = np.clip(np.searchsorted(ground.chainage, (start + end) / 2.0) - 1, 0, len(ground.chainage) - 2)
    run = ground.chainage[row + 1] - ground.chainage[row]
    rise = ground.heights[row + 1] - ground.heights[row]
    parts = [(at - ground.chainage[row]) / run for at in (start, end)]
    return np.column_stack([ground.heights[row] + part * rise for part in parts])


@kernel
def _clip_triangles(
    vertices: FloatRows,
    triangles: IntRows,
    triangles_along: Indices,
    ax: float,
    ay: float,
    bx: float,
    by: float,
    pieces: Mutable[FloatRows],
) -> int:
    """Write entry, exit, and the height at each, for every triangle a line runs through; as parts of the line."""
    dx, dy = bx - ax, by - ay
    square = dx * dx + dy * dy
    sides = np.empty(3)
    count = 0
    for row in range(triangles_along.shape[0]):
        t = triangles_along[row]
        for k in range(3):
            v = triangles[t, k]
            sides[k] = orientation(ax, ay, bx, by, vertices[v, 0], vertices[v, 1])
        entry, leave = np.inf, -np.inf
        entry_z = leave_z = 0.0
        for k in range(3):
            u, v = triangles[t, k], triangles[t, (k + 1) % 3]
            part = np.nan
            z = 0.0
            if sides[k] == 0.0:
                part = ((vertices[u, 0] - ax) * dx + (vertices[u, 1] - ay) * dy) / square
                z = vertices[u, 2]
            elif (sides[k] > 0.0) == (sides[(k + 1) % 3] < 0.0) and sides[(k + 1) % 3] != 0.0:
                u_side, v_side = sides[k], sides[(k + 1) % 3]
                if u > v:
                    u, v = v, u
                    u_side, v_side = v_side, u_side
                along = u_side / (u_side - v_side)
                x = vertices[u, 0] + along * (vertices[v, 0] - vertices[u, 0])
                y = vertices[u, 1] + along * (vertices[v, 1] - vertices[u, 1])
                z = vertices[u, 2] + along * (vertices[v, 2] - vertices[u, 2])
                part = ((x - ax) * dx + (y - ay) * dy) / square
            if part < entry:
                entry, entry_z = part, z
            if part > leave:
                leave, leave_z = part, z
        if not (entry < leave and leave > 0.0 and entry < 1.0):
            continue
        rise = (leave_z - entry_z) / (leave - entry)
        if entry < 0.0:
            entry_z -= entry * rise
            entry = 0.0
        if leave > 1.0:
            leave_z -= (leave - 1.0) * rise
            leave = 1.0
        pieces[count, 0], pieces[count, 1] = entry, leave
        pieces[count, 2], pieces[count, 3] = entry_z, leave_z
        count += 1
    return count


def _leg(surface: Surface, start: Floats, end: Floats) -> Floats:
    """Return rows of part, height along one straight leg, with NaN heights at both ends of each gap."""
    crossed = surface.locator.triangles_beside(start, end)
    pieces = np.empty((len(crossed), 4))
    count = _clip_triangles(surface.vertices, surface.triangles, crossed, start[0], start[1], end[0], end[1], pieces)
    ordered = pieces[:count][np.lexsort((pieces[:count, 1], pieces[:count, 0]))]
    rows: list[tuple[float, float]] = []
    reached = 0.0
    is_sound = False
    least = HEIGHTS_AGREE.in_units(surface.units) / float(np.hypot(*(end - start)))
    for entry, leave, entry_z, leave_z in ordered.tolist():
        # What lies beside the line along an edge is there twice, at one height.
        if min(leave, reached) - entry > least and not is_sound and not _is_at(rows, entry, leave, entry_z, leave_z):
            check_covers_once(surface)
            is_sound = True
        if leave <= reached and reached > 0.0:
            continue
        if entry < reached:
            entry, entry_z = reached, entry_z + (reached - entry) / (leave - entry) * (leave_z - entry_z)
        if entry > reached or not rows:
            if entry > reached:
                rows += [(reached, np.nan), (entry, np.nan)]
            rows.append((entry, entry_z))
        elif rows[-1][1] != entry_z:
            rows.append((entry, entry_z))
        rows.append((leave, leave_z))
        reached = leave
    if reached < 1.0:
        rows += [(reached, np.nan), (1.0, np.nan)]
    return np.array(rows)


def _is_at(rows: list[tuple[float, float]], entry: float, leave: float, entry_z: float, leave_z: float) -> bool:
    """Whether the last of the rows are at the heights of a piece where both are."""
    (before, z_before), (part, z) = rows[-2:]
    middle = (max(entry, before) + min(leave, part)) / 2.0
    here = z + (middle - part) / (before - part) * (z_before - z) if before < part else z
    own = entry_z + (middle - entry) / (leave - entry) * (leave_z - entry_z)
    return abs(here - own) <= _ONE_HEIGHT


def profile(surface: Surface, along: ArrayLike, *, start: float = 0.0) -> Profile:
    """Return the surface's heights along a line of places: `Surface.profile`."""
    line = np.array(along, dtype=np.float64)
    if line.ndim != 2 or line.shape[1] < 2 or len(line) < 2:
        raise DataError(f"a profile runs along at least 2 places of shape (k, 2); this has shape {line.shape}")
    line = line[:, :2]
    if not np.isfinite(line).all():
        raise DataError("a profile's places must be finite")
    lengths = np.hypot(*np.diff(line, axis=0).T)
    if not lengths.sum() > 0.0:
        raise DataError("the profile's line has no length")
    bends = start + np.concatenate(([0.0], np.cumsum(lengths)))
    chainages, points = [], []
    for k in np.flatnonzero(lengths > 0.0):
        rows = _leg(surface, line[k], line[k + 1])
        part = rows[:, 0]
        chainages.append(np.where(part == 1.0, bends[k + 1], bends[k] + part * lengths[k]))
        points.append(np.column_stack((line[k] + part[:, None] * (line[k + 1] - line[k]), rows[:, 1])))
    chainage, joined = np.concatenate(chainages), np.concatenate(points)
    same = np.diff(chainage) == 0.0
    same &= (joined[1:, 2] == joined[:-1, 2]) | (np.isnan(joined[1:, 2]) & np.isnan(joined[:-1, 2]))
    stays = np.append(True, ~same)
    return Profile(chainage[stays], joined[stays], bends, surface.frame)
