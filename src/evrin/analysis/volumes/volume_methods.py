"""Other methods beside the exact volume: end areas, prismoidal, and grid cells, each with its difference."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import ArrayLike

from evrin.analysis.along.alignment import Alignment
from evrin.analysis.along.sections import Section, cross_sections
from evrin.base.errors import DataError
from evrin.kernels import Floats
from evrin.surface.surface import Surface

if TYPE_CHECKING:
    import pandas as pd

_MOST_NODES = 25_000_000


@dataclass(frozen=True, eq=False)
class EndAreas:
    """Sections through a difference, and the volumes that follow from their areas.

    Attributes
    ----------
    chainage : (n,) float64
        Where the sections are.
    cut, fill : (n,) float64
        Area of each section.
    middle_cut, middle_fill : (n - 1,) float64
        Area half-way between each two.
    line : Alignment
        The line that they cross.
    reach : (float, float)
        How far sections go to the left and to the right.
    angle_deg : float
        Between line and sections.

    Examples
    --------
    >>> import evrin
    >>> from evrin.analysis import end_areas
    >>> wedge = evrin.triangulate([[0, 0, 0], [10, 0, 2], [10, 4, 2], [0, 4, 0]])
    >>> found = end_areas(wedge.less(0.0), 3.0, bearing_deg=90.0)
    >>> found.chainage.tolist(), round(found.volume()[1], 6), round(found.prismoidal()[1], 6)
    ([0.0, 3.0, 6.0, 9.0, 10.0], 40.0, 40.0)
    """

    chainage: Floats
    cut: Floats
    fill: Floats
    middle_cut: Floats
    middle_fill: Floats
    line: Alignment
    reach: tuple[float, float]
    angle_deg: float = 90.0

    @property
    def table(self) -> pd.DataFrame:
        """A row for each section: ``chainage``, ``cut_area``, ``fill_area``, and volumes since the section before."""
        import pandas as pd

        run = np.diff(self.chainage)
        parts = [np.append(0.0, run * (area[1:] + area[:-1]) / 2.0) for area in (self.cut, self.fill)]
        return pd.DataFrame(
            {
                "chainage": self.chainage,
                "cut_area": self.cut,
                "fill_area": self.fill,
                "cut": parts[0],
                "fill": parts[1],
                "cut_so_far": np.cumsum(parts[0]),
                "fill_so_far": np.cumsum(parts[1]),
            }
        )

    def volume(self) -> tuple[float, float]:
        """Return cut and fill by the mean of the areas at both ends of each stretch.

        Returns
        -------
        cut, fill : float
        """
        run = np.diff(self.chainage)
        return tuple(float((run * (area[1:] + area[:-1])).sum() / 2.0) for area in (self.cut, self.fill))  # type: ignore[return-value]

    def prismoidal(self) -> tuple[float, float]:
        """Return cut and fill by both ends and four times the middle of each stretch, which is exact for prismoids.

        Returns
        -------
        cut, fill : float
        """
        run = np.diff(self.chainage) / 6.0
        pairs = ((self.cut, self.middle_cut), (self.fill, self.middle_fill))
        return tuple(float((run * (ends[1:] + ends[:-1] + 4.0 * middle)).sum()) for ends, middle in pairs)  # type: ignore[return-value]

    def sections_of(self, surfaces: dict[str, Surface]) -> list[Section]:
        """Return the same sections through surfaces, to be drawn.

        Parameters
        ----------
        surfaces : dict of str to Surface
            The surfaces by the names that sections show.

        Returns
        -------
        list of Section
        """
        left, right = self.reach
        return cross_sections(
            surfaces, self.line, left=left, right=right, angle_deg=self.angle_deg, stations=self.chainage
        )


def end_areas(
    difference: Surface,
    spacing: float,
    along: Alignment | ArrayLike | None = None,
    *,
    bearing_deg: float | None = None,
    left: float | None = None,
    right: float | None = None,
    angle_deg: float = 90.0,
) -> EndAreas:
    """Return sections through a difference, along a line or across all of it.

    Parameters
    ----------
    difference : Surface
        See `difference_surface`.
    spacing : float
        Between sections, which are at its multiples in chainage and at both ends; it need not divide the length.
    along : Alignment or (k, 2) array_like, optional
        The line that sections are square to, or at *angle_deg*.
    bearing_deg : float, optional
        Instead of a line: the direction in which parallel sections follow one another, from one end of the difference
        to the other.
    left, right : float, optional
        How far sections reach; to the farthest point of the difference if not given.
    angle_deg : float
        Between line and sections.

    Returns
    -------
    EndAreas

    Raises
    ------
    DataError
        For neither or both of a line and a bearing, a spacing that is not above 0, or more than 5,000 sections.

    Examples
    --------
    >>> import evrin
    >>> from evrin.analysis import end_areas
    >>> slab = evrin.triangulate([[0, 0, 2], [10, 0, 2], [10, 4, 2], [0, 4, 2]])
    >>> end_areas(slab.less(0.0), 4.0, [(0, 2), (10, 2)]).fill.round(6).tolist()
    [8.0, 8.0, 8.0, 8.0]
    """
    if (along is None) == (bearing_deg is None):
        raise DataError("end areas need a line or a bearing, one of the two")
    line = _line_across(difference, float(bearing_deg)) if bearing_deg is not None else (
        along if isinstance(along, Alignment) else Alignment.along(np.asarray(along)))  # fmt: skip
    far = _farthest(difference, line)
    if left is None and right is None and bearing_deg is None and len(line.points) > 2:
        raise DataError("along a line with bends, how far sections reach must be given: left and right")
    reach = (far if left is None else float(left), far if right is None else float(right))
    stations = line.stations(spacing)
    if len(stations) > 5_000:
        raise DataError(f"a spacing of {spacing:g} gives more than 5,000 sections; choose a wider one")
    middle = (stations[1:] + stations[:-1]) / 2.0
    # A section right along the edge of the difference would find half of it; it is cut just within.
    inset = 1e-8 * line.length + 4.0 * float(np.spacing(np.abs(difference.vertices[:, :2]).max()))
    areas = []
    for at in (np.clip(stations, stations[0] + inset, stations[-1] - inset), middle):
        cut_by = cross_sections(
            {"difference": difference}, line, left=reach[0], right=reach[1], angle_deg=angle_deg, stations=at
        )
        areas.append(np.array([_areas(section) for section in cut_by]).reshape(-1, 2))
    (cut, fill), (middle_cut, middle_fill) = areas[0].T, areas[1].T
    return EndAreas(
        chainage=stations,
        cut=cut,
        fill=fill,
        middle_cut=middle_cut,
        middle_fill=middle_fill,
        line=line,
        reach=reach,
        angle_deg=angle_deg,
    )


def _areas(section: Section) -> tuple[float, float]:
    """Area below and above nothing; where the difference has a step, each side counts up to it."""
    along = section.profiles["difference"]
    run, start, end = np.diff(along.chainage), along.heights[:-1], along.heights[1:]
    out = []
    for sign in (-1.0, 1.0):
        one, two = np.maximum(sign * start, 0.0), np.maximum(sign * end, 0.0)
        # Where it changes its sign within a stretch, only its share of that counts.
        whole = np.abs(start) + np.abs(end)
        crosses = start * end < 0.0
        share = np.where(crosses, (one + two) / np.where(whole > 0.0, whole, 1.0), 1.0)
        out.append(float(np.nansum(run * share * (one + two) / 2.0)))
    return out[0], out[1]


def _line_across(difference: Surface, bearing: float) -> Alignment:
    if not np.isfinite(bearing):
        raise DataError(f"a bearing must be finite; it is {bearing:g}")
    turn = np.radians(bearing)
    ahead, aside = np.array([np.sin(turn), np.cos(turn)]), np.array([np.cos(turn), -np.sin(turn)])
    middle = (difference.vertices[:, :2].min(axis=0) + difference.vertices[:, :2].max(axis=0)) / 2.0
    offsets = difference.vertices[:, :2] - middle
    low, high = float((offsets @ ahead).min()), float((offsets @ ahead).max())
    across = float((offsets @ aside).min() + (offsets @ aside).max()) / 2.0
    return Alignment.along([middle + across * aside + at * ahead for at in (low, high)])


def _farthest(difference: Surface, line: Alignment) -> float:
    _, offset = line.locate(difference.vertices[:, :2])
    return 1.01 * float(np.abs(offset).max())


def grid_volumes(difference: Surface, cell: float) -> dict[str, tuple[float, float]]:
    """Return cut and fill by square cells: by the mean of the four corners of each, and by its middle.

    Parameters
    ----------
    difference : Surface
        See `difference_surface`.
    cell : float
        Side of a cell. Of cells that lie partly beyond the difference each corner within counts a quarter.

    Returns
    -------
    dict of str to (float, float)
        ``corners`` and ``middles``.

    Raises
    ------
    DataError
        For a cell that is not above 0, or gives more than 25 million.

    Examples
    --------
    >>> import evrin
    >>> from evrin.analysis import grid_volumes
    >>> slab = evrin.triangulate([[0, 0, 2], [10, 0, 2], [10, 4, 2], [0, 4, 2]])
    >>> grid_volumes(slab.less(0.0), 0.5)["middles"]
    (0.0, 80.0)
    """
    west, south, east, north = difference.extent
    if not 0.0 < cell <= 1e9 or ((east - west) / cell + 2.0) * ((north - south) / cell + 2.0) > _MOST_NODES:
        raise DataError(f"a cell must be above 0 and give no more than {_MOST_NODES:,} of them; it is {cell:g}")
    columns, rows = int((east - west) / cell) + 1, int((north - south) / cell) + 1
    by_name = {}
    for name, shift in (("corners", 0.0), ("middles", cell / 2.0)):
        heights = difference.heights_on_grid(west + shift, south + shift, cell, rows + 1, columns + 1)
        weight = np.where(np.isfinite(heights), cell * cell, 0.0)
        if name == "corners":
            weight = weight * _share_within(heights)
        depths = np.nan_to_num(heights)
        by_name[name] = (
            float((weight * np.maximum(-depths, 0.0)).sum()),
            float((weight * np.maximum(depths, 0.0)).sum()),
        )
    return by_name


def _share_within(heights: Floats) -> Floats:
    """Of the four cells around each node, how many have a corner besides it that is known, as a share."""
    has_height = np.pad(np.isfinite(heights), 1)
    share = np.zeros(heights.shape)
    rows, columns = heights.shape
    for down in (0, 1):
        for left in (0, 1):
            corners = [
                has_height[down + i : down + i + rows, left + j : left + j + columns] for i in (0, 1) for j in (0, 1)
            ]
            share += sum(corner.astype(float) for corner in corners) > 2.0
    return share / 4.0


def methods_table(
    difference: Surface,
    exact: tuple[float, float],
    *,
    spacing: float | None = None,
    along: Alignment | ArrayLike | None = None,
    bearing_deg: float | None = None,
    left: float | None = None,
    right: float | None = None,
    cell: float | None = None,
) -> tuple[pd.DataFrame, EndAreas | None]:
    """Return cut and fill by every method asked for, with the difference from the exact one in percent.

    Parameters
    ----------
    difference : Surface
        See `difference_surface`.
    exact : (float, float)
        Cut and fill as `volume_above` has them.
    spacing, along, bearing_deg, left, right
        Of sections; see `end_areas`.
    cell : float, optional
        Of a grid; see `grid_volumes`.

    Returns
    -------
    table : DataFrame
        Columns ``method``, ``cut``, ``fill``, ``net``, ``cut_percent``, ``fill_percent``.
    sections : EndAreas or None

    Examples
    --------
    >>> import evrin
    >>> from evrin.analysis import methods_table
    >>> cone = evrin.triangulate([[0, 0, 0], [6, 0, 0], [6, 6, 0], [0, 6, 0], [3, 3, 4]])
    >>> table, _ = methods_table(cone.less(0.0), (0.0, 48.0), spacing=1.0, bearing_deg=0.0)
    >>> table["method"].tolist(), table["fill"].round(2).tolist()
    (['exact', 'end areas', 'prismoidal'], [48.0, 46.67, 48.0])
    """
    import pandas as pd

    rows = [("exact", *exact)]
    sections = None
    if spacing is not None:
        sections = end_areas(difference, spacing, along, bearing_deg=bearing_deg, left=left, right=right)
        rows += [("end areas", *sections.volume()), ("prismoidal", *sections.prismoidal())]
    if cell is not None:
        rows += [(f"grid, {name}", *cut_and_fill) for name, cut_and_fill in grid_volumes(difference, cell).items()]
    table = pd.DataFrame(rows, columns=["method", "cut", "fill"])
    table["net"] = table["fill"] - table["cut"]
    for name, value in zip(("cut", "fill"), exact, strict=True):
        table[f"{name}_percent"] = 100.0 * (table[name] / value - 1.0) if value > 0.0 else np.nan
    return table, sections
