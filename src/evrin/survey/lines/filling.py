"""Filling lines: more vertices where they are too far apart."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from evrin.base.errors import DataError
from evrin.making.line_division import divided
from evrin.survey.lines.strands import Strand


def filled(strand: Strand, spacing: float) -> Strand:
    """Put vertices into a line, evenly along each leg, so that none are farther apart in plan than *spacing*.

    The line keeps its course and its heights.

    Raises
    ------
    DataError
        For a spacing that is not above 0 or makes too many vertices, naming the line.

    Examples
    --------
    >>> filled(Strand.made("edge", np.array([[0.0, 0, 5], [3, 0, 8]])), 1.0).xyz[:, 2].tolist()
    [5.0, 6.0, 7.0, 8.0]
    """
    try:
        xyz, vertex_of = divided(strand.around(), spacing)
    except DataError as error:
        raise DataError(f"fill {strand.name}: {error}") from error
    if strand.closed:
        xyz, vertex_of = xyz[:-1], vertex_of[:-1]
    rows = np.where(vertex_of >= 0, strand.rows[vertex_of], -1)
    return replace(strand, xyz=xyz, rows=rows)
