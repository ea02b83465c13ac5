"""The one door: a file comes in, and its coordinates become those of the site.

Unit, reference system, order of the axes and unit of heights are settled here from what a table or an option states,
from what the file states of itself, and from the site. What contradicts the site is an error or a finding.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import NamedTuple

import numpy as np

from evrin.base.errors import DataError
from evrin.base.tolerances import FILE_METRES, METRES
from evrin.base.wording import counted
from evrin.check import Finding, rule
from evrin.formats.door.claims import Claim
from evrin.formats.door.format_registry import Cloud, How
from evrin.formats.door.readers import chosen_parts, open_cloud, read
from evrin.formats.door.reference_systems import is_same_system, transformed_places, unit_of_heights, units_of
from evrin.formats.door.surface_findings import about_surface
from evrin.kernels import Floats
from evrin.surface.frame import DEGREES, UNIT_NAMES, Frame, Stated, system_name
from evrin.surface.grid import Grid
from evrin.surface.surface import Surface
from evrin.surface.validity.covering_sheets import sheet_of, without_skirts
from evrin.surface.validity.overlaps import under_others
from evrin.survey.contents import Contents, Points
from evrin.survey.drawn_sizes import DrawnSizes, likely_unit
from evrin.survey.mismatch import are_geocentric

UNITS_DIFFER = rule(
    "units-differ",
    "headers and reference systems that state another unit than the site's",
    "warning",
    fix="state units for the file, or correct those of the site",
)
SYSTEM_DIFFERS = rule(
    "system-differs",
    "files that state a reference system although the site is local",
    "warning",
    fix='state crs under [site]; or state crs = "local" for the file if its coordinates are the site\'s',
)
COLUMNS_DOUBTFUL = rule(
    "columns-doubtful",
    "tables with several columns that could be the heights, eastings or northings",
    "warning",
    fix="state the columns of the file, as the finding gives them",
)
DRAWN_SIZES = rule(
    "drawing-sizes",
    "drawings in a unit in which their letters, contours or extent have sizes that nobody draws",
    "warning",
    fix="state units for the file, or drawing_units under [site] for all drawings",
)
Y_UP = rule(
    "y-up",
    "meshes whose heights seem to be along the second axis, as in models for pictures",
    "error",
    fix='state up = "y" for the file to turn it, or up = "z" if it is right as it is',
)


class Transformation(NamedTuple):
    """How the coordinates of a file become those of the site.

    In this order: heights taken from the second axis; axes exchanged; easting and northing transformed from *start* to
    *end*, or multiplied by *factor*; heights multiplied by *height_factor*, then by *stretch*, then raised by *rise*.
    """

    exchanged: bool = False
    is_y_up: bool = False
    factor: float = 1.0
    height_factor: float = 1.0
    start: str = ""
    end: str = ""
    stretch: float = 1.0
    rise: float = 0.0

    def places(self, xyz: Floats) -> Floats:
        """Return places (n, 3) in the site's coordinates; the array itself where nothing changes."""
        if self.is_y_up:
            xyz = xyz[:, [0, 2, 1]] * (1.0, -1.0, 1.0)
        if self.exchanged:
            xyz = xyz[:, [1, 0, 2]]
        plan_factor = self.factor
        if self.start:
            xyz, plan_factor = transformed_places(xyz, self.start, self.end), 1.0
        if plan_factor != 1.0 or self.height_factor != 1.0:
            xyz = xyz * (plan_factor, plan_factor, self.height_factor)
        if self.stretch == 1.0 and self.rise == 0.0:
            return xyz
        return np.column_stack((xyz[:, :2], xyz[:, 2] * self.stretch + self.rise))

    def heights(self, values: Floats) -> Floats:
        """Return heights (n,) as the site has them."""
        return values * self.height_factor * self.stretch + self.rise

    def points(self, points: Points) -> Points:
        """Return points at their places on the site."""
        return replace(points, xyz=np.ascontiguousarray(self.places(points.xyz)))

    def surface(self, surface: Surface, frame: Frame) -> Surface:
        """Return a surface in the site's coordinates, its triangles counter-clockwise."""
        if self.is_y_up:
            named = {key: getattr(surface, key) for key in ("name", "description", "kind", "colour")}
            places = np.ascontiguousarray(self.places(surface.vertices))
            return Surface.from_arrays(places, surface.triangles, **named, units=frame.units, crs=frame.crs)
        triangles, edge_lines = surface.triangles, surface.edge_lines
        if self.exchanged:
            triangles = np.ascontiguousarray(triangles[:, [0, 2, 1]])
            edge_lines = np.ascontiguousarray(edge_lines[:, [2, 1, 0]])
        return replace(
            surface,
            vertices=np.ascontiguousarray(self.places(surface.vertices)),
            triangles=triangles,
            edge_lines=edge_lines,
            lines=tuple(replace(line, points=self.places(line.points)) for line in surface.lines),
            units=frame.units,
            crs=frame.crs,
        )


