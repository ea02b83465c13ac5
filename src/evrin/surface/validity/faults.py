"""The law that every surface keeps, and where one breaks it: asked exactly, at any size of overlap."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Literal, NamedTuple

import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components

from evrin.base.wording import counted
from evrin.kernels import Flags, FloatRows, Floats, Indices, IntRows, Mutable, as_index, lean_kernel
from evrin.surface.surface import Surface
from evrin.tin.exact.curve_order import distinct_places
from evrin.tin.overlay.overlap import mark_upright, next_overlap, start_subject, walker_through
from evrin.tin.overlay.overlap_arrays import Layer, Walker

FaultKind = Literal["not-finite", "numbers", "turned", "edges", "covers-twice", "same-place"]

# Vertices of one place whose heights differ by no more are one vertex made twice.
_ONE_HEIGHT = 1e-6

_WHAT: dict[str, str] = {
    "not-finite": "{} without finite coordinates",
    "numbers": "{} that name a vertex twice, or one that there is not",
    "turned": "{} that are neither counter-clockwise nor upright",
    "edges": "{} with an edge that another runs through in the same direction",
    "covers-twice": "{} that share area with another",
    "same-place": "{} at the place of another, with no upright face between them",
}


@dataclass(frozen=True, eq=False)
class Fault:
    """One way in which a surface breaks the law, with everything that does.

    Attributes
    ----------
    kind : str
        ``not-finite``, ``numbers``, ``turned``, ``edges``, ``covers-twice`` or ``same-place``.
    rows : (k,) int64
        Triangles; vertices where it is ``not-finite`` or ``same-place``.
    places : (k, 2) float64
        Where each is: the vertex, or the middle of the triangle.

    Examples
    --------
    >>> import evrin
    >>> twice = evrin.Surface.from_arrays([[0, 0, 1], [4, 0, 1], [0, 4, 1], [3, 3, 2]], [[0, 1, 2], [0, 1, 3]])
    >>> for fault in twice.faults():
    ...     print(fault)
    1 triangle with an edge that another runs through in the same direction, first at 2.333, 1.000
    2 triangles that share area with another, first at 1.333, 1.333
    """

    kind: FaultKind
    rows: Indices
    places: Floats

    def __str__(self) -> str:
        thing = ("vertex", "vertices") if self.kind in ("not-finite", "same-place") else ("triangle",)
        x, y = self.places[0].tolist()
        return f"{_WHAT[self.kind].format(counted(len(self.rows), *thing))}, first at {x:.3f}, {y:.3f}"


def faults(surface: Surface) -> list[Fault]:
    """Return where a surface is not what each surface must be; nothing where it is: `Surface.faults`."""
    return list(_found(surface))


def _found(surface: Surface) -> Iterator[Fault]:
    vertices, triangles = surface.vertices, surface.triangles
    bad = np.flatnonzero(~np.isfinite(vertices).all(axis=1))
    if len(bad):
        yield Fault("not-finite", bad, vertices[bad, :2])
        return
    wrong = ((triangles < 0) | (triangles >= len(vertices))).any(axis=1)
    wrong |= (triangles == np.roll(triangles, 1, axis=1)).any(axis=1)
    if wrong.any():
        rows = np.flatnonzero(wrong)
        yield Fault("numbers", rows, np.full((len(rows), 2), np.nan))
        return
    flat, upright = _flat_and_upright(surface)
    yield from _of_triangles(surface, "turned", flat & ~upright)
    yield from _of_triangles(surface, "edges", _shares_an_edge(vertices, triangles, upright))
    yield from _of_triangles(surface, "covers-twice", shared_ground(surface).triangles)
    again = _at_one_place(surface, triangles[upright])
    if len(again):
        yield Fault("same-place", again, vertices[again, :2])


def folded(surface: Surface) -> Indices:
    """Return the triangles that run through an edge in the direction in which one before them does: they lie over it.

    Examples
    --------
    >>> import evrin
    >>> twice = evrin.Surface.from_arrays([[0, 0, 1], [4, 0, 1], [0, 4, 1], [3, 3, 2]], [[0, 1, 2], [0, 1, 3]])
    >>> folded(twice).tolist()
    [1]
    """
    _, upright = _flat_and_upright(surface)
    return np.flatnonzero(_shares_an_edge(surface.vertices, surface.triangles, upright))


def _flat_and_upright(surface: Surface) -> tuple[Flags, Flags]:
    flat = np.empty(len(surface.triangles), np.bool_)
    mark_upright(surface.vertices, surface.triangles, flat)
    upright = flat.copy()
    upright[flat] = _is_upright(surface.vertices, surface.triangles[flat])
    return flat, upright


def _of_triangles(surface: Surface, kind: FaultKind, is_faulty: Flags) -> Iterator[Fault]:
    rows = np.flatnonzero(is_faulty)
    if len(rows):
        yield Fault(kind, rows, surface.vertices[surface.triangles[rows], :2].mean(axis=1))


def _is_upright(vertices: Floats, triangles: IntRows) -> Flags:
    """Whether two corners are one above the other, and the third is elsewhere."""
    places = vertices[triangles, :2]
    same = (places == np.roll(places, -1, axis=1)).all(axis=2).sum(axis=1)
    out: Flags = same == 1
    return out


def _shares_an_edge(vertices: Floats, triangles: IntRows, upright: Flags) -> Flags:
    """Whether an edge of a triangle is run through in the same direction by one before it."""
    tail, head = triangles.ravel(), np.roll(triangles, -1, axis=1).ravel()
    half = np.arange(len(tail))
    if upright.any():
        # Where several steps meet, their faces share the edge from height to height.
        has_length = np.ones(len(tail), np.bool_)
        on = np.flatnonzero(np.repeat(upright, 3))
        has_length[on] = (vertices[tail[on], :2] != vertices[head[on], :2]).any(axis=1)
        half = np.flatnonzero(has_length)
    keys = tail[half].astype(np.int64) * len(vertices) + head[half]
    out = np.zeros(len(triangles), np.bool_)
    ordered = np.sort(keys)
    if (ordered[1:] == ordered[:-1]).any():
        order = np.argsort(keys, kind="stable")
        out[half[order[1:][keys[order[1:]] == keys[order[:-1]]]] // 3] = True
    return out


class Shared(NamedTuple):
    """Ground that triangles share.

    Attributes
    ----------
    triangles : (m,) bool
        Which share any with another.
    widest : (3,) float64
        Easting and northing of the middle of the widest piece, and its width.
    """

    triangles: Mutable[Flags]
    widest: Mutable[Floats]


def shared_ground(surface: Surface) -> Shared:
    """Return which triangles of a surface share area with another, however little; see `faults`."""
    flat = np.empty(len(surface.triangles), np.bool_)
    mark_upright(surface.vertices, surface.triangles, flat)
    mates = surface.mates.reshape(-1, 3)
    is_free = (mates < 0) | flat[mates // 3]
    candidates = np.flatnonzero(is_free.any(axis=1) & ~flat)
    locator = surface.locator
    layer = Layer(
        vertices=surface.vertices,
        triangles=surface.triangles,
        mate=surface.mates,
        order=locator.order,
        boxes=locator.boxes,
        levels=locator.levels,
        is_upright=flat,
    )
    out = Shared(np.zeros(len(flat), np.bool_), np.zeros(3))
    while len(candidates):
        before = out.triangles.copy()
        mark_sharing(layer, candidates, walker_through(len(flat)), np.empty((3, 3)), out)
        # What they share ground with may share some with others.
        candidates = np.flatnonzero(out.triangles & ~before)
    return out


@lean_kernel
def mark_sharing(layer: Layer, candidates: Indices, walker: Walker, face: Mutable[FloatRows], out: Shared) -> None:
    """Mark triangles that share area with one of some candidates, and those candidates."""
    places = walker.piece.places
    for row in range(candidates.shape[0]):
        t = candidates[row]
        for k in range(3):
            for axis in range(3):
                face[k, axis] = layer.vertices[layer.triangles[t, k], axis]
        start_subject(layer, walker, face, as_index(3))
        # What lies over it need not be joined to it.
        walker.state[1] = 1
        while True:
            s, size = next_overlap(layer, walker, face, as_index(3))
            if s < 0:
                break
            if s == t:
                continue
            out.triangles[s] = out.triangles[t] = True
            twice, around, east, north = 0.0, 0.0, 0.0, 0.0
            for k in range(size):
                before = k - 1 if k > 0 else size - 1
                ax, ay = places[before, 0] - face[0, 0], places[before, 1] - face[0, 1]
                bx, by = places[k, 0] - face[0, 0], places[k, 1] - face[0, 1]
                twice += ax * by - ay * bx
                around += np.hypot(bx - ax, by - ay)
                east, north = east + bx / size, north + by / size
            # Of a long strip its width, of a compact piece about half of it.
            if around > 0.0 and twice / around > out.widest[2]:
                out.widest[0], out.widest[1], out.widest[2] = face[0, 0] + east, face[0, 1] + north, twice / around


def _at_one_place(surface: Surface, upright: IntRows) -> Indices:
    """Vertices at the place of others to which no upright faces join them, but where pieces of ground only touch."""
    vertices, count = surface.vertices, len(surface.vertices)
    order, starts = distinct_places(np.ascontiguousarray(vertices[:, :2]))
    sizes = np.diff(starts)
    if (sizes == 1).all():
        return np.empty(0, np.int64)
    place = np.empty(count, np.int64)
    place[order] = np.repeat(np.arange(len(sizes)), sizes)
    ends = np.stack((upright, np.roll(upright, -1, axis=1)), axis=2).reshape(-1, 2)
    ends = ends[place[ends[:, 0]] == place[ends[:, 1]]]
    links = coo_array((np.ones(len(ends), np.int8), (ends[:, 0], ends[:, 1])), shape=(count, count))
    piece = connected_components(links, directed=False)[1].astype(np.int64)
    # Vertices that upright faces join to the first one at their place are right.
    apart = np.flatnonzero(piece != piece[order[starts[:-1]]][place])
    at_open_step = _ends_of_open_steps(surface, place)
    wrong = [v for v in apart.tolist() if at_open_step[v] or _has_double(vertices, piece, order, starts, place, v)]
    return np.array(wrong, np.int64)


def _has_double(vertices: Floats, piece: Indices, order: Indices, starts: Indices, place: Indices, v: int) -> bool:
    """Whether another vertex, not joined to one, is at its place and height."""
    here = order[starts[place[v]] : starts[place[v] + 1]]
    others = here[piece[here] != piece[v]]
    return bool((np.abs(vertices[others, 2] - vertices[v, 2]) <= _ONE_HEIGHT).any())


def _ends_of_open_steps(surface: Surface, place: Indices) -> Flags:
    """Which vertices are ends of edges on the rim that run over one another, with no faces between them."""
    triangles, count = surface.triangles, int(place.max()) + 1
    half = np.flatnonzero(surface.mates < 0)
    tail, head = triangles.ravel()[half], np.roll(triangles, -1, axis=1).ravel()[half]
    there, back = place[tail] * count + place[head], place[head] * count + place[tail]
    is_open = np.isin(there, back) & (place[tail] != place[head])
    out = np.zeros(len(place), np.bool_)
    out[tail[is_open]] = out[head[is_open]] = True
    return out
