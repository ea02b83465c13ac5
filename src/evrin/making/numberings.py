"""The numberings between the row of a file and the vertex of a surface, as types, so that none passes for another.

A *row* counts all rows that the sources of a recipe give, source after source. An *input row* counts what is
triangulated: the points first, then the vertices of each line in turn. A *mesh vertex* is a vertex of the working mesh,
which numbers them once and for all; a *surface vertex* counts those that are left when the surface is read off. In each
array -1 stands for none.
"""

from __future__ import annotations

from typing import NewType

from evrin.kernels import Indices

InputRowOfRow = NewType("InputRowOfRow", Indices)
RowOfInputRow = NewType("RowOfInputRow", Indices)
MeshVertexOfInputRow = NewType("MeshVertexOfInputRow", Indices)
MeshVertexOfRow = NewType("MeshVertexOfRow", Indices)
SurfaceVertexOfMeshVertex = NewType("SurfaceVertexOfMeshVertex", Indices)
SurfaceVertexOfRow = NewType("SurfaceVertexOfRow", Indices)
