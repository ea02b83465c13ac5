"""The arrays of a mesh."""

from typing import NamedTuple

from evrin.kernels import Flags, FloatRows, Floats, Ints, Mutable


class MeshArrays(NamedTuple):
    """The arrays of a mesh, as kernels take them.

    Attributes
    ----------
    xy : (v, 2) float64
    z : (v,) float64
        NaN where a vertex has no height.
    corner : (6 v,) int32
        Vertex at the tail of each half-edge, three to a triangle; OUTSIDE for the one at infinity.
    mate : (6 v,) int32
        Half-edge on the other side.
    fixed : (6 v,) int32
        Line that each half-edge transforms, with the bits of `flips.SIDES`; 0 for a free edge.
    spoke : (v,) int32
        A half-edge that leaves each vertex.
    alive : (2 v,) bool
        Triangles that are part of the surface.
    """

    xy: Mutable[FloatRows]
    z: Mutable[Floats]
    corner: Mutable[Ints]
    mate: Mutable[Ints]
    fixed: Mutable[Ints]
    spoke: Mutable[Ints]
    alive: Mutable[Flags]
