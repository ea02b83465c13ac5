"""The arrays of two meshes that are walked through together, and of the overlap that was found last."""

from typing import NamedTuple

from evrin.kernels import Flags, FloatRows, Floats, IndexRows, Indices, IntRows, Ints, Mutable


class Layer(NamedTuple):
    """A mesh that is walked through, and the box tree over it.

    Attributes
    ----------
    vertices : (n, 3) float64
    triangles : (m, 3) int32
    mate : (3 m,) int32
    order, boxes, levels
        As `evrin.surface.locator.Locator` has them.
    is_upright : (m,) bool
        Triangles without plan area.
    """

    vertices: FloatRows
    triangles: IntRows
    mate: Ints
    order: Indices
    boxes: FloatRows
    levels: Indices
    is_upright: Flags


class Piece(NamedTuple):
    """One overlap, and the signs that it follows from.

    Attributes
    ----------
    sides : (3, MOST_CORNERS) float64
        On which side of each edge of a triangle each corner of the subject is.
    corners : (MOST_CORNERS, 3) float64
        On which side of each side of the subject each corner of the triangle is.
    masks : (18,) int64
        The signs of both as bits.
    found : (MOST_CORNERS, 3) int64
        Of each corner of an overlap: what it is, the side or corner of the subject, that of the triangle.
    places : (MOST_CORNERS, 4) float64
        Its easting, northing, and where sides cross the parts of the subject's side and of the triangle's.
    """

    sides: Mutable[FloatRows]
    corners: Mutable[FloatRows]
    masks: Mutable[Indices]
    found: Mutable[IndexRows]
    places: Mutable[FloatRows]


class Walker(NamedTuple):
    """Room for walking through one layer.

    Attributes
    ----------
    seen : (m + 1,) int32
        By triangle, the last subject that met it; last, the current subject.
    stack : (m,) int32
        Triangles still to be looked at.
    state : (3,) int64
        How many are on the stack; whether the subject may reach over the rim; where the last subject was.
    box : (4,) float64
        Of the subject.
    piece : Piece
        The last overlap that was found.
    """

    seen: Mutable[Ints]
    stack: Mutable[Ints]
    state: Mutable[Indices]
    box: Mutable[Floats]
    piece: Piece
