"""Two builds side by side: their recipes, findings, tallies and heights."""

from __future__ import annotations

import difflib
from dataclasses import dataclass
from typing import Any

import pandas as pd

from evrin.analysis.differences import Difference, difference
from evrin.check import Finding
from evrin.recipe.build import Build
from evrin.surface import Surface
from evrin.tolerances import SAME_FINDING


@dataclass(frozen=True, eq=False)
class Comparison:
    """What differs between two variants.

    Attributes
    ----------
    names : (str, str)
    surfaces : (Surface, Surface)
    lines : list of str
        Lines of the recipes that differ, after ``-`` in the first and ``+`` in the second.
    only_first, only_second : list of Finding
        Findings that only one of them has.
    tally : DataFrame
        A row a column of the tally: ``first``, ``second``, ``change``.
    difference : Difference
        How far the second surface is above the first.

    Examples
    --------
    >>> import evrin
    >>> from evrin.demo import small_site
    >>> build = evrin.Recipe.read(small_site()).build()
    >>> found = build.compare(build)
    >>> found.lines, found.only_first
    ([], [])
    """

    names: tuple[str, str]
    surfaces: tuple[Surface, Surface]
    lines: list[str]
    only_first: list[Finding]
    only_second: list[Finding]
    tally: pd.DataFrame
    difference: Difference

    def figures(self) -> list[tuple[str, str]]:
        """Return the difference in figures: what, and how much.

        Returns
        -------
        list of (str, str)
        """
        unit, far = self.surfaces[0].units, self.difference.largest
        return [
            ("mean difference, second above first", f"{self.difference.mean:+.4f} {unit}"),
            ("root mean square", f"{self.difference.rms:.4f} {unit}"),
            ("largest", f"{far[0]:+.3f} {unit} at {far[1]:.2f}, {far[2]:.2f}"),
            ("area that differs by more than 1 mm", f"{self.difference.changed_area:,.0f} {unit}²"),
            ("area only in the first", f"{self.difference.only_first:,.0f} {unit}²"),
            ("area only in the second", f"{self.difference.only_second:,.0f} {unit}²"),
        ]

    def record(self) -> dict[str, Any]:
        """Return names, lines of the recipes and heights as plain values.

        Returns
        -------
        dict
        """
        far = self.difference.largest
        return {
            "first": self.names[0],
            "second": self.names[1],
            "lines": self.lines,
            "mean": self.difference.mean,
            "rms": self.difference.rms,
            "largest": {"height": far[0], "easting": far[1], "northing": far[2]},
            "changed_area": self.difference.changed_area,
            "area_only_first": self.difference.only_first,
            "area_only_second": self.difference.only_second,
        }


def compare(first: Build, second: Build, names: tuple[str, str] | None = None) -> Comparison:
    """Compare two builds: their recipes, findings, tallies and heights.

    Parameters
    ----------
    first, second : Build
    names : (str, str), optional
        The names of their recipes if not given.

    Returns
    -------
    Comparison

    Raises
    ------
    DataError
        Where the two surfaces are in unlike units or reference systems.

    Examples
    --------
    >>> import evrin
    >>> from evrin.demo import small_site
    >>> build = evrin.Recipe.read(small_site()).build()
    >>> evrin.compare(build, build).difference.rms
    0.0
    """
    called = names or (_name_of(first, "first"), _name_of(second, "second"))
    return Comparison(
        called,
        (first.surface, second.surface),
        [line for line in _changes(first.text, second.text, *called) if line.strip()],
        _only(first.findings, second.findings, first.surface.units),
        _only(second.findings, first.findings, first.surface.units),
        _tallies(first.tally, second.tally),
        difference(first.surface, second.surface),
    )


def _name_of(build: Build, otherwise: str) -> str:
    return build.path.name if build.path is not None else otherwise


def _changes(one: str, other: str, name: str, other_name: str) -> list[str]:
    return list(difflib.unified_diff(one.splitlines(), other.splitlines(), name, other_name, lineterm="", n=1))


def _only(findings: list[Finding], others: list[Finding], units: str) -> list[Finding]:
    """Findings without a counterpart of the same code, message and state at the same place."""
    reach = SAME_FINDING.in_units(units)
    return [finding for finding in findings if not any(_is_same(finding, other, reach) for other in others)]


def _is_same(one: Finding, other: Finding, reach: float) -> bool:
    if (one.code, one.message, one.is_open) != (other.code, other.message, other.is_open):
        return False
    if one.place is None or other.place is None:
        return one.place is other.place
    return all(abs(a - b) <= reach for a, b in zip(one.place, other.place, strict=True))


def _tallies(first: pd.DataFrame, second: pd.DataFrame) -> pd.DataFrame:
    one, other = (table.drop(columns="source").iloc[-1] for table in (first, second))
    rows = [
        {"items": name, "first": int(one[name]), "second": int(other[name]), "change": int(other[name] - one[name])}
        for name in one.index
    ]
    return pd.DataFrame(rows)