@dataclass(frozen=True, eq=False)
class Intake:
    """What a file holds, in the site's coordinates.

    Attributes
    ----------
    contents : Contents
        Its grids as the file has them.
    transformation : Transformation
        For heights in attributes and texts.
    notes : list of str
        What was converted.
    findings : list of Finding
        What contradicts the site.
    is_stated : bool
        Whether the file or the claim states a unit or a reference system.
    """

    contents: Contents
    transformation: Transformation
    frame: Frame
    notes: list[str] = field(default_factory=list)
    findings: list[Finding] = field(default_factory=list)
    is_stated: bool = False

    def grid_points(self, grid: Grid) -> tuple[Floats, np.ndarray]:
        """Return the cells of a grid with data as places (n, 3) of the site, and their numbers."""
        xyz, cells = grid.points()
        return np.ascontiguousarray(self.transformation.places(xyz)), cells

    def surfaces(self) -> list[Surface]:
        """Return the surfaces, and the grids as surfaces."""
        grids = [self.transformation.surface(grid.surface(), self.frame) for grid in self.contents.grids]
        return [*self.contents.surfaces, *grids]


def take_in(path: Path, frame: Frame, claim: Claim | None = None, how: How | None = None, **heights: float) -> Intake:
    """Read a file into the site's coordinates.

    Parameters
    ----------
    path : Path
        The file.
    frame : Frame
        Of the site.
    claim : Claim, optional
        What a table or an option states of the file.
    how : How, optional
        How the file is to be read, if not in the usual way.
    **heights
        ``stretch`` and ``rise``; see `Transformation`.

    Raises
    ------
    DataError
        Where the file cannot be read, or its coordinates cannot become those of the site.
    MissingPackageError
        Where its format or its reference system needs a package that is not installed.
    """
    stated = claim or Claim()
    asked = how or How()
    contents = read(path, replace(asked, columns=stated.columns or asked.columns))
    contents = chosen_parts(path, contents, stated)
    own = contents.stated
    transformation, notes, findings = settled(path, own, stated, frame, **heights)
    findings += _about_sizes(path.name, contents, stated.units or frame.units)
    findings += [COLUMNS_DOUBTFUL.finding(None, f"{path.name}: {doubt}") for doubt in contents.doubts]
    if not transformation.start and are_geocentric(contents.points.xyz):
        raise DataError(
            f"{path}: its coordinates are geocentric: counted from the centre of the earth. Convert them to a plane "
            "reference system first"
        )
    if contents.is_y_up and not stated.up:
        what = f"the faces of {path.name} look along its second axis: heights seem to be there"
        findings.append(Y_UP.finding(None, what))
    lines = tuple(replace(line, xyz=transformation.places(line.xyz)) for line in contents.lines)
    moved = replace(
        contents,
        points=transformation.points(contents.points),
        lines=lines,
        surfaces=tuple(
            single_sheet(path, transformation.surface(surface, frame), stated, contents)
            for surface in contents.surfaces
        ),
    )
    for surface in moved.surfaces:
        findings += about_surface(path.name, surface)
    return Intake(
        contents=moved,
        transformation=transformation,
        frame=frame,
        notes=notes,
        findings=findings,
        is_stated=_is_stated(own, stated),
    )


def single_sheet(path: Path, surface: Surface, claim: Claim, contents: Contents) -> Surface:
    """Return a mesh as a surface that covers each place once: as given, or the sheet that is asked for.

    Raises
    ------
    DataError
        Where it covers places more than once and no sheet is stated.
    """
    if not contents.is_loose or (contents.is_y_up and not claim.up):
        return surface
    surface = without_skirts(surface)
    if claim.sheet in ("top", "bottom"):
        return without_skirts(sheet_of(surface, claim.sheet))  # type: ignore[arg-type]
    under = under_others(surface)
    if under:
        several = f"{under:,} of {counted(len(surface.triangles), 'triangle')}"
        raise DataError(
            f"{path}: the mesh {surface.name} covers places more than once: {several} have another above. A surface "
            'has one height at each place. State sheet = "top" or "bottom" in its table, or FILE,sheet=top'
        )
    return surface


def take_in_lines(path: Path, frame: Frame, claim: Claim | None = None) -> Intake:
    """Read the lines of a file as outlines whose heights are not needed.

    Raises
    ------
    DataError
        As `take_in` does; where there is no line, or a row cannot be read: a ring with a vertex missing would cut
        elsewhere.
    """
    taken = take_in(path, frame, claim, How(as_lines=True, needs_height=False))
    if taken.contents.refused:
        first = taken.contents.refused[0]
        raise DataError(f"{first.where}: {first.reason}. A line with a vertex missing would run elsewhere; correct it")
    if not taken.contents.lines:
        raise DataError(f"{path}: no line and no polygon in it ({taken.contents.form})")
    return taken


