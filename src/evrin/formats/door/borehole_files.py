"""Boreholes out of a table: a row for each material that a hole meets."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np

from evrin.base.errors import DataError
from evrin.check import Finding
from evrin.formats.door.claims import Claim
from evrin.formats.door.intake import settled
from evrin.formats.text.text_table import FieldTable, read_table
from evrin.kernels import Floats
from evrin.making.layers.boreholes import Borehole, Boreholes
from evrin.surface.frame import Frame

_END = "end"


def read_boreholes(
    path: Path | str, frame: Frame | None = None, claim: Claim | None = None, materials: Sequence[str] = ()
) -> tuple[Boreholes, list[Finding]]:
    """Read boreholes from a delimited text with a header.

    Parameters
    ----------
    path : path
        Columns ``hole``, ``easting``, ``northing``, ``ground`` (its height), ``material``, and ``depth`` under the
        ground or ``top``, a height. The material ``end`` states where a hole ends.
    frame : Frame, optional
        Of the site.
    claim : Claim, optional
        What is known of the file.
    materials : sequence of str
        In order from above; found from the holes if not given.

    Returns
    -------
    boreholes : Boreholes
    findings : list of Finding
        What contradicts the site.

    Raises
    ------
    DataError
        Where the file cannot be read, a column is missing, a field holds no number, or holes contradict one another.

    Examples
    --------
    >>> import os
    >>> from pathlib import Path
    >>> from tempfile import mkdtemp
    >>> from evrin.formats import read_boreholes
    >>> file = Path(mkdtemp()) / "holes.csv"
    >>> rows = "hole,easting,northing,ground,material,depth", "A,5,5,40,fill,0", "A,5,5,40,gravel,1.5", "A,5,5,40,end,6"
    >>> size = file.write_text(os.linesep.join(rows))
    >>> read_boreholes(file)[0].holes[0].tops
    (('fill', 40.0), ('gravel', 38.5))
    """
    file = Path(path)
    table = read_table(file, None, ("hole", "easting", "northing", "ground", "material"))
    by_depth = "depth" in table.columns
    if by_depth == ("top" in table.columns):
        raise DataError(f"{file}: one of the columns depth and top is needed, and not both")
    site = frame or Frame()
    if claim is not None and (claim.layers or claim.kinds or claim.codes):
        raise DataError(f"{file}: a table of boreholes has no layers, kinds and codes to choose by")
    own = table.stated
    transformation, _, findings = settled(file, own, claim or Claim(), site)
    numbers = [_numbers(table, name) for name in ("easting", "northing", "ground", "depth" if by_depth else "top")]
    places = transformation.places(np.column_stack(numbers[:3]))
    heights = np.column_stack(numbers[:2] + [numbers[2] - numbers[3] if by_depth else numbers[3]])
    tops = transformation.places(heights)[:, 2]
    return Boreholes.of(_holes(table, places, tops), materials), findings


def _numbers(table: FieldTable, name: str) -> Floats:
    values = table.numbers(name)
    bad = np.flatnonzero(~np.isfinite(values))
    if len(bad):
        text = table.texts(name)[bad[0]]
        raise DataError(f"{table.path} line {table.line_of[bad[0]]}: {name} is {str(text)!r}; it must be a number")
    return values


def _holes(table: FieldTable, places: Floats, tops: Floats) -> list[Borehole]:
    names, materials = table.texts("hole"), table.texts("material")
    rows: dict[str, list[int]] = {}
    for k, name in enumerate(names.tolist()):
        if not str(name).strip():
            raise DataError(f"{table.path} line {table.line_of[k]}: the hole has no name")
        rows.setdefault(str(name).strip(), []).append(k)
    out = []
    for name, own in rows.items():
        where = f"{table.path.name} line {table.line_of[own[0]]}"
        apart = [k for k in own if (places[k] != places[own[0]]).any()]
        if apart:
            raise DataError(f"{table.path} line {table.line_of[apart[0]]}: hole {name} is at another place in {where}")
        ordered = sorted(own, key=lambda k: -tops[k])
        met = [(str(materials[k]).strip(), float(tops[k])) for k in ordered]
        ends = [top for material, top in met if material.lower() == _END]
        if len(ends) > 1:
            raise DataError(f"{table.path} line {table.line_of[own[0]]}: hole {name} ends twice")
        kept = tuple((material, top) for material, top in met if material.lower() != _END)
        if any(not material for material, _ in kept):
            raise DataError(f"{table.path} line {table.line_of[own[0]]}: hole {name} has a row without a material")
        x, y, z = places[own[0]].tolist()
        out.append(
            Borehole(name=name, easting=x, northing=y, ground=z, tops=kept, end=ends[0] if ends else None, where=where)
        )
    return out
