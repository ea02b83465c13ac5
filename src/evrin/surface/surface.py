"""`Surface`: what a build, a triangulation or a file gives, and all that can be asked of it.

Each method states what it takes and returns, and calls a function of a room further down the house. The modules that
are imported for their types alone are therefore further down, here and in the few other classes that have such methods.
"""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Literal

from numpy.typing import ArrayLike

from evrin.surface.frame import Frame
from evrin.surface.source_line import SourceLine as SourceLine
from evrin.surface.surface_geometry import SurfaceGeometry

if TYPE_CHECKING:
    import geopandas
    import pandas as pd
    from matplotlib.axes import Axes

    from evrin.analysis.along.alignment import Alignment
    from evrin.analysis.along.profiles import Profile
    from evrin.analysis.along.sections import Section
    from evrin.analysis.contours.contour_lines import Contours
    from evrin.analysis.quality.check_point_fit import CheckPoints
    from evrin.analysis.terrain.drainage import WaterPath
    from evrin.analysis.terrain.place_query import PlaceAnswer
    from evrin.analysis.terrain.slopes import SlopeUnit
    from evrin.analysis.volumes.cut_and_fill import Factors, Volume
    from evrin.analysis.volumes.differences import Difference
    from evrin.analysis.volumes.heaps import HeapVolume
    from evrin.analysis.volumes.level_volumes import LevelVolumes
    from evrin.draw.shading import Shades, Shading
    from evrin.formats.door.writers import Method
    from evrin.making.limits.limit_cells import AreasGiven, Stripped
    from evrin.making.pads.planes import Base
    from evrin.surface.grid import Grid
    from evrin.surface.validity.faults import Fault


