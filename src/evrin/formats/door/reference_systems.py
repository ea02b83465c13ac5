"""Reference systems, through PROJ: the unit a system measures in, and places transformed from one to another."""

from __future__ import annotations

from functools import cache
from typing import TYPE_CHECKING

import numpy as np

from evrin.base.errors import DataError, MissingPackageError
from evrin.base.tolerances import FILE_METRES
from evrin.formats.door.format_registry import package
from evrin.kernels import Floats
from evrin.surface.frame import DEGREES, UNSTATED, Stated, system_name

if TYPE_CHECKING:
    from pyproj import CRS
    from pyproj._crs import Axis


def reference_system(crs: str) -> CRS:
    """Return the system that a text such as ``EPSG:25832`` names.

    Raises
    ------
    DataError
        Where it names none.
    """
    pyproj = package("pyproj")
    try:
        system: CRS = pyproj.CRS.from_user_input(crs)
        return system
    except pyproj.exceptions.CRSError as error:
        raise DataError(
            f"reference system {crs!r} is not known. Write it as EPSG:nnnn, as its definition (WKT), or local"
        ) from error


def stated_system(system: CRS) -> Stated:
    """Return what a definition states of plan and heights, each by itself.

    Parameters
    ----------
    system : pyproj.CRS
        The definition.

    Raises
    ------
    DataError
        Where it measures in a unit of length that is unsupported.
    """
    system = _unbound(system)
    parts = list(system.sub_crs_list) if system.is_compound else [system]
    plan = parts[0]
    plan = _unbound(plan)
    axes = list(plan.axis_info)
    vertical = axes[2] if len(axes) > 2 else None
    if len(parts) > 1 and parts[1].axis_info:
        vertical = parts[1].axis_info[0]
    if plan.is_vertical:
        return Stated(height_units=_unit(axes[0]) if axes else "")
    plan = plan.to_2d() if len(axes) > 2 else plan
    units = DEGREES if plan.is_geographic else _unit(axes[0]) if axes else ""
    crs = "" if plan.is_engineering else _number(plan, units) or plan.to_wkt()
    return Stated(units, _unit(vertical) if vertical is not None else "", crs)


def _unbound(system: CRS) -> CRS:
    """Return the system itself, without the transformation that it is bound to."""
    while system.is_bound and system.source_crs is not None:
        system = system.source_crs
    return system


def _unit(axis: Axis) -> str:
    factor = float(axis.unit_conversion_factor)
    if axis.unit_name == "unknown":
        return ""
    # The two kinds of feet differ by two millionths.
    near = [unit for unit, metres in FILE_METRES.items() if abs(factor / metres - 1.0) < 5e-7]
    if not near:
        raise DataError(f"its reference system measures in {axis.unit_name} ({factor:g} m), which is unsupported")
    return near[0]


def _number(plan: CRS, units: str) -> str:
    """The number of a system, where the one by that number measures in the same unit."""
    code = plan.to_epsg()
    if code is None:
        return ""
    listed = reference_system(f"EPSG:{code}").axis_info
    same = units == DEGREES or (listed and _unit(listed[0]) == units)
    return f"EPSG:{code}" if same else ""


def units_of(crs: str) -> str:
    """Return what a reference system measures in: ``m``, ``ft``, ``ftUS``, ``degrees``, or nothing if unknown."""
    return DEGREES if crs == "EPSG:4326" else _stated(crs).units


def unit_of_heights(crs: str) -> str:
    """Return what the vertical axis of a reference system measures in; empty where it has none."""
    return _stated(crs).height_units


def system_in(text: str) -> Stated:
    """Return what a text that names or defines a reference system states; nothing for an empty one.

    Raises
    ------
    DataError
        Where it is not known, or measures in a unit that is unsupported.
    """
    return UNSTATED if text in ("", "local") else stated_system(reference_system(text))


@cache
def _stated(crs: str) -> Stated:
    if crs in ("", "local"):
        return UNSTATED
    try:
        return stated_system(reference_system(crs))
    except (DataError, MissingPackageError):
        return UNSTATED


def is_same_system(one: str, other: str) -> bool:
    """Whether two texts name one reference system, by number or by definition."""
    if one == other:
        return True
    if one.upper().startswith("EPSG:") and other.upper().startswith("EPSG:"):
        return one.upper() == other.upper()
    return bool(reference_system(one).equals(reference_system(other), ignore_axis_order=True))


def writable(crs: str) -> str | None:
    """Return a reference system as packages that write files take it, None for one of the site's own."""
    return None if crs in ("", "local") else crs


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
            f"({xyz[row, 0]}, {xyz[row, 1]}) in {system_name(start)} has no place in {system_name(end)}. Check the "
            "reference system of the file"
        )
    return np.column_stack((x, y, xyz[:, 2]))
