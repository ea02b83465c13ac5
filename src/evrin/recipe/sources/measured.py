"""Points measured independently, read and compared with a surface: one way for recipes, commands and Python."""

from __future__ import annotations

from pathlib import Path
from typing import NamedTuple

from evrin.analysis.quality.check_point_fit import CheckPoints, check_points
from evrin.base.errors import DataError
from evrin.check import Finding
from evrin.recipe.sources.frame_findings import off_surface
from evrin.recipe.sources.source_reading import open_source
from evrin.recipe.sources.source_table import Source
from evrin.surface.surface import Surface
from evrin.survey.contents import Refusal


class Measured(NamedTuple):
    """Check points compared with a surface, rows that could not be used, and what contradicts the site."""

    name: str
    checked: CheckPoints
    refused: list[Refusal]
    findings: list[Finding]


def measured_points(folder: Path, source: Source, surface: Surface, tolerance: float | None = None) -> Measured:
    """Compare a surface with the check points of a file.

    Parameters
    ----------
    folder : Path
        The file is relative to it.
    source : Source
        Of role ``points``.
    surface : Surface
        The surface to compare with.
    tolerance : float, optional
        The largest deviation that passes.

    Raises
    ------
    DataError
        Where the file cannot be read, or holds no usable check point.
    """
    opened = open_source(folder, source, surface.frame)
    if len(opened.points) == 0:
        why = f" ({opened.refused[0].where}: {opened.refused[0].reason})" if opened.refused else ""
        raise DataError(f"{source.file}: no usable check point in it{why}")
    numbers = opened.points.shots.numbers.tolist()
    names = [number or str(k) for k, number in enumerate(numbers, 1)]
    checked = check_points(surface, opened.points.xyz, names, tolerance)
    findings = opened.findings + off_surface(opened.name, opened.points.xyz, surface)
    return Measured(opened.name, checked, opened.refused, findings)
