"""Findings about files that are not where the rest of the site is, or not in its unit."""

from __future__ import annotations

from evrin.base.errors import MissingPackageError
from evrin.check import Finding, rule
from evrin.formats.door.intake import UNITS_DIFFER
from evrin.formats.door.reference_systems import units_of
from evrin.kernels import Floats
from evrin.surface.frame import DEGREES, UNIT_NAMES, Frame
from evrin.surface.surface import Surface
from evrin.survey.mismatch import Extent, Located, Mismatch, mismatches, misplaced

_RULES = {
    "degrees": rule(
        "sources-degrees",
        "files in degrees of longitude and latitude",
        "warning",
        fix='state what it is and what the site is: crs = "EPSG:4326" for the file, crs = "EPSG:nnnn" under [site]',
    ),
    "exchanged": rule(
        "sources-exchanged",
        "files with northing and easting exchanged",
        "warning",
        fix="state exchanged = true for the file; remove it where it is stated already",
    ),
    "feet-beside-metres": rule("sources-feet-beside-metres", "files in feet beside others in metres", "warning"),
    "other-unit": rule(
        "sources-other-unit",
        "files that would overlap the rest in another unit, such as inches or millimetres",
        "warning",
        fix="correct the unit that is stated for the file, or that of all drawings, drawing_units under [site]",
    ),
    "heights-in-feet": rule("sources-heights-in-feet", "files with heights in feet beside others in metres", "warning"),
    "apart": rule(
        "sources-apart",
        "files that do not overlap the rest",
        "warning",
        fix="check that both are of this site and in its reference system",
    ),
}
OFF_SITE = frozenset(each.code for each in _RULES.values())


def site_units(frame: Frame) -> list[Finding]:
    """Report a reference system that measures in another unit than the site states."""
    try:
        measured = units_of(frame.crs)
    except MissingPackageError:
        return []
    if measured in ("", frame.units):
        return []
    if measured == DEGREES:
        what, fix = "degrees, in which nothing can be measured", "choose a plane reference system"
    else:
        what, fix = UNIT_NAMES[measured], f'state units = "{measured}" under [site]'
    message = f"the site states {UNIT_NAMES[frame.units]}; {frame.crs} measures in {what}"
    return [UNITS_DIFFER.finding(None, message, fix=fix)]


def mismatched(located: list[Located]) -> list[Finding]:
    """Report sources whose coordinates do not fit those of the rest.

    Parameters
    ----------
    located : list of Located
        Where each source lies.
    """
    mismatch_list = mismatches(located)
    return [
        _finding(each, located[each.source].name, located[each.beside].name, located[each.source].extent)
        for each in mismatch_list
    ]


def off_site(name: str, extent: Extent, located: list[Located]) -> Finding | None:
    """Return the finding about a file that is nowhere near the sources; None where it meets one."""
    order = sorted(located, key=lambda each: -each.size)
    offs = misplaced(extent, [each.extent for each in order])
    return None if offs is None else _finding(offs, name, order[offs.beside].name, extent)


def off_surface(name: str, xyz: Floats, surface: Surface) -> list[Finding]:
    """Return the finding about a file whose places (n, 3) are nowhere near a surface; none where they meet it."""
    ground = Located(surface.name, Extent.of(surface.vertices), len(surface.vertices))
    off = off_site(name, Extent.of(xyz), [ground])
    return [] if off is None else [off]


def _finding(mismatch: Mismatch, name: str, other: str, extent: Extent) -> Finding:
    place = (float(extent.low[0]), float(extent.low[1]))
    factor, unit = ("0.3048", "ft") if mismatch.factor < 1.0 else ("3.28084", "m")
    messages = {
        "degrees": f"{name} is at {place[0]:.4f}, {place[1]:.4f}: this looks like longitude and latitude in degrees",
        "exchanged": f"{name} does not overlap {other}; it would with northing and easting exchanged",
        "feet-beside-metres": f"{name} does not overlap {other}; it would with coordinates multiplied by {factor}",
        "other-unit": f"{name} does not overlap {other}; it would with coordinates multiplied by {mismatch.factor:.5g}",
        "heights-in-feet": f"{name} overlaps {other} in plan; its heights would fit multiplied by {factor}",
        "apart": f"{name} does not overlap {other} anywhere",
    }
    fixes = {
        "degrees": f'state what both are: crs = "EPSG:4326" for {name}, crs = "EPSG:nnnn" under [site]',
        "exchanged": f"state exchanged = true for {name}; remove it where it is stated already",
        "feet-beside-metres": f'state units = "{unit}" for {name}, or "ftUS" for US survey feet',
        "heights-in-feet": f'state height_units = "{unit}" for {name}',
    }
    return _RULES[mismatch.kind].finding(place, messages[mismatch.kind], fix=fixes.get(mismatch.kind))
