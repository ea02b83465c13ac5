"""Two builds side by side: their recipes, findings, tallies and heights."""

from __future__ import annotations

import difflib
from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

from evrin.analysis.volumes.differences import Difference, difference
from evrin.base.named_values import Row
from evrin.base.tolerances import SAME_FINDING
from evrin.base.wording import signed, unsigned
from evrin.check import Finding
from evrin.recipe.build import Build
from evrin.surface.surface import Surface

if TYPE_CHECKING:
    import pandas as pd


@dataclass(frozen=True, eq=False)
class Comparison:
    """What differs between two variants.

    Attributes
    ----------
    names : (str, str)
        What the two are called.
    surfaces : (Surface, Surface)
        The two surfaces.
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
        one, other = self.surfaces
        return [
            ("vertices", f"{len(one.vertices):,} and {len(other.vertices):,}"),
            ("triangles", f"{len(one.triangles):,} and {len(other.triangles):,}"),
            ("breaklines and contours", f"{_lines_in(one):,} and {_lines_in(other):,}"),
            ("mean difference, second above first", f"{signed(self.difference.mean, 4)} {unit}"),
            ("root mean square", f"{unsigned(self.difference.rms, 4)} {unit}"),
            ("largest", f"{signed(far[0])} {unit} at {far[1]:.2f}, {far[2]:.2f}"),
            ("area that differs by more than 1 mm", f"{self.difference.changed_area:,.0f} {unit}²"),
            ("area only in the first", f"{self.difference.only_first:,.0f} {unit}²"),
            ("area only in the second", f"{self.difference.only_second:,.0f} {unit}²"),
        ]

    def record(self) -> Row:
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


def _lines_in(surface: Surface) -> int:
    return sum(not line.is_ring for line in surface.lines)


def compare(first: Build | Surface, second: Build | Surface, names: tuple[str, str] | None = None) -> Comparison:
    """Compare two builds: their recipes, findings, tallies and heights; of surfaces alone the heights.

    Parameters
    ----------
    first, second : Build or Surface
        What is compared.
    names : (str, str), optional
        The names of their recipes or surfaces if not given.

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
    >>> evrin.compare(build.surface, build.surface).names
    ('field', 'field')
    """
    sides = [_Side.of(each) for each in (first, second)]
    one, other = sides
    called = names or (one.name or "first", other.name or "second")
    units = one.surface.units
    both_built = one.tally is not None and other.tally is not None
    return Comparison(
        names=called,
        surfaces=(one.surface, other.surface),
        lines=[line for line in _changes(one.text, other.text, *called) if line.strip()] if both_built else [],
        only_first=_only(one.findings, other.findings, units) if both_built else [],
        only_second=_only(other.findings, one.findings, units) if both_built else [],
        tally=_tallies(one.tally, other.tally),
        difference=difference(one.surface, other.surface),
    )


@dataclass(frozen=True, eq=False)
class _Side:
    """What is compared of a build, or of a surface without one."""

    name: str
    surface: Surface
    text: str = ""
    findings: Sequence[Finding] = ()
    tally: pd.DataFrame | None = None

    @classmethod
    def of(cls, given: Build | Surface) -> _Side:
        if isinstance(given, Surface):
            return cls(given.name, given)
        name = given.path.name if given.path is not None else ""
        return cls(name, given.surface, given.text, given.findings, given.tally)


def _changes(one: str, other: str, name: str, other_name: str) -> list[str]:
    return list(difflib.unified_diff(one.splitlines(), other.splitlines(), name, other_name, lineterm="", n=1))


def _only(findings: Sequence[Finding], others: Sequence[Finding], units: str) -> list[Finding]:
    """Findings without a counterpart of the same code, message and state at the same place."""
    reach = SAME_FINDING.in_units(units)
    alike: dict[tuple[str, str, bool], list[Finding]] = defaultdict(list)
    for other in others:
        alike[(other.code, other.message, other.is_open)].append(other)
    return [
        each
        for each in findings
        if not any(_is_there(each, other, reach) for other in alike[(each.code, each.message, each.is_open)])
    ]


def _is_there(one: Finding, other: Finding, reach: float) -> bool:
    if one.place is None or other.place is None:
        return one.place is other.place
    return all(abs(a - b) <= reach for a, b in zip(one.place, other.place, strict=True))


def _tallies(first: pd.DataFrame | None, second: pd.DataFrame | None) -> pd.DataFrame:
    import pandas as pd

    if first is None or second is None:
        return pd.DataFrame({"items": [], "first": [], "second": [], "change": []})
    one, other = (table.drop(columns="source").iloc[-1] for table in (first, second))
    rows = [
        {"items": name, "first": int(one[name]), "second": int(other[name]), "change": int(other[name] - one[name])}
        for name in one.index
    ]
    return pd.DataFrame(rows)
