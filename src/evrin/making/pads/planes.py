"""Planes: level or sloping, through places, fitted to them, or by a grade and a direction."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike

from evrin.base.errors import DataError
from evrin.kernels import Floats
from evrin.making.from_arrays import as_points
from evrin.surface.frame import Frame
from evrin.surface.surface import Surface

_IN_LINE = 1e-9


@dataclass(frozen=True)
class Plane:
    """A plane that is nowhere upright.

    Attributes
    ----------
    easting, northing, height_here : float
        A place on it.
    east, north : float
        Rise over run eastwards and northwards.

    Examples
    --------
    >>> from evrin.making import Plane
    >>> Plane.level(12.5).height([0, 100], [0, 50]).tolist()
    [12.5, 12.5]
    """

    easting: float
    northing: float
    height_here: float
    east: float = 0.0
    north: float = 0.0

    @classmethod
    def level(cls, height: float) -> Plane:
        """Return the level plane at a height.

        Parameters
        ----------
        height : float
            Everywhere on it.

        Returns
        -------
        Plane

        Raises
        ------
        DataError
            For a height beyond 1e12, or not finite.
        """
        if not abs(height) <= 1e12:
            raise DataError(f"a level must be a height; it is {height:g}")
        return cls(0.0, 0.0, float(height))

    @classmethod
    def through(cls, places: ArrayLike) -> Plane:
        """Return the plane through three places, or the one fitted to more of them by least squares of heights.

        Parameters
        ----------
        places : (n, 3) array_like
            At least three, not all in one line.

        Returns
        -------
        Plane

        Raises
        ------
        DataError
            For fewer places, or places in one line.

        Examples
        --------
        >>> from evrin.making import Plane
        >>> Plane.through([[0, 0, 1], [10, 0, 2], [0, 10, 1]]).grade_percent
        10.0
        """
        points = as_points(places, "places of a plane")
        if len(points) < 3:
            raise DataError(f"a plane needs three places; there are {len(points)}")
        middle = points.mean(axis=0)
        apart = points - middle
        size = float(np.abs(apart[:, :2]).max())
        if size == 0.0 or np.linalg.svd(apart[:, :2] / size, compute_uv=False)[1] < _IN_LINE:
            raise DataError("the places of a plane are in one line; give one beside it")
        (east, north), *_ = np.linalg.lstsq(apart[:, :2] / size, apart[:, 2] / size, rcond=None)
        return cls(float(middle[0]), float(middle[1]), float(middle[2]), float(east), float(north))

    @classmethod
    def sloping(cls, place: ArrayLike, grade_percent: float, bearing_deg: float) -> Plane:
        """Return the plane through one place that rises by a grade towards a bearing.

        Parameters
        ----------
        place : (3,) array_like
            A place on it.
        grade_percent : float
            Rise over run in percent; below 0 it falls.
        bearing_deg : float
            Clockwise from north.

        Returns
        -------
        Plane

        Raises
        ------
        DataError
            For a number that is not finite, or a grade steeper than 100,000 percent.

        Examples
        --------
        >>> from evrin.making import Plane
        >>> Plane.sloping((0, 0, 5), 2.0, 90.0).height(100.0, 30.0).item()
        7.0
        """
        point = as_points(np.atleast_2d(np.asarray(place, np.float64)), "the place of a plane")[0]
        if not abs(grade_percent) <= 1e5 or not np.isfinite(bearing_deg):
            raise DataError(f"no plane has a grade of {grade_percent:g} percent towards {bearing_deg:g} degrees")
        turn, rise = np.radians(bearing_deg), grade_percent / 100.0
        x, y, z = point.tolist()
        return cls(x, y, z, float(rise * np.sin(turn)), float(rise * np.cos(turn)))

    @property
    def grade_percent(self) -> float:
        """Its steepest slope in percent."""
        return round(100.0 * float(np.hypot(self.east, self.north)), 12)

    def height(self, x: ArrayLike, y: ArrayLike) -> Floats:
        """Return its height at each place.

        Parameters
        ----------
        x, y : array_like
            Easting and northing.

        Returns
        -------
        array of float64
        """
        across, up = np.asarray(x, float) - self.easting, np.asarray(y, float) - self.northing
        return self.height_here + self.east * across + self.north * up

    def described(self) -> str:
        """Return it in words.

        Returns
        -------
        str
        """
        if self.grade_percent == 0.0:
            return f"level {self.height_here:.3f}"
        bearing = np.degrees(np.arctan2(self.east, self.north)) % 360.0
        return f"plane rising {self.grade_percent:.3f} % towards {bearing:.2f}°"

    def surface(self, extent: tuple[float, float, float, float], frame: Frame | None = None) -> Surface:
        """Return it as a surface of two triangles over an extent.

        Parameters
        ----------
        extent : (float, float, float, float)
            West, south, east, north.
        frame : Frame, optional
            Unit and reference system of the surface.

        Returns
        -------
        Surface
        """
        west, south, east, north = extent
        corners = np.array([[west, south], [east, south], [east, north], [west, north]])
        vertices = np.column_stack((corners, self.height(corners[:, 0], corners[:, 1])))
        frame = frame or Frame()
        triangles = [[0, 1, 2], [0, 2, 3]]
        return Surface.from_arrays(vertices, triangles, name=self.described(), units=frame.units, crs=frame.crs)


Base = Surface | Plane | float


def base_surface(top: Surface, base: Base) -> tuple[Surface, bool]:
    """Return a base as a surface, a plane as one beyond all of the top; and whether it is a plane."""
    if isinstance(base, Surface):
        return base, False
    plane = base if isinstance(base, Plane) else Plane.level(float(base))
    west, south, east, north = top.extent
    margin = 0.01 * max(east - west, north - south)
    return plane.surface((west - margin, south - margin, east + margin, north + margin), top.frame), True