@dataclass(frozen=True, eq=False, repr=False)
class Surface(SurfaceGeometry):
    """An immutable triangulated surface.

    Attributes
    ----------
    vertices : (n, 3) float64
        Easting, northing, height.
    triangles : (m, 3) int32
        Rows of *vertices*, counter-clockwise seen from above.
    edge_lines : (m, 3) int32
        For edges ab, bc, ca of each triangle, the entry of *lines* that the edge belongs to, or -1.
    lines : tuple of SourceLine
        Breaklines first, then boundaries.
    provenance : Provenance or None
        The shot that each vertex came from.
    name, description, crs : str
        What the surface is called, what is noted about it, and its reference system: ``"local"`` or a code such as
        ``"EPSG:25832"``.
    kind : {"existing", "proposed"}
        Whether it is ground as found or ground to be made.
    units : {"m", "ft", "ftUS"}
        The unit of all coordinates.
    colour : str
        ``"#rrggbb"``, or empty.
    hidden : (h, 3) int32
        Faces that a file holds and marks as hidden: not part of the surface, but written again with it.
    facts : SurveyFacts
        Who surveyed it, for whom, when, and what its heights are measured from.

    Examples
    --------
    >>> import evrin
    >>> field = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]], name="field")
    >>> field.height(4.0, 4.0).item(), field.plan_area, field.units
    (1.5, 64.0, 'm')
    """

    @classmethod
    def read(
        cls,
        path: str | os.PathLike[str],
        name: str = "",
        *,
        units: str = "",
        height_units: str = "",
        crs: str = "",
        exchanged: bool = False,
        up: str = "",
        sheet: str = "",
        frame: Frame | None = None,
    ) -> Surface:
        """Read a surface from a file, triangle for triangle; a grid counts as a surface.

        Parameters
        ----------
        path : path
            The file.
        name : str
            The surface to read if the file holds several: its name, or its layer in a drawing.
        units, height_units, crs : str
            Unit of the coordinates, unit of the heights and reference system, if the file does not state them or
            states them wrongly.
        exchanged : bool
            Whether northings come first in the file.
        up : {"", "y", "z"}
            Axis of heights in a mesh, if it is not the third.
        sheet : {"", "top", "bottom"}
            Which sheet is read of a mesh that covers places more than once.
        frame : Frame, optional
            Unit and reference system to convert the surface to; its own if not given.

        Returns
        -------
        Surface

        Raises
        ------
        DataError
            If the file is missing or broken, its format is not known, or it holds no surface, or several.
        """
        from evrin.formats.door.surface_files import read_surface

        return read_surface(
            path,
            name,
            units=units,
            height_units=height_units,
            crs=crs,
            exchanged=exchanged,
            up=up,
            sheet=sheet,
            frame=frame,
        )

    def write(
        self,
        path: str | os.PathLike[str],
        *,
        cell: float | None = None,
        method: Method = "linear",
        parts: Sequence[str] = (),
    ) -> None:
        """Write the surface in the format that the extension names.

        The file appears whole or not at all; a file that exists is replaced.

        Parameters
        ----------
        path : path
            The file to write.
        cell : float, optional
            Side of a cell; needed if the format is a grid.
        method : {"linear", "natural"}
            How a grid takes its heights: from the triangles, or by natural neighbours.
        parts : sequence of str
            What a drawing contains: any of ``faces``, ``edges``, ``points``, ``lines``; faces and lines if not given.

        Raises
        ------
        DataError
            If the extension is not known, the folder cannot be written to, or a grid has no cell size.
        MissingPackageError
            If the format needs a package that is not installed.
        """
        from evrin.formats.door.writers import write

        write(path, self, cell=cell, method=method, parts=parts)

    def height_at(self, x: float, y: float) -> PlaceAnswer:
        """Return height and slope at one place, and the shots at the corners of the triangle there.

        Parameters
        ----------
        x, y : float
            Easting and northing.

        Returns
        -------
        PlaceAnswer
            Its height is None outside the surface.

        Examples
        --------
        >>> import evrin
        >>> ramp = evrin.triangulate([[0, 0, 5], [10, 0, 6], [10, 10, 6], [0, 10, 5]])
        >>> answer = ramp.height_at(2.0, 5.0)
        >>> round(answer.height, 3), round(answer.slope_percent, 3)
        (5.2, 10.0)
        """
        from evrin.analysis.terrain.place_query import at_place

        return at_place(self, x, y)

    def contours(
        self,
        interval: float | None = None,
        *,
        levels: ArrayLike | None = None,
        index: float | None = None,
        base: float = 0.0,
        lowest: float | None = None,
        highest: float | None = None,
        smooth: float = 0.0,
    ) -> Contours:
        """Return contours, joined into lines: straight across each triangle, or smoothed.

        A contour bounds the ground at or above its level. It runs around a flat top, not across it; a flat floor at the
        level has no contour.

        Parameters
        ----------
        interval : float, optional
            Height between levels. Give either this or *levels*.
        levels : array_like, optional
            The levels themselves.
        index : float, optional
            Height between index contours; four or five intervals if not given.
        base : float
            A level that intervals are counted from.
        lowest, highest : float, optional
            Only levels from the one to the other.
        smooth : float
            Share of the room between neighbouring contours that smoothing may use, from 0 (none) to 1. Smoothed
            contours cross neither each other nor a breakline that they did not cross before.

        Returns
        -------
        Contours
            By rising level; high ground is on the right of each line.

        Raises
        ------
        DataError
            If both or neither of *interval* and *levels* are given, a number is not valid, or there would be more than
            50 million pieces of contour.

        Examples
        --------
        >>> import evrin
        >>> ramp = evrin.triangulate([[0, 0, 0], [10, 0, 0], [10, 10, 2], [0, 10, 2]])
        >>> [(line.level, line.points[0].tolist(), line.points[-1].tolist()) for line in ramp.contours(levels=[1])]
        [(1.0, [10.0, 5.0], [0.0, 5.0])]
        """
        from evrin.analysis.contours.contour_lines import contours

        return contours(
            self, interval, levels=levels, index=index, base=base, lowest=lowest, highest=highest, smooth=smooth
        )

    def profile(self, along: ArrayLike, *, start: float = 0.0) -> Profile:
        """Return the heights along a line.

        Parameters
        ----------
        along : (k, 2) array_like
            The vertices of the line in order; k is at least 2.
        start : float
            Chainage of the first vertex.

        Returns
        -------
        Profile
            One row at each bend of the line and at each edge of a triangle that it crosses, so that the ground is
            straight between rows.

        Raises
        ------
        DataError
            If the shape is wrong, a place is not finite, or the line has no length.
        GeometryError
            If the line runs over ground that the surface covers twice at unlike heights.

        Examples
        --------
        >>> import evrin
        >>> ridge = evrin.triangulate([[0, 0, 0], [4, 0, 0], [2, 0, 1], [2, 4, 1], [0, 4, 0], [4, 4, 0]])
        >>> ridge.profile([(0, 1), (4, 1)]).height([0, 2, 3]).tolist()
        [0.0, 1.0, 0.5]
        """
        from evrin.analysis.along.profiles import profile

        return profile(self, along, start=start)

    def sections(
        self,
        along: Alignment | ArrayLike,
        interval: float | None = None,
        *,
        left: float,
        right: float,
        angle_deg: float = 90.0,
        stations: ArrayLike | None = None,
        at_bends: bool = False,
    ) -> list[Section]:
        """Return cross-sections of the surface; `evrin.analysis.cross_sections` takes several surfaces.

        Parameters
        ----------
        along : Alignment, or (k, 2) array_like
            The line that sections cross.
        interval : float, optional
            Distance between sections: at its multiples in chainage, and at both ends of the line. Give either this or
            *stations*.
        left, right : float
            Length of a section on either side, seen in the direction of the line.
        angle_deg : float
            Angle between line and sections, clockwise; 90 for square sections.
        stations : array_like, optional
            The chainages themselves.
        at_bends : bool
            Whether there is a section at each bend of the line as well; it halves the angle there.

        Returns
        -------
        list of Section

        Raises
        ------
        DataError
            If a width is not above 0, the angle is not between 0 and 180, a chainage is off the line, there would be
            more than 5,000 sections, or both or neither of *interval* and *stations* are given.

        Examples
        --------
        >>> import evrin
        >>> ramp = evrin.triangulate([[0, 0, 0], [10, 0, 0], [10, 10, 2], [0, 10, 2]])
        >>> (section,) = ramp.sections([(0, 5), (10, 5)], stations=[5], left=5, right=5)
        >>> section.chainage, section.profiles["surface"].heights.tolist()
        (5.0, [2.0, 1.0, 0.0])
        """
        from evrin.analysis.along.sections import cross_sections

        return cross_sections(
            self,
            along,
            interval,
            left=left,
            right=right,
            angle_deg=angle_deg,
            stations=stations,
            at_bends=at_bends,
        )

    def points_along(
        self, line: Alignment, interval: float | None = None, changes: float | None = None, *, first: int = 1
    ) -> pd.DataFrame:
        """Return numbered points along a line, to be set out or checked on site.

        Parameters
        ----------
        line : Alignment
            The line. There is a point at each of its bends and at both ends.
        interval : float, optional
            A point at each multiple of this in chainage.
        changes : float, optional
            A point wherever the grade of the ground changes by more than this many percent; 0 for every change.
        first : int
            Number of the first point.

        Returns
        -------
        DataFrame
            ``number``, ``easting``, ``northing``, ``height`` (NaN off the surface), ``code`` (why there is a point:
            START, END, BEND, INTERVAL, GRADE, STEP, ON, OFF), ``chainage``.

        Raises
        ------
        DataError
            If neither *interval* nor *changes* is given.

        Examples
        --------
        >>> import evrin
        >>> ridge = evrin.triangulate([[0, 0, 0], [4, 0, 0], [2, 0, 1], [2, 4, 1], [0, 4, 0], [4, 4, 0]])
        >>> line = evrin.Alignment.along([(0, 1), (4, 1)])
        >>> ridge.points_along(line, changes=1.0)[["easting", "height", "code"]].values.tolist()
        [[0.0, 0.0, 'START'], [2.0, 1.0, 'GRADE'], [4.0, 0.0, 'END']]
        """
        from evrin.analysis.along.points_on_line import points_along

        return points_along(self, line, interval, changes, first=first)

    def slope_bands(self, limits: ArrayLike, unit: SlopeUnit = "ratio") -> pd.DataFrame:
        """Return the area of ground in each band of slope.

        Parameters
        ----------
        limits : (k,) array_like
            Limits of the bands in *unit*, from flatter to steeper. The first band begins at level ground, the last has
            no end; a slope on a limit counts in the steeper band.
        unit : {"ratio", "percent", "degrees", "one_in"}
            Rise over run, percent, degrees, or the run for a rise of 1.

        Returns
        -------
        DataFrame
            One row for each band: ``from`` and ``to`` (in *unit*), ``triangles``, ``plan_area``, ``slope_area``, and
            ``share_percent`` of the plan area.

        Raises
        ------
        DataError
            If the limits do not rise from above 0, or the unit is not known.

        Examples
        --------
        >>> import evrin
        >>> ramp = evrin.triangulate([[0, 0, 0], [3, 0, 0], [3, 4, 3], [0, 4, 3]])
        >>> ramp.slope_bands([0.5, 1.0])[["from", "plan_area", "slope_area"]].values.tolist()
        [[0.0, 0.0, 0.0], [0.5, 12.0, 15.0], [1.0, 0.0, 0.0]]
        >>> ramp.slope_bands([2, 1], unit="one_in")[["from", "to", "plan_area"]].values.tolist()
        [[inf, 2.0, 0.0], [2.0, 1.0, 12.0], [1.0, 0.0, 0.0]]
        """
        from evrin.analysis.terrain.slopes import slope_bands

        return slope_bands(self, limits, unit)

    def height_bands(self, limits: ArrayLike) -> pd.DataFrame:
        """Return the area of ground in each band of height; triangles are divided exactly where a limit crosses them.

        Parameters
        ----------
        limits : (k,) array_like
            Rising. The first band begins at the lowest ground, the last ends at the highest.

        Returns
        -------
        DataFrame
            One row for each band: ``from``, ``to``, ``plan_area``, ``slope_area``, ``share_percent``.

        Raises
        ------
        DataError
            If the limits do not rise.

        Examples
        --------
        >>> import evrin
        >>> ramp = evrin.triangulate([[0, 0, 0], [10, 0, 0], [10, 10, 2], [0, 10, 2]])
        >>> ramp.height_bands([0.5])[["from", "to", "plan_area"]].round(9).values.tolist()
        [[0.0, 0.5, 25.0], [0.5, 2.0, 75.0]]
        """
        from evrin.analysis.terrain.slopes import height_bands

        return height_bands(self, limits)

    def aspect_bands(self) -> pd.DataFrame:
        """Return the area of ground that falls to each eighth of the compass, and of ground that is level.

        Returns
        -------
        DataFrame
            One row for each direction (N, NE, … NW, then level): ``falls``, ``triangles``, ``plan_area``,
            ``slope_area``, ``share_percent``.

        Examples
        --------
        >>> import evrin
        >>> field = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]], name="field")
        >>> float(field.aspect_bands()["plan_area"].sum())
        64.0
        """
        from evrin.analysis.terrain.slopes import aspect_bands

        return aspect_bands(self)

    def check_points(
        self, xyz: ArrayLike, names: Sequence[str] | None = None, tolerance: float | None = None
    ) -> CheckPoints:
        """Compare the surface with points that were measured independently.

        Parameters
        ----------
        xyz : (k, 3) array_like
            The measured points. Those that are vertices of the surface are counted separately.
        names : sequence of str, optional
            Names of the points; numbers from 1 if not given.
        tolerance : float, optional
            The largest deviation, up or down, that passes.

        Returns
        -------
        CheckPoints

        Raises
        ------
        DataError
            If the shape is wrong, a number is not finite, there are no points, or the tolerance is below 0.

        Examples
        --------
        >>> import evrin
        >>> ramp = evrin.triangulate([[0, 0, 0], [10, 0, 0], [10, 10, 2], [0, 10, 2]])
        >>> checked = ramp.check_points([[5, 5, 0.98], [2, 5, 1.04], [40, 0, 0]], tolerance=0.03)
        >>> checked.table["deviation"].round(3).tolist(), checked.passed
        ([0.02, -0.04, nan], False)
        >>> round(checked.figures()["rmse"], 4)
        0.0316
        """
        from evrin.analysis.quality.check_point_fit import check_points

        return check_points(self, xyz, names, tolerance)

    def figures(self) -> dict[str, float | int]:
        """Return counts, areas, heights, slopes and lengths, in the units of the surface.

        Returns
        -------
        dict
            ``vertices``, ``triangles``, ``edges``, ``breakline_edges``, ``parts``, ``plan_area``, ``slope_area``,
            ``lowest``, ``highest``, ``mean_height`` (by plan area), ``mean_slope_percent`` and ``steepest_percent``,
            ``shortest_edge``, ``median_edge``, ``longest_edge`` (in plan), ``rim_length``.

        Examples
        --------
        >>> import evrin
        >>> ramp = evrin.triangulate([[0, 0, 0], [10, 0, 0], [10, 10, 2], [0, 10, 2]])
        >>> figures = ramp.figures()
        >>> figures["plan_area"], round(figures["mean_height"], 9), figures["rim_length"], figures["parts"]
        (100.0, 1.0, 40.0, 1)
        """
        from evrin.analysis.quality.statistics import surface_figures

        return surface_figures(self)

    def faults(self) -> list[Fault]:
        """Return where the surface is not what every surface must be; an empty list if it is sound.

        All coordinates are finite. Each triangle has three vertices, and it is strictly counter-clockwise in exact
        arithmetic or upright: two of its corners are one above the other, at a step in the ground. No edge is used
        twice in the same direction, so none has more than two triangles, except the upright edge where several steps
        meet. No two triangles overlap, however little. No two vertices are at one place, except those that upright
        faces join, and those of unlike height where pieces of ground touch only at this place.

        Returns
        -------
        list of Fault
            The first fault of each kind. If coordinates or vertex numbers are wrong, nothing else is examined.

        Notes
        -----
        How many triangles cover a place changes only across edges without a neighbour. So if two triangles overlap, one
        of them has such an edge, and only those are compared with what is around them.

        Examples
        --------
        >>> import evrin
        >>> evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]]).faults()
        []
        """
        from evrin.surface.validity.faults import faults

        return faults(self)

    def water_paths(self, places: ArrayLike) -> list[WaterPath]:
        """Return the paths of water from places: down the steepest slope of each triangle and along valley edges.

        Parameters
        ----------
        places : (k, 2) array_like
            Where the paths start.

        Returns
        -------
        list of WaterPath
            Each ends in a pit, on level ground, or where it leaves the surface.

        Raises
        ------
        DataError
            If a place is outside the surface.

        Examples
        --------
        >>> import evrin
        >>> valley = evrin.triangulate([[0, 0, 2], [4, 0, 2], [2, 0, 0], [2, 8, 1], [0, 8, 3], [4, 8, 3]],
        ...                            breaklines=[[[2, 0, 0], [2, 8, 1]]])
        >>> (path,) = valley.water_paths([(0.5, 6.0)])
        >>> path.end, path.points[-1].tolist()
        ('edge of the surface', [2.0, 0.0, 0.0])
        """
        from evrin.analysis.terrain.drainage import water_paths

        return water_paths(self, places)

    def hollows(self, least_depth: float = 0.0) -> pd.DataFrame:
        """Return the pits that hold water, the deepest first.

        Water runs off at the edge of the surface and at the edge of each hole in it.

        Parameters
        ----------
        least_depth : float
            Shallower pits are left out.

        Returns
        -------
        DataFrame
            ``vertex``, ``easting``, ``northing``, ``height`` of the floor; ``spill_height``, ``spill_easting``,
            ``spill_northing`` of the lowest way out; ``depth`` between them.

        Examples
        --------
        >>> import evrin
        >>> bowl = evrin.triangulate([[0, 0, 2], [4, 0, 2], [4, 4, 1.5], [0, 4, 2], [2, 2, 0]])
        >>> bowl.hollows()[["easting", "northing", "height", "spill_height", "depth"]].values.tolist()
        [[2.0, 2.0, 0.0, 1.5, 1.5]]
        """
        from evrin.analysis.terrain.drainage import hollows

        return hollows(self, least_depth)

    def summits(self, least_rise: float = 0.0) -> pd.DataFrame:
        """Return the summits, the most prominent first.

        A place on the rim is not a summit: the ground beyond may rise further. The highest summit of each separate part
        is measured above the lowest ground of that part.

        Parameters
        ----------
        least_rise : float
            Summits that rise less above the saddle to higher ground are left out.

        Returns
        -------
        DataFrame
            ``vertex``, ``easting``, ``northing``, ``height``; ``saddle_height``, ``saddle_easting``,
            ``saddle_northing`` of the highest way to higher ground; ``rise`` between them.

        Examples
        --------
        >>> import evrin
        >>> field = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2], [4, 4, 3]], name="field")
        >>> field.summits()["height"].tolist()
        [3.0]
        """
        from evrin.analysis.terrain.drainage import summits

        return summits(self, least_rise)

    def difference(self, other: Surface, nodes: int = 250_000) -> Difference:
        """Return how far *other* lies above this surface, as figures.

        Parameters
        ----------
        other : Surface
            The surface to compare with.
        nodes : int
            About how many nodes the grid has on which heights are compared, where both surfaces can be.

        Returns
        -------
        Difference
            Measured at grid nodes; the largest difference at the vertices of both surfaces as well.

        Raises
        ------
        DataError
            If the surfaces are in unlike units or reference systems.

        Examples
        --------
        >>> import evrin
        >>> low = evrin.triangulate([[0, 0, 1], [4, 0, 1], [4, 4, 1], [0, 4, 1]])
        >>> high = evrin.triangulate([[0, 0, 1], [4, 0, 1], [4, 4, 1], [0, 4, 1], [2, 2, 3]])
        >>> low.difference(high).largest
        (2.0, 2.0, 2.0)
        """
        from evrin.analysis.volumes.differences import difference

        return difference(self, other, nodes)

    def less(self, base: Base, within: AreasGiven = ()) -> Surface:
        """Return the height of this surface above another as a surface: exact, and split along the line of no change.

        Parameters
        ----------
        base : Surface, Plane or float
            What is subtracted; a float is a level.
        within : mapping of str to rings, sequence of Area, or one ring
            Only the ground in these areas.

        Returns
        -------
        Surface
            Its heights are differences: above 0 where this surface is the higher one.

        Raises
        ------
        DataError
            If the surfaces are in unlike units or reference systems.
        GeometryError
            If the two have no ground in common.

        Examples
        --------
        >>> import evrin
        >>> low = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 1], [0, 8, 1]])
        >>> high = evrin.triangulate([[0, 0, 0], [8, 0, 0], [8, 8, 4], [0, 8, 4]])
        >>> high.less(low).height([1, 1], [2, 4]).tolist()
        [0.0, 1.0]
        """
        from evrin.analysis.volumes.difference_surface import difference_surface

        return difference_surface(self, base, within)

    def volume_above(
        self,
        base: Base,
        within: AreasGiven = (),
        *,
        stripped: Sequence[Stripped] = (),
        factors: Factors | None = None,
        tolerance: float | None = None,
        spread: float | Mapping[str, float] | None = None,
        base_spread: float | Mapping[str, float] | None = None,
        shared_spread: float | None = None,
    ) -> Volume:
        """Return cut and fill between a base and this surface.

        Parameters
        ----------
        base : Surface, Plane or float
            What the volume is measured from; a float is a level.
        within : mapping of str to rings, sequence of Area, or one ring
            Areas to measure in; all that both surfaces cover if none is given.
        stripped : sequence of Stripped
            Depths that are taken off the base first.
        factors : Factors, optional
            Bulking, compaction and density.
        tolerance : float, optional
            Differences up to this count as no change, but their volume is included; 1 mm if not given.
        spread, base_spread : float or mapping of str to float, optional
            Standard deviation of single heights of this surface and of the base, or one for each source by its name;
            0.02 m if not given, and 0 for a plane.
        shared_spread : float, optional
            Standard deviation that all heights of one surface share, such as that of a target height; 0.01 m if not
            given.

        Returns
        -------
        Volume
            The same pair gives the same figures bit for bit; exchanged, it gives them with cut and fill exchanged.

        Raises
        ------
        DataError
            If the units or reference systems are unlike, a ring is not valid, or a number is out of range.
        NothingInCommonError
            A `GeometryError`: the two have no ground in common.
        GeometryError
            If one of them covers a place more than once.

        Notes
        -----
        The volume is the exact integral over the overlap of each pair of triangles. It is linear in the heights, so its
        standard deviation follows from the weight of each vertex. What the ground does between shots is not included.

        Examples
        --------
        >>> import evrin
        >>> heap = evrin.triangulate([[0, 0, 0], [6, 0, 0], [6, 6, 0], [0, 6, 0], [3, 3, 4]], name="heap")
        >>> volume = heap.volume_above(0.0)
        >>> round(volume.total.fill, 9), round(volume.total.fill_spread.shared, 9)
        (48.0, 0.36)
        """
        from evrin.analysis.volumes.cut_and_fill import volume_above

        return volume_above(
            self,
            base,
            within,
            stripped=stripped,
            factors=factors,
            tolerance=tolerance,
            spread=spread,
            base_spread=base_spread,
            shared_spread=shared_spread,
        )

    def heap_volume(
        self,
        heap: ArrayLike,
        *,
        reach: float | None = None,
        apart: bool = False,
        factors: Factors | None = None,
        tolerance: float | None = None,
        spread: float | None = None,
        shared_spread: float | None = None,
    ) -> HeapVolume:
        """Return the volume of a heap above the ground below it, which nobody has surveyed.

        What makes it less sure than usual is in `HeapVolume.doubts`: a wall beside it, heaps that touch, a toe that is
        not sharp.

        Parameters
        ----------
        heap : (k, 2) or (k, 3) array_like, or (2,) array_like
            The toe as a closed ring, or one place on the heap from which the toe is found (`evrin.analysis.find_toe`).
        reach : float, optional
            The toe is looked for up to this distance from the place.
        apart : bool
            Of several heaps that touch, measure only the one that the place is on.
        factors : Factors, optional
            Bulking, compaction and density.
        tolerance : float, optional
            Differences up to this are no change; what heights are uncertain by if not given.
        spread, shared_spread : float, optional
            Standard deviations of heights, as in `volume_above`.

        Returns
        -------
        HeapVolume

        Raises
        ------
        DataError
            If the ring is not valid, or the place is off the surface.
        GeometryError
            If no toe is found, the toe leaves the surface, or what lies within it is no heap.

        Examples
        --------
        >>> import numpy as np
        >>> import evrin
        >>> x, y = (axis.ravel() for axis in np.mgrid[-20:20.5:1, -20:20.5:1])
        >>> heap = evrin.triangulate(np.column_stack((x, y, np.maximum(4 - 0.5 * np.hypot(x, y), 0))))
        >>> turn = np.linspace(0, 2 * np.pi, 60, endpoint=False)
        >>> volume = heap.heap_volume(9.0 * np.column_stack((np.cos(turn), np.sin(turn))))
        >>> volume.is_found, abs(volume.volume / (np.pi * 64 * 4 / 3) - 1) < 0.02
        (False, True)

        References
        ----------
        The smooth sheet: Briggs (1974), `evrin.analysis.volumes.smooth_sheet`.
        The toe: Vosselman (2000), `evrin.analysis.volumes.slope_envelope`.
        """
        from evrin.analysis.volumes.heaps import heap_volume

        return heap_volume(
            self,
            heap,
            reach=reach,
            apart=apart,
            factors=factors,
            tolerance=tolerance,
            spread=spread,
            shared_spread=shared_spread,
        )

    def level_volumes(self, within: AreasGiven = ()) -> LevelVolumes:
        """Return what the surface holds below and above any level.

        Parameters
        ----------
        within : mapping of str to rings, sequence of Area, or one ring
            Only the ground in these areas.

        Returns
        -------
        LevelVolumes

        Raises
        ------
        DataError
            If a ring is not valid.
        GeometryError
            If no ground is within the areas.

        Examples
        --------
        >>> import evrin
        >>> ramp = evrin.triangulate([[0, 0, 0], [10, 0, 0], [10, 10, 2], [0, 10, 2]])
        >>> ramp.level_volumes().volume_below([1.0, 1.5]).round(6).tolist()
        [25.0, 56.25]
        """
        from evrin.analysis.volumes.level_volumes import level_volumes

        return level_volumes(self, within)

    def gridded(self, cell: float, method: Literal["linear", "natural"] = "linear") -> Grid:
        """Return heights at the middles of square cells, whose edges are at whole multiples of their size.

        Parameters
        ----------
        cell : float
            Side of a cell.
        method : {"linear", "natural"}
            ``linear`` takes heights from the triangles. ``natural`` smooths between the vertices by natural neighbours
            (`evrin.analysis.terrain.natural_heights`), each place on its side of breaklines, shores and steps.

        Returns
        -------
        Grid
            NaN where there is no surface.

        Raises
        ------
        DataError
            If the cell is not above 0, or so small that there would be too many cells.

        Examples
        --------
        >>> import evrin
        >>> ramp = evrin.triangulate([[0, 0, 0], [4, 0, 4], [4, 4, 4], [0, 4, 0]])
        >>> ramp.gridded(2.0).heights.tolist()
        [[1.0, 3.0], [1.0, 3.0]]
        """
        from evrin.analysis.terrain.gridding import gridded

        return gridded(self, cell, method)

    def clip(
        self,
        keep: Sequence[ArrayLike] | ArrayLike = (),
        cut: Sequence[ArrayLike] | ArrayLike = (),
        *,
        crisp: bool = True,
    ) -> Surface:
        """Return the part of the surface inside *keep* and outside *cut*, with the shots behind its vertices.

        Parameters
        ----------
        keep, cut : (k, 2) or (k, 3) array_like, or a sequence of them
            Closed rings, one or several. Rings of one kind that lie within each other alternate.
        crisp : bool
            Whether triangles are cut along the rings, or kept and removed whole.

        Returns
        -------
        Surface

        Raises
        ------
        DataError
            If no ring is given, a ring is not valid, or a height is missing.
        GeometryError
            If nothing is left.

        Examples
        --------
        >>> import evrin
        >>> field = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]])
        >>> field.clip(keep=[[0, 0], [4, 0], [4, 8], [0, 8]]).plan_area
        32.0
        """
        from evrin.making.combining.clipping import clipped

        return clipped(self, keep, cut, crisp=crisp)

    def transform(self, frame: Frame | str) -> Surface:
        """Return the surface in another unit or reference system, with the same triangles.

        Parameters
        ----------
        frame : Frame or str
            Unit and reference system; or the system alone, such as ``EPSG:25832``, and the unit stays.

        Returns
        -------
        Surface

        Raises
        ------
        DataError
            If there is no transformation from the one to the other.

        Examples
        --------
        >>> import evrin
        >>> ground = evrin.triangulate([[0, 0, 1], [4, 0, 1], [4, 4, 2]])
        >>> ground.transform(evrin.Frame("ft")).vertices[:, 0].round(3).tolist()
        [0.0, 13.123, 13.123]
        """
        from evrin.formats.door.surface_files import transformed

        return transformed(self, frame)

    def to_dataframe(self) -> pd.DataFrame:
        """Return a table with one row for each vertex: its place, and the shot behind it.

        Returns
        -------
        DataFrame
            ``easting``, ``northing``, ``height``; ``shot``, ``code``, ``file`` and ``line`` (0 if there is none) of the
            shot; ``added`` and ``changed``, which state what was done to the vertex and are empty otherwise.

        Examples
        --------
        >>> import evrin
        >>> evrin.triangulate([[0, 0, 1], [4, 0, 1], [4, 4, 2]]).to_dataframe()["easting"].tolist()
        [0.0, 4.0, 4.0]
        """
        from evrin.surface.vertex_frame import vertex_frame

        return vertex_frame(self)

    def to_geodataframe(self) -> geopandas.GeoDataFrame:
        """Return the triangles as a GeoDataFrame of polygons with heights.

        Returns
        -------
        GeoDataFrame
            ``plan_area`` and ``slope`` (rise over run) of each triangle.

        Raises
        ------
        MissingPackageError
            If geopandas or shapely is not installed.
        """
        from evrin.formats.gis.geo_frames import triangle_frame

        return triangle_frame(self)

    def plot(
        self,
        ax: Axes | None = None,
        *,
        shading: Shading | Shades = "height",
        triangles: bool = True,
        contours: Contours | None = None,
    ) -> Axes:
        """Draw the surface in plan at equal scales.

        Parameters
        ----------
        ax : Axes, optional
            Where to draw; new axes of pyplot if not given.
        shading : {"height", "slope", "aspect", "relief", "none"} or Shades
            How triangles are coloured.
        triangles : bool
            Whether the edges of triangles are drawn.
        contours : Contours, optional
            Contours to draw on top.

        Returns
        -------
        Axes

        Examples
        --------
        >>> import evrin
        >>> from matplotlib.figure import Figure
        >>> ground = evrin.triangulate([[0, 0, 1], [4, 0, 1], [4, 4, 2]])
        >>> axes = ground.plot(Figure().add_subplot(), shading="slope")
        >>> axes.get_aspect()
        1.0
        """
        from evrin.draw.plotting import plot_surface

        return plot_surface(self, ax, shading=shading, triangles=triangles, contours=contours)

    def _repr_html_(self) -> str:
        from evrin.report.snippets import surface_snippet

        return surface_snippet(self)
