"""What coordinates mean: the unit they are measured in, and the reference system."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from typing import NamedTuple

from evrin.base.errors import DataError

# The unit of systems in longitude and latitude.
DEGREES = "degrees"
UNIT_NAMES = {
    **{"m": "metres", "ft": "international feet", "ftUS": "US survey feet"},
    **{"mm": "millimetres", "cm": "centimetres", "dm": "decimetres", "km": "kilometres", "in": "inches"},
}
_WKT_NAME = re.compile(r'^\s*\w+\["([^"]*)"')


def system_name(crs: str) -> str:
    """Return what to call a reference system: its number, or the name within its definition where it has none.

    Parameters
    ----------
    crs : str
        Code or definition of the system.

    Returns
    -------
    str

    Examples
    --------
    >>> system_name("EPSG:25832"), system_name('PROJCRS["Works grid",BASEGEOGCRS["x"]]')
    ('EPSG:25832', '"Works grid" (no EPSG number)')
    """
    named = _WKT_NAME.match(crs)
    return f'"{named[1]}" (no EPSG number)' if named else crs


class Stated(NamedTuple):
    """What a file states of its coordinates; each is empty if the file does not state it.

    Attributes
    ----------
    units : str
        Unit of easting and northing: ``m``, ``ft``, ``ftUS``, another unit of length, or ``degrees``.
    height_units : str
        Unit of heights, if the file states one of their own.
    crs : str
        Reference system of the plan: ``EPSG:nnnn``, or its definition if it has no number.
    hinted_units : str
        A unit that the file names although, as in drawings, it is not reliable.
    """

    units: str = ""
    height_units: str = ""
    crs: str = ""
    hinted_units: str = ""


UNSTATED = Stated()


class Frame(NamedTuple):
    """The unit (``m``, ``ft`` or ``ftUS``) and the reference system (``EPSG:nnnn`` or ``local``) of coordinates.

    Examples
    --------
    >>> import evrin
    >>> str(evrin.Frame("ft")), evrin.Frame("m").is_like(evrin.Frame("ft"))
    ('international feet, a local system', False)
    """

    units: str = "m"
    crs: str = "local"

    def __str__(self) -> str:
        system = "a local system" if self.is_local else system_name(self.crs)
        return f"{UNIT_NAMES.get(self.units, self.units)}, {system}"

    @property
    def is_local(self) -> bool:
        """Whether the reference system is one of the site's own."""
        return self.crs in ("", "local")

    def is_like(self, other: Frame) -> bool:
        """Whether coordinates of the two can be compared number by number.

        Parameters
        ----------
        other : Frame
            The frame to compare with.

        Returns
        -------
        bool
        """
        return self.units == other.units and (self.crs or "local") == (other.crs or "local")


def check_same_frame(frames: Mapping[str, Frame] | Sequence[tuple[str, Frame]]) -> None:
    """Refuse to compare coordinates that mean different things.

    Parameters
    ----------
    frames : mapping of str to Frame, or sequence of (str, Frame)
        By the name of what has them; as pairs where two may have one name.

    Raises
    ------
    DataError
        Where two differ in unit or reference system.

    Examples
    --------
    >>> check_same_frame({"before": Frame("m"), "after": Frame("m", "local")})
    """
    named = list(frames.items() if isinstance(frames, Mapping) else frames)
    for name, frame in named[1:]:
        first, expected = named[0]
        if not expected.is_like(frame):
            raise DataError(
                f"{first} is in {expected}; {name} is in {frame}. They cannot be compared number by "
                "number. Convert one of them: surface.transform(frame) in Python, --convert on the command line; or "
                "state what the file is in, as in FILE,units=ft,crs=EPSG:25832"
            )
