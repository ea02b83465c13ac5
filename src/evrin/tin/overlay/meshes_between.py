"""Two meshes made ready to be walked together, and what lies between them."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np

from evrin.kernels import Floats
from evrin.tin.overlay import overlay
from evrin.tin.overlay.overlap import walker_through
from evrin.tin.overlay.overlap_arrays import Layer

# Sums are added up part by part, in this order; so they do not depend on how many parts run at once.
_PARTS = 2


@dataclass(frozen=True, eq=False)
class Between:
    """What lies between two meshes.

    Attributes
    ----------
    totals : (FIELDS,) float64
        See `evrin.tin.overlay.overlay.FIELDS`.
    first_weights, other_weights : (2, n) float64
        By vertex of each mesh, how much volume above and below changes with its height; empty where not asked for.
    """

    totals: Floats
    first_weights: Floats
    other_weights: Floats


def exact_origin(*places: Floats) -> Floats:
    """Return what can be taken from the first two columns of all arrays without rounding, to make numbers smaller."""
    low = np.min([each[:, :2].min(axis=0) for each in places], axis=0)
    high = np.max([each[:, :2].max(axis=0) for each in places], axis=0)
    return np.where(low > 0.0, np.floor(low), np.where(high < 0.0, np.ceil(high), 0.0))


def no_cells() -> overlay.Cells:
    """Return cells that limit nothing, for where a kernel asks for some."""
    none = np.zeros((1, 4))
    layer = Layer(
        np.zeros((3, 3)), np.zeros((1, 3), np.int32), np.full(3, -1, np.int32), np.zeros(1, np.int64), none,
        np.array([0, 1], np.int64), np.ones(1, np.bool_),
    )  # fmt: skip
    return overlay.Cells(layer, np.zeros(1, np.bool_), np.zeros(1))


def between(
    first: Layer,
    other: Layer,
    cells: overlay.Cells | None = None,
    *,
    tolerance: float = 0.0,
    weights: bool = False,
) -> Between:
    """Return what lies between two meshes, everywhere both exist or within cells.

    Parameters
    ----------
    first, other : Layer
        In coordinates of one origin; *other* above *first* counts as above.
    cells : Cells, optional
    tolerance : float
        Differences of heights up to this are no change.
    weights : bool
        Whether to return the weights of vertices.

    Returns
    -------
    Between
        The same bit for bit on any number of threads.
    """
    count = len(first.triangles)
    bounds = np.linspace(0, count, _PARTS + 1).astype(np.int64)
    limits = cells if cells is not None else no_cells()
    rows = (count, len(other.triangles)) if weights else (0, 0)
    parts = [overlay.Sums(np.zeros((overlay.FIELDS, 2)), np.zeros((rows[0], 6)), np.zeros((rows[1], 6)))]
    parts += [part._replace(totals=np.zeros((overlay.FIELDS, 2)), of_other=np.zeros((rows[1], 6))) for part in parts]

    def run(number: int) -> None:
        overlay.add_between(
            first,
            int(bounds[number]),
            int(bounds[number + 1]),
            other,
            walker_through(len(other.triangles)),
            overlay.new_room(),
            cells is not None,
            limits,
            walker_through(len(limits.layer.triangles)),
            tolerance,
            parts[number],
        )

    in_parallel(run, _PARTS)
    totals = np.zeros((overlay.FIELDS, 2))
    for part in parts:
        totals += part.totals
    whole = Between(totals.sum(axis=1), np.empty((2, 0)), np.empty((2, 0)))
    if not weights:
        return whole
    of_first, of_other = np.zeros((2, len(first.vertices))), np.zeros((2, len(other.vertices)))
    overlay.weights_of_vertices(first.vertices, first.triangles, parts[0].of_subject, of_first)
    of_others = parts[0].of_other + parts[1].of_other
    overlay.weights_of_vertices(other.vertices, other.triangles, of_others, of_other)
    return Between(whole.totals, of_first, of_other)


def in_parallel(run: Callable[[int], None], parts: int) -> None:
    """Run numbered parts side by side; the first error of any is raised."""
    with ThreadPoolExecutor(parts) as pool:
        for done in [pool.submit(run, number) for number in range(parts)]:
            done.result()


def area_within(layer: Layer, cells: overlay.Cells) -> float:
    """Return the plan area of a mesh that lies in cells that count."""
    totals = np.zeros((1, 2))
    overlay.area_in_cells(layer, cells, walker_through(len(cells.layer.triangles)), overlay.new_room(), totals)
    return float(totals.sum())
