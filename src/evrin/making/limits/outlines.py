"""Outlines: a surface's own edge, and a tight one round any points and lines."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import ArrayLike

from evrin.base.errors import DataError
from evrin.kernels import Floats
from evrin.making.from_arrays import as_line, as_points
from evrin.making.triangulation import Triangulation
from evrin.surface.surface import SourceLine, Surface
from evrin.tin.mesh import carving
from evrin.tin.mesh.working_mesh import Mesh

_ROUNDS = 40


def outline(surface: Surface) -> list[Floats]:
    """Return a surface's own edge as closed 3-D lines (k, 3), ground on the left; the first vertex is not repeated.

    Parameters
    ----------
    surface : Surface
        The surface to start from.

    Returns
    -------
    list of (k, 3) float64

    Examples
    --------
    >>> import evrin
    >>> square = evrin.triangulate([[0, 0, 1], [4, 0, 1], [4, 4, 2], [0, 4, 2]])
    >>> outline(square)[0].tolist()
    [[0.0, 0.0, 1.0], [4.0, 0.0, 1.0], [4.0, 4.0, 2.0], [0.0, 4.0, 2.0]]
    """
    return [surface.vertices[loop] for loop in surface.rim()]


def as_lines(rings: Sequence[Floats], name: str) -> list[SourceLine]:
    """Return rings as closed lines with names of their own, to be written or drawn.

    Parameters
    ----------
    rings : Sequence[Floats]
        Closed rings.
    name : str
        What the lines are called, with a number if there are several.

    Returns
    -------
    list[SourceLine]

    Examples
    --------
    >>> import evrin
    >>> field = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]], name="field")
    >>> from evrin.making import as_lines, outline
    >>> [line.name for line in as_lines(outline(field), "edge")]
    ['edge']
    """
    several = len(rings) > 1
    return [SourceLine(f"{name} {k}" if several else name, ring, True) for k, ring in enumerate(rings, 1)]


def outline_round(
    points: ArrayLike, lines: Sequence[ArrayLike] = (), longest_edge: float | None = None
) -> list[Floats]:
    """Return a tight outline around points and lines.

    They are triangulated, and those with a free edge longer than *longest_edge* are removed from the rim inwards;
    what bounds the rest is the outline.

    Parameters
    ----------
    points : (n, 3) array_like
        What the outline is drawn around.
    lines : sequence of (k, 2) or (k, 3) array_like
        The outline does not cross them.
    longest_edge : float, optional
        The shortest that still leaves one piece with every point in it, if not given.

    Returns
    -------
    list of (k, 3) float64
        Closed rings, anticlockwise round ground and clockwise round holes, the first vertex not repeated.

    Raises
    ------
    DataError
        Where nothing is left inside.
    GeometryError
        Where there are fewer than three places, or all lie on one line.

    Examples
    --------
    >>> ell = [[x, y, 0] for x in range(6) for y in range(6) if x < 2 or y < 2]
    >>> ring = outline_round(ell)[0]
    >>> float(abs(0.5 * (ring[:, 0] * np.roll(ring[:, 1], -1) - np.roll(ring[:, 0], -1) * ring[:, 1]).sum()))
    9.0
    """
    firm = as_points(points)
    work = Triangulation(firm, [as_line(line, f"line {k}") for k, line in enumerate(lines)])
    limit = longest_edge if longest_edge is not None else _tightest(work)
    work.mesh.trim(limit)
    if not work.mesh.alive[: work.mesh.triangle_count].any():
        raise DataError(f"a longest edge of {limit:g} leaves nothing; give a longer one")
    return outline(work.surface()[0])


def _tightest(work: Triangulation) -> float:
    """The shortest longest edge that leaves one piece with every vertex in it, by halving among the edges."""
    mesh = work.mesh
    whole = mesh.alive.copy()
    corners = mesh.corner[: 3 * mesh.triangle_count].reshape(-1, 3)
    every = np.unique(corners[whole[: mesh.triangle_count]])
    sides = mesh.xy[corners[whole[: mesh.triangle_count]]]
    lengths = np.unique(np.hypot(*np.moveaxis(np.roll(sides, -1, axis=1) - sides, 2, 0)))
    low, high = 0, len(lengths) - 1
    for _ in range(_ROUNDS):
        if low >= high:
            break
        middle = (low + high) // 2
        mesh.trim(float(lengths[middle]))
        left = np.unique(corners[mesh.alive[: mesh.triangle_count]])
        holds_all = len(left) == len(every) and _is_one_piece(mesh)
        mesh.alive[:] = whole
        if holds_all:
            high = middle
        else:
            low = middle + 1
    return float(lengths[high])


def _is_one_piece(mesh: Mesh) -> bool:
    label = np.empty(mesh.triangle_count, np.int32)
    return int(carving.parts(mesh.arrays, mesh.triangle_count, label)) == 1