def take_in_cloud(path: Path, frame: Frame, claim: Claim, how: How, **heights: float) -> tuple[Cloud, Intake]:
    """Open the points of a file, to be read a part at a time in the site's coordinates.

    Raises
    ------
    DataError, MissingPackageError
        As `take_in` does.
    """
    cloud = open_cloud(path, replace(how, columns=claim.columns or how.columns))
    own = cloud.stated
    transformation, notes, findings = settled(path, own, claim, frame, **heights)

    def parts() -> Iterator[Points]:
        for part in cloud.parts:
            yield transformation.points(part)

    nothing = Contents(path.name, "")
    taken = Intake(
        contents=nothing,
        transformation=transformation,
        frame=frame,
        notes=notes,
        findings=findings,
        is_stated=_is_stated(own, claim),
    )
    return replace(cloud, parts=parts()), taken


def _is_stated(own: Stated, claim: Claim) -> bool:
    return bool(own.units or own.crs or claim.units or claim.crs)


def settled(
    path: Path, own: Stated, claim: Claim, frame: Frame, stretch: float = 1.0, rise: float = 0.0
) -> tuple[Transformation, list[str], list[Finding]]:
    """Settle what the coordinates of a file are, and note what was converted and what contradicts the site."""
    start = claim.crs or own.crs
    findings, notes = [], []
    if start not in ("", "local") and frame.crs in ("", "local"):
        findings += _against_a_local_site(path, start, claim)
        start = ""
    transforms = start not in ("", "local") and not is_same_system(start, frame.crs)
    # A system in degrees states nothing of heights.
    named = (claim.units, own.units, units_of(start) if transforms else "")
    stated = next((unit for unit in named if unit in FILE_METRES), frame.units)
    of_heights = claim.height_units or claim.units or own.height_units or (unit_of_heights(start) if start else "")
    vertical = of_heights or stated
    factor, height_factor = (FILE_METRES[unit] / METRES[frame.units] for unit in (stated, vertical))
    if height_factor != 1.0 or (factor != 1.0 and not transforms):
        what = "read" if vertical == stated and not transforms else "heights read"
        notes.append(f"{what} as {vertical}, converted to {frame.units}")
    if own.hinted_units and own.hinted_units != frame.units and not claim.units:
        findings.append(_hinted_units(path.name, own.hinted_units, frame.units))
    if transforms:
        notes.append(f"transformed from {system_name(start)} to {system_name(frame.crs)}")
    if claim.exchanged:
        notes.append("northing and easting exchanged")
    ends = (start, frame.crs) if transforms else ("", "")
    if claim.up == "y":
        notes.append("turned: heights are along its second axis")
    turned = (claim.exchanged, claim.up == "y")
    return Transformation(*turned, factor, height_factor, *ends, stretch, rise), notes, findings


def _against_a_local_site(path: Path, start: str, claim: Claim) -> list[Finding]:
    if claim.crs or units_of(start) == DEGREES:
        what = "longitude and latitude" if units_of(start) == DEGREES else "this system"
        raise DataError(
            f"{path}: its coordinates are in {system_name(start)}, and the site is local; no way is known from {what} "
            "to the site. "
            "State the site's crs under [site], or crs = \"local\" for the file if its coordinates are the site's"
        )
    what = f"{path.name} states {system_name(start)}, and the site is local; its coordinates were used unchanged"
    return [SYSTEM_DIFFERS.finding(None, what)]


def _about_sizes(name: str, contents: Contents, unit: str) -> list[Finding]:
    """Report a drawing of sizes that nobody draws in its unit, where that is not one that sites are in."""
    if not contents.form.startswith("DXF") or unit in METRES:
        return []
    sizes = DrawnSizes.of(contents)
    against = sizes.contradict(unit)
    if not against:
        return []
    likely = likely_unit(sizes, unit)
    what = f"{name} is read in {UNIT_NAMES[unit]}, and then {'; '.join(against)}"
    if likely == unit:
        return [DRAWN_SIZES.finding(None, what)]
    fix = f'state units = "{likely}" for the file, or drawing_units = "{likely}" under [site] for all drawings'
    return [DRAWN_SIZES.finding(None, f"{what}; in {UNIT_NAMES[likely]} nothing of this is so", fix=fix)]


def _hinted_units(name: str, hinted: str, site: str) -> Finding:
    what = f"{name} states {UNIT_NAMES[hinted]}, the site is in {UNIT_NAMES[site]}; it was read in the site's unit"
    fix = f'state units = "{hinted}" for the file to convert it, or units = "{site}" if its header is wrong'
    return UNITS_DIFFER.finding(None, what, fix=fix)
