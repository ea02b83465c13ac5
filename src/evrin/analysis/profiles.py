"""Heights along a line of places, exact at every edge that the line crosses."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import pandas as pd
from numpy.typing import ArrayLike, NDArray

from evrin.errors import DataError
from evrin.surface import Surface
from evrin.tin.predicates import orientation
from evrin.tin.types import Floats, Ints, kernel


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
    """

    chainage: Floats
    points: Floats
    bends: Floats

    @property
    def heights(self) -> Floats:
        """(n,) float64: the heights alone."""
        return self.points[:, 2]

    @property
    def length(self) -> float:
        """Plan length of the whole line."""
        return float(self.bends[-1])

    def height(self, chainage: ArrayLike) -> Floats:
        """Return the height at chainages, NaN off the surface."""
        asked = np.asarray(chainage, np.float64)
        return np.interp(asked, self.chainage, self.heights, left=np.nan, right=np.nan)

    def table(self, interval: float | None = None) -> pd.DataFrame:
        """Return chainage, easting, northing, height and grade to the next row.

        Parameters
        ----------
        interval : float, optional
            Rows at its multiples, at the bends and at the end; otherwise a row at each edge crossed.

        Raises
        ------
        DataError
            For an interval that is not above 0.
        """
        chainage, points = self.chainage, self.points
        if interval is not None:
            if not interval > 0.0:
                raise DataError(f"the interval must be above 0; it is {interval:g}")
            chainage = np.unique(np.concatenate((np.arange(0.0, self.length, interval), self.bends)))
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
            }
        )


@kernel
def _clip_triangles(
    vertices: Floats,
    triangles: Ints,
    found: NDArray[np.int64],
    ax: float,
    ay: float,
    bx: float,
    by: float,
    pieces: Floats,
) -> int:
    """Write entry, exit, and the height at each, for every triangle a line runs through; as parts of the line."""
    dx, dy = bx - ax, by - ay
    square = dx * dx + dy * dy
    sides = np.empty(3)
    count = 0
    for row in range(found.shape[0]):
        t = found[row]
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
    found = surface.locator.triangles_beside(start, end)
    pieces = np.empty((len(found), 4))
    count = _clip_triangles(surface.vertices, surface.triangles, found, start[0], start[1], end[0], end[1], pieces)
    ordered = pieces[:count][np.lexsort((pieces[:count, 1], pieces[:count, 0]))]
    rows: list[tuple[float, float]] = []
    reached = 0.0
    for entry, leave, entry_z, leave_z in ordered.tolist():
        if leave <= reached and reached > 0.0:
            continue
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


def profile(surface: Surface, along: Sequence[tuple[float, float]] | Floats) -> Profile:
    """Return the surface's heights along a line of places.

    Parameters
    ----------
    surface : Surface
    along : (k, 2) array_like
        Places in order; k at least 2.

    Returns
    -------
    Profile
        A row at each bend and at each edge crossed, so straight between rows.

    Raises
    ------
    DataError
        For a wrong shape, a place that is not finite, or a line without length.

    Examples
    --------
    >>> import evrin
    >>> ridge = evrin.triangulate([[0, 0, 0], [4, 0, 0], [2, 0, 1], [2, 4, 1], [0, 4, 0], [4, 4, 0]])
    >>> ridge.profile([(0, 1), (4, 1)]).height([0, 2, 3]).tolist()
    [0.0, 1.0, 0.5]
    """
    line = np.array(along, dtype=np.float64)
    if line.ndim != 2 or line.shape[1] < 2 or len(line) < 2:
        raise DataError(f"a profile runs along at least 2 places of shape (k, 2); this has shape {line.shape}")
    line = line[:, :2]
    if not np.isfinite(line).all():
        raise DataError("a profile's places must be finite")
    lengths = np.hypot(*np.diff(line, axis=0).T)
    if not lengths.sum() > 0.0:
        raise DataError("the profile's line has no length")
    bends = np.concatenate(([0.0], np.cumsum(lengths)))
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
    return Profile(chainage[stays], joined[stays], bends)
