"""Reference systems, through PROJ: the unit a system measures in, and places transformed from one to another."""

from __future__ import annotations

from typing import Any

import numpy as np

from evrin.errors import DataError, MissingPackageError
from evrin.formats.registry import package
from evrin.tin.types import Floats

DEGREES = "degrees"
_NAMES = {"metre": "m", "meter": "m", "foot": "ft", "international foot": "ft", "US survey foot": "ftUS"}


def reference_system(crs: str) -> Any:
    """Return the system that a text such as ``EPSG:25832`` names.

    Raises
    ------
    DataError
        Where it names none.
    """
    pyproj = package("pyproj")
    try:
        return pyproj.CRS.from_user_input(crs)
    except pyproj.exceptions.CRSError as error:
        raise DataError(f"reference system {crs!r} is not known. Write it as EPSG:nnnn, or local") from error


def units_of(crs: str) -> str:
    """Return what a reference system measures in: ``m``, ``ft``, ``ftUS``, ``degrees``, or nothing if unknown."""
    if not crs or crs == "local":
        return ""
    if crs == "EPSG:4326":
        return DEGREES
    try:
        axes = reference_system(crs).axis_info
    except (DataError, MissingPackageError):
        return ""
    unit = axes[0].unit_name if axes else ""
    return DEGREES if "degree" in unit else _NAMES.get(unit, "")


def unit_of_heights(crs: str) -> str:
    """Return what the vertical axis of a reference system measures in; empty where it has none."""
    try:
        axes = reference_system(crs).axis_info if crs not in ("", "local", "EPSG:4326") else []
    except (DataError, MissingPackageError):
        return ""
    return _NAMES.get(axes[2].unit_name, "") if len(axes) > 2 else ""


def short_name(system: Any) -> str:
    """Return ``EPSG:nnnn`` where a system has such a number, else nothing."""
    code = system.to_epsg() if system is not None else None
    return f"EPSG:{code}" if code else ""


def transformed_places(xyz: Floats, start: str, end: str) -> Floats:
    """Return places (n, 3) of one reference system in another; heights are unchanged.

    Raises
    ------
    DataError
        Where a system is not known, or a place has no counterpart.
    """
    pyproj = package("pyproj")
    mover = pyproj.Transformer.from_crs(reference_system(start), reference_system(end), always_xy=True)
    x, y = mover.transform(xyz[:, 0], xyz[:, 1])
    if not (np.isfinite(x).all() and np.isfinite(y).all()):
        row = int(np.flatnonzero(~(np.isfinite(x) & np.isfinite(y)))[0])
        raise DataError(
            f"({xyz[row, 0]}, {xyz[row, 1]}) in {start} has no place in {end}. Check the reference system of the file"
        )
    return np.column_stack((x, y, xyz[:, 2]))
