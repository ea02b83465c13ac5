"""Surfaces that someone made: read from a file, and converted to another unit or reference system."""

from __future__ import annotations

import os
from pathlib import Path

from evrin.base.errors import DataError
from evrin.base.tolerances import METRES
from evrin.formats.door.claims import Claim
from evrin.formats.door.format_registry import How
from evrin.formats.door.intake import Transformation, settled, single_sheet
from evrin.formats.door.readers import chosen_parts, read
from evrin.surface.frame import UNIT_NAMES, Frame, Stated
from evrin.surface.surface import Surface
from evrin.survey.contents import Contents


def read_surface(
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
    """Read a surface that someone made, triangle for triangle; a grid counts as one.

    Parameters
    ----------
    path : path
        The file.
    name : str
        Which, where the file holds several: its name, or in a drawing its layer.
    units, height_units, crs, exchanged, up, sheet
        What the coordinates are where the file does not state it, or states it wrongly; see `Claim`.
    frame : Frame, optional
        Unit and reference system to convert it to; its own if not given.

    Returns
    -------
    Surface

    Raises
    ------
    DataError
        Where the file is missing, broken, of an unrecognised format, or holds no surface or several.

    Examples
    --------
    >>> import tempfile
    >>> import evrin
    >>> field = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]], name="field")
    >>> path = tempfile.mkdtemp() + "/field.xml"
    >>> field.write(path)
    >>> evrin.read_surface(path)
    <Surface 'field': 4 vertices, 2 triangles>
    """
    return claimed_surface(Path(path), Claim(units, height_units, crs, exchanged, up=up, sheet=sheet), name, frame)


def claimed_surface(path: Path, claim: Claim, name: str = "", frame: Frame | None = None) -> Surface:
    """Read a surface as `read_surface` does, with what is stated of its file as a claim.

    Raises
    ------
    DataError
        As `read_surface` does.
    """
    contents = chosen_parts(path, read(path, How(claim.columns, guess=claim.columns is None)), claim)
    surface = the_surface(contents, name)
    if contents.stated.hinted_units and contents.stated.hinted_units != surface.units and not claim.units:
        hinted = contents.stated.hinted_units
        raise DataError(
            f"{path}: it states {UNIT_NAMES[hinted]}, and headers of this format are often wrong. State units={hinted} "
            "for the file to convert it, or units=m if its coordinates are in metres"
        )
    crs = surface.crs if surface.crs != "local" else ""
    own = Stated(surface.units, contents.stated.height_units, crs)
    stated = Frame(claim.units or surface.units, claim.crs or surface.crs or "local")
    wanted = frame or Frame(stated.units if stated.units in METRES else "m", stated.crs)
    heights = claim.height_units or ("" if claim.units else contents.stated.height_units)
    stays = claim._replace(units=stated.units, height_units=heights, crs=stated.crs)
    if contents.is_y_up and not claim.up:
        raise DataError(
            f"{path}: its faces look along the second axis: heights seem to be there. State up=y for the file to turn "
            "it, or up=z if it is right"
        )
    transformation, _, _ = settled(path, own, stays, wanted)
    return single_sheet(path, _moved(surface, transformation, wanted), claim, contents)


def the_surface(contents: Contents, name: str = "") -> Surface:
    """Return the one surface of a file, or the one of that name; a grid counts as one.

    Parameters
    ----------
    contents : Contents
        What the file holds.
    name : str
        Which surface, if there are several.

    Returns
    -------
    Surface

    Raises
    ------
    DataError
        Where there is none, or several.

    Examples
    --------
    >>> from evrin.formats import the_surface
    >>> from evrin.survey.contents import Contents
    >>> import evrin
    >>> field = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]], name="field")
    >>> the_surface(Contents("field.xml", "LandXML", surfaces=(field,)))
    <Surface 'field': 4 vertices, 2 triangles>
    """
    surfaces = [*contents.surfaces, *(grid.surface() for grid in contents.grids)]
    if not surfaces:
        raise DataError(f"{contents.file}: no surface in it ({contents.form})")
    names = [surface.name for surface in surfaces]
    if name:
        surfaces = [surface for surface in surfaces if surface.name == name]
    if len(surfaces) != 1:
        what = f"no surface is called {name!r}" if name and not surfaces else "several surfaces"
        raise DataError(f"{contents.file}: {what}; choose one with --name, or name= in Python: {', '.join(names)}")
    return surfaces[0]


def transformed(surface: Surface, frame: Frame | str) -> Surface:
    """Return a surface in another unit or reference system, its triangles unchanged: `Surface.transform`."""
    frame = Frame(surface.units, frame) if isinstance(frame, str) else frame
    own = Stated(surface.units, crs=surface.crs)
    if surface.frame.is_local != frame.is_local:
        raise DataError(
            f"{surface.name} is in {surface.frame}; no way is known from there to {frame}. State the system that its "
            "coordinates are in first, as in surface.renamed(crs=...) in Python or FILE,crs=... on the command line"
        )
    transformation, _, _ = settled(Path(surface.name), own, Claim(), frame)
    return _moved(surface, transformation, frame)


def _moved(surface: Surface, transformation: Transformation, frame: Frame) -> Surface:
    """A surface in other coordinates; what rounding turns is settled, and what was wrong before stays as it was."""
    from evrin.making.patches.resettling import resettled

    moved = transformation.surface(surface, frame)
    if moved.vertices is surface.vertices or surface.faults():
        return moved
    return resettled(moved)
