"""Triangulated shapes, as multipatches hold them, written as the polygons that they consist of.

Reference: OGC 06-103r4, *Simple Feature Access*, 8.2 (well-known binary): a triangle is laid out like a polygon, and a
TIN or a polyhedral surface like a collection of polygons.
"""

from __future__ import annotations

import struct

import numpy as np

_POLYGON, _POLYGONS = 3, 6
_AS_POLYGON = {3: _POLYGON, 17: _POLYGON, 15: _POLYGONS, 16: _POLYGONS}


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
    if len(shape) < 9:
        return shape
    order, kind, z = _kind_at(shape, 0)
    if kind not in (15, 16, 17):
        return shape
    data = bytearray(shape)
    try:
        _set_kind(data, 0, order, kind, z)
        if kind != 17:
            (count,) = struct.unpack_from(f"{order}I", shape, 5)
            at = 9
            for _ in range(count):
                inner_order, inner, inner_z = _kind_at(shape, at)
                _set_kind(data, at, inner_order, inner, inner_z)
                at = _end_of_polygon(shape, at, inner_order, inner_z)
    except (struct.error, KeyError):
        # What is damaged is left to the reader of shapes, which refuses it.
        return shape
    return bytes(data)


def _kind_at(shape: bytes, at: int) -> tuple[str, int, int]:
    """Byte order, kind without dimensions, and the thousands that state the dimensions."""
    order = "<" if shape[at] == 1 else ">"
    (kind,) = struct.unpack_from(f"{order}I", shape, at + 1)
    return order, kind % 1000, kind - kind % 1000


def _set_kind(data: bytearray, at: int, order: str, kind: int, dimensions: int) -> None:
    struct.pack_into(f"{order}I", data, at + 1, _AS_POLYGON[kind] + dimensions)


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
