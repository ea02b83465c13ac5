"""LAS and LAZ point clouds, read a part at a time.

Reference: ASPRS, *LAS Specification 1.4 – R15* (2019).
"""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from evrin.base.errors import DataError
from evrin.base.progress import reached
from evrin.formats.door.format_registry import Cloud, Format, How, begins_with, package, register
from evrin.formats.sampled.cloud_claims import check_claims
from evrin.formats.sampled.cloud_systems import stated_of
from evrin.kernels import Floats
from evrin.surface.provenance import Shots, repeated
from evrin.survey.contents import POINT, Contents, Points, Refusal

if TYPE_CHECKING:
    from laspy import LasHeader, ScaleAwarePointRecord

CHUNK = 1_000_000
_LARGEST = 1e12
_FINEST, _MOST_STEPS = 1e-9, 2**51
_POWERS = frozenset(10**k for k in range(10))


def read(path: Path, how: How) -> Contents:
    """Read a whole cloud; see `chunks` for one larger than memory.

    Raises
    ------
    DataError
        Where the file is broken, cut short, or holds no point.
    """
    header = _header(path)
    parts = list(chunks(path))
    points = Points.joined(parts)
    kind = "LAZ" if header.are_points_compressed else "LAS"
    stated, notes = stated_of(header)
    form = f"{kind} {header.version}, point format {header.point_format.id}"
    return Contents(
        path.name,
        form,
        points,
        refused=points.refused,
        notes=notes,
        stated=stated,
    )


def cloud(path: Path) -> Cloud:
    """Open a cloud, to be read by `chunks`."""
    stated, notes = stated_of(_header(path))
    return Cloud(chunks(path), stated, notes=notes)


def _header(path: Path) -> LasHeader:
    check_claims(path)
    with package("laspy").open(path) as cloud:
        return cloud.header


def chunks(path: Path) -> Iterator[Points]:
    """Read a cloud a million points at a time. Points that are marked withheld are ignored, as the format asks.

    Raises
    ------
    DataError
        Where the file ends before all its points, or holds none.
    """
    laspy = package("laspy")
    check_claims(path)
    with laspy.open(path) as cloud:
        expected, first = cloud.header.point_count, 0
        if expected == 0:
            raise DataError(f"{path}: no point in it")
        while first < expected:
            records = cloud.read_points(min(CHUNK, expected - first))
            if len(records) == 0:
                raise DataError(f"{path}: the file ends after {first:,} of {expected:,} points")
            yield _points(path, records, first)
            first += len(records)
            reached(first, expected, "points")


def _coordinates(records: ScaleAwarePointRecord, axis: int) -> Floats:
    """Coordinates along an axis: the decimal numbers that the file holds, whatever place it counts them from.

    They are stored as whole steps from an offset. Where a step is a millimetre or the like, the sum is worked out in
    steps, so that one place has one number in tiles whose offsets differ.
    """
    name, step, offset = "XYZ"[axis], float(records.scales[axis]), float(records.offsets[axis])
    power = round(1.0 / step) if _FINEST <= step <= 1.0 else 0
    first = round(offset * power) if np.isfinite(offset) else 0
    if power not in _POWERS or step != 1.0 / power or first / power != offset or abs(first) > _MOST_STEPS:
        return np.asarray(getattr(records, name.lower()), np.float64)
    return (np.asarray(getattr(records, name), np.float64) + first) / power


def _points(path: Path, records: ScaleAwarePointRecord, first: int) -> Points:
    xyz = np.column_stack([_coordinates(records, k) for k in range(3)])
    number = np.arange(first + 1, first + len(xyz) + 1)
    columns = {
        "class": np.array(records.classification, np.uint8),
        "return": np.array(records.return_number, np.uint8),
        "returns": np.array(records.number_of_returns, np.uint8),
    }
    stays = np.array(records.withheld) == 0
    # Anything odd shows in the smallest and the largest, so most clouds need not be looked at row by row.
    if not (xyz.min() >= -_LARGEST and xyz.max() <= _LARGEST):
        stays &= (np.abs(xyz) <= _LARGEST).all(axis=1)
    refused: tuple[Refusal, ...] = ()
    if not stays.all():
        at = f"{path.name} from point {int(number[~stays][0])} on"
        refused = (Refusal(at, "marked as withheld, or without a finite place", int((~stays).sum())),)
        xyz, number = xyz[stays], number[stays]
        columns = {name: column[stays] for name, column in columns.items()}
    shots = Shots.of_file(path.name, number, word="point")
    return Points(xyz, shots, refused, columns={**columns, "kind": repeated(POINT, len(xyz))})


register(Format("LAS or LAZ", (".las", ".laz"), begins_with(b"LASF"), read, cloud=cloud))
