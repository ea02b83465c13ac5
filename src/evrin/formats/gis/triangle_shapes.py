"""Triangulated shapes, as multipatches hold them, written as the polygons that they consist of.

Reference: OGC 06-103r4, *Simple Feature Access*, 8.2 (well-known binary): a triangle is laid out like a polygon, and a
TIN or a polyhedral surface like a collection of polygons.
"""

from __future__ import annotations

import struct

import numpy as np

_POLYGON, _POLYGONS = 3, 6
_TRIANGULATED, _HOLDING = (15, 16, 17), (6, 7, 15, 16)
_OF_FLAG = 0x80000000


def as_polygons(geometry: np.ndarray) -> np.ndarray:
    """Return shapes in well-known binary, triangulated ones as polygons; others are the same objects.

    Parameters
    ----------
    geometry : (n,) object
        Bytes of each shape, or None.
    """
    out = np.empty(len(geometry), object)
    out[:] = [_as_polygons(shape) if isinstance(shape, bytes) else shape for shape in geometry.tolist()]
    return out


def _as_polygons(shape: bytes) -> bytes:
    try:
        if not _is_triangulated(shape):
            return shape
        polygons, dimensions, _ = _polygons_from(shape, 0)
    except (struct.error, KeyError, IndexError):
        # What is damaged is left to the reader of shapes, which refuses it.
        return shape
    return struct.pack("<BII", 1, _POLYGONS + dimensions, len(polygons)) + b"".join(polygons)


def _is_triangulated(shape: bytes) -> bool:
    """Whether a shape is a triangle, a TIN or a polyhedral surface, or a collection that begins with one."""
    _, kind, _ = _kind_at(shape, 0)
    return kind in _TRIANGULATED or (kind == 7 and len(shape) > 18 and _kind_at(shape, 9)[1] in _TRIANGULATED)


def _kind_at(shape: bytes, at: int) -> tuple[str, int, int]:
    """Byte order, kind without dimensions, and the thousands that state the dimensions."""
    order = "<" if shape[at] == 1 else ">"
    (stated,) = struct.unpack_from(f"{order}I", shape, at + 1)
    if stated & _OF_FLAG:
        return order, stated & 0xFF, 1000
    return order, stated % 1000, stated - stated % 1000


def _polygons_from(shape: bytes, at: int) -> tuple[list[bytes], int, int]:
    """The polygons of a shape that begins somewhere, their dimensions, and where it ends."""
    order, kind, dimensions = _kind_at(shape, at)
    if kind in _HOLDING:
        (count,) = struct.unpack_from(f"{order}I", shape, at + 5)
        out: list[bytes] = []
        at += 9
        for _ in range(count):
            polygons, dimensions, at = _polygons_from(shape, at)
            out += polygons
        return out, dimensions, at
    if kind not in (_POLYGON, 17):
        raise KeyError(kind)
    end = _end_of_polygon(shape, at, order, dimensions)
    head = shape[at : at + 1] + struct.pack(f"{order}I", _POLYGON + dimensions)
    return [head + shape[at + 5 : end]], dimensions, end


def _end_of_polygon(shape: bytes, at: int, order: str, dimensions: int) -> int:
    width = 8 * (2 + {0: 0, 1000: 1, 2000: 1, 3000: 2}[dimensions])
    (rings,) = struct.unpack_from(f"{order}I", shape, at + 5)
    at += 9
    for _ in range(rings):
        (points,) = struct.unpack_from(f"{order}I", shape, at)
        at += 4 + width * points
        if at > len(shape):
            raise struct.error("a ring is cut short")
    return at
