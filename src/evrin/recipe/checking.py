"""Check points that a recipe names, beside the surface it builds."""

from __future__ import annotations

from pathlib import Path

from evrin.analysis import CheckPoints, check_points
from evrin.errors import DataError
from evrin.recipe.opening import open_source
from evrin.recipe.schema import CheckPointFile, Site, Source
from evrin.surface import Surface
from evrin.survey import Refusal

Checked = list[tuple[str, CheckPoints]]


def checked_points(
    folder: Path, tables: tuple[CheckPointFile, ...], site: Site, surface: Surface
) -> tuple[Checked, list[Refusal]]:
    """Compare a surface with the check points of each table that is on; return refused rows as well.

    Raises
    ------
    DataError
        Where a file cannot be read, or holds no check point.
    """
    out: Checked = []
    refused: list[Refusal] = []
    for table in tables:
        if not table.on:
            continue
        said = {key: getattr(table, key) for key in ("file", "name", "columns", "keep", "leave_out", "units", "crs")}
        opened = open_source(folder, Source(role="points", **said), site)
        refused += opened.refused
        if len(opened.points) == 0:
            raise DataError(f"{table.file}: it holds no check point that could be used")
        numbers = opened.points.shots.numbers.tolist()
        names = [number or str(k) for k, number in enumerate(numbers, 1)]
        out.append((opened.name, check_points(surface, opened.points.xyz, names, table.tolerance)))
    return out, refused
