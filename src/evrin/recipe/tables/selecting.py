"""What of a file is meant: by code, number, layer, name, kind, class, attribute or place."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Literal

import numpy as np
from pydantic import Field, field_validator

from evrin.formats.door.claims import Claim
from evrin.formats.door.intake import take_in_lines
from evrin.recipe.tables.base import Number, Ring, Table
from evrin.recipe.tables.input_files import InputFile, OutlineFile
from evrin.surface.frame import Frame
from evrin.survey.selection import Selection


class Selecting(Table):
    """What is meant. Under `keep` an item must meet every criterion; `leave_out` drops what meets any."""

    codes: tuple[str, ...] = ()
    """Field codes; `*` matches anything, as in `CTRL*`."""
    numbers: tuple[str, ...] = ()
    """Point numbers."""
    layers: tuple[str, ...] = ()
    """Layers of a drawing or a package."""
    names: tuple[str, ...] = ()
    """Names of lines or surfaces."""
    kinds: tuple[str, ...] = ()
    """Kinds of things in a drawing: `point`, `block`, `symbol` (drawn with lines), `text`, `vertex`."""
    classes: tuple[int, ...] = ()
    """Classes of a point cloud; 2 is ground."""
    returns: tuple[Literal["first", "last", "only"], ...] = ()
    """Returns of a point cloud."""
    where: str = ""
    """A comparison of an attribute, as in `depth > 2`."""
    heights: tuple[Number, Number] | None = None
    """Lowest and highest height, in the site's unit; of a line, one vertex between them is enough."""
    window: tuple[Number, Number, Number, Number] | None = None
    """West, south, east, north, in the site's coordinates."""
    polygon: Ring | None = None
    """Corners of an area, in the site's coordinates."""
    within: Annotated[InputFile | OutlineFile | None, Field()] = None
    """A file with areas; as a table, with `file`, `units`, `crs`, `exchanged`, `columns`."""

    @field_validator("heights")
    @classmethod
    def _rise(cls, heights: tuple[float, float] | None) -> tuple[float, float] | None:
        if heights is not None and heights[0] > heights[1]:
            raise ValueError(f"heights run from the lowest to the highest; they are {list(heights)}")
        return heights


def selection_of(folder: Path, table: Selecting, frame: Frame) -> Selection:
    """Return what a table means, its areas in the site's coordinates.

    Raises
    ------
    DataError
        Where a file with areas cannot be read.
    """
    rings = [np.array(table.polygon, np.float64)] if table.polygon else []
    if table.within is not None:
        named = table.within
        name, claim = (named.file, named.claim) if isinstance(named, OutlineFile) else (str(named), Claim())
        rings += [line.xyz[:, :2] for line in take_in_lines(folder / name, frame, claim).contents.lines]
    return Selection(
        codes=table.codes,
        numbers=table.numbers,
        layers=table.layers,
        names=table.names,
        kinds=table.kinds,
        classes=table.classes,
        returns=table.returns,
        where=table.where,
        window=table.window,
        rings=tuple(np.ascontiguousarray(ring) for ring in rings),
        heights=table.heights,
    )
