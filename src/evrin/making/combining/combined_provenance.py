"""Where the vertices of a surface that was made out of others came from."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from evrin.kernels import Indices
from evrin.making.patches.arranging import NOWHERE
from evrin.surface.provenance import Provenance, Shots
from evrin.surface.surface import Surface


def provenance_of(rows: Indices, surfaces: Sequence[Surface], words: str) -> Provenance:
    """Return what is known of vertices, by their rows in all surfaces, one after the other.

    Parameters
    ----------
    rows : (n,) int64
        -1 for a vertex that was made.
    surfaces : sequence of Surface
        A vertex of one without shots is named after it.
    words : str
        What a vertex that was made is.
    """
    shots: list[Shots] = []
    shot_of: list[np.ndarray] = []
    made: dict[int, str] = {}
    changed: dict[int, str] = {}
    first_shot = first_row = 0
    number_of = np.full(sum(len(surface.vertices) for surface in surfaces), NOWHERE, np.int64)
    number_of[rows[rows >= 0]] = np.flatnonzero(rows >= 0)
    for surface in surfaces:
        count, provenance = len(surface.vertices), surface.provenance
        if provenance is None:
            shots.append(Shots.of_file(surface.name, np.arange(1, count + 1), word="vertex"))
            shot_of.append(first_shot + np.arange(count))
        else:
            shots.append(provenance.shots)
            shot_of.append(np.where(provenance.shot_of >= 0, provenance.shot_of + first_shot, NOWHERE))
            for target, source in ((made, provenance.made), (changed, provenance.changed)):
                for v, what in source.items():
                    if number_of[first_row + v] >= 0:
                        target[int(number_of[first_row + v])] = what
        first_shot += len(shots[-1])
        first_row += count
    of_row = np.append(np.concatenate(shot_of), NOWHERE)
    made |= dict.fromkeys(np.flatnonzero(rows < 0).tolist(), words)
    return Provenance(Shots.joined(shots), of_row[rows].astype(np.int32), made, changed)
