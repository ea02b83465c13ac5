"""`[[combine]]`: the built surface combined with others, and what their joins look like."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from evrin.base.errors import GeometryError
from evrin.base.json_shapes import lists, objects
from evrin.base.named_values import Row
from evrin.base.shown_table import TextTable
from evrin.check import Finding, rule
from evrin.recipe.building.after_building import Added, AfterBuilding, key_after
from evrin.recipe.building.work import Work
from evrin.recipe.steps import Phase, Step, step
from evrin.recipe.steps.check import CHECK
from evrin.recipe.tables import Kind
from evrin.recipe.tables.combine_table import CombineTable
from evrin.surface.surface import Surface

COMBINE = Kind("combine", CombineTable, listed=True)
_USUAL = 3.0

JOIN_STEP = rule(
    "join-step",
    "steps between surfaces that were combined",
    "warning",
    fix="check what both were levelled from, state band to let them meet, or accept it",
)
UNCOMBINED = rule(
    "combine-unfit",
    "surfaces that cannot be combined with this ground",
    "warning",
    fix="correct its table, or switch it off",
)


@dataclass(frozen=True)
class BuiltCombination:
    """A surface that was combined with the one built before it.

    Attributes
    ----------
    name, why : str
        What it is called, and the reason that the recipe states.
    rule : str
        Which surface is used where both are.
    parts : list of dict
        For each surface its area and triangles, and what of them is used; see
        `evrin.making.combining.combined_surfaces.Combined.parts`.
    joins : list of dict
        Length, largest and mean step of each join.

    Examples
    --------
    >>> import evrin
    >>> from evrin.demo import small_site
    >>> evrin.Recipe.read(small_site()).build().combined
    []
    """

    name: str
    why: str
    rule: str
    parts: list[Row]
    joins: list[Row]


def combined_with(work: Work, surface: Surface, parts: dict[str, str]) -> Added[BuiltCombination]:
    """Combine a surface with what each table that is on names, in turn; kept where no recipe is part of it.

    Raises
    ------
    DataError
        If a file cannot be read.
    """
    results: list[BuiltCombination] = []
    findings: list[Finding] = []
    used: list[CombineTable] = []
    for table in work.tables.on(COMBINE):
        key = key_after("combine", parts, ("accept", "volume", "combine"), [*used, table])
        kept: Row | None = work.store.load(key, dict) if key else None
        if kept is None:
            try:
                kept = _combined(table, surface, work.folder)
            except GeometryError as error:
                findings.append(UNCOMBINED.finding(None, f"{table.name or table.file}: {error}"))
                continue
            if key:
                work.store.save(key, kept)
        used.append(table)
        surface = kept["surface"]
        name = table.name or Path(table.file).stem
        results.append(BuiltCombination(name, table.why, table.rule, kept["parts"], kept["joins"]))
        usual = _USUAL * work.tables.settled(CHECK).height_tolerance
        limit = usual if table.largest_step is None else table.largest_step
        findings += _about_steps(name, kept["joins"], limit, surface.units)
    return Added(surface, results, findings)


def _combined(table: CombineTable, surface: Surface, folder: Path) -> Row:
    from evrin.formats.door.area_files import read_areas
    from evrin.formats.door.claims import Claim
    from evrin.making.combining.combined_surfaces import combine
    from evrin.recipe.handover.measuring import plain_rows, read_surface_of

    other = read_surface_of(folder / table.file, surface.frame)
    areas = read_areas([Claim.parsed(str(folder / table.within))], surface.frame)[0] if table.within else []
    combined = combine([surface, other], table.rule, areas, band=table.band, across=table.across, name=surface.name)
    joins = plain_rows(combined.table)
    for join, row in zip(combined.joins, joins, strict=True):
        worst = int(np.argmax(np.abs(join.steps)))
        row["place"] = join.points[worst, :2].tolist()
    return {"surface": combined.surface, "parts": plain_rows(combined.parts), "joins": joins}


def _about_steps(name: str, joins: list[Row], limit: float, units: str) -> list[Finding]:
    out = []
    for join in joins:
        if join["largest_step"] > limit:
            x, y = join["place"]
            sizes = f"a step of {join['largest_step']:.3f} {units}, {join['mean_step']:.3f} on the mean"
            what = f"{name}: {sizes}, over {join['length']:.1f} {units}"
            out.append(JOIN_STEP.finding((x, y), what, fix="state band, or accept it"))
    return out


def _printed(results: list[BuiltCombination], unit: str) -> list[TextTable]:
    """What is used of each surface, and the joins, for a printed build."""
    heads = ["surface, or join", f"{unit}²", "used", "triangles", "largest step", "mean"]
    tables = []
    for each in results:
        rows = [
            [row["surface"], f"{row['area']:,.1f}", f"{row['area_used']:,.1f}", f"{row['triangles_used']:,}", "", ""]
            for row in each.parts
        ]
        rows += [[join["join"], f"{join['length']:,.1f} {unit}", "", "", *_sizes(join)] for join in each.joins]
        tables.append(TextTable(heads, rows, [False] + [True] * 5, f"Combined: {each.name}"))
    return tables


def _reported(results: list[BuiltCombination], unit: str) -> list[TextTable]:
    """The same for a report."""
    heads = ["surface, or join", "area, or length", "used", f"largest step, {unit}", "mean step"]
    tables = []
    for each in results:
        rows = [
            [row["surface"], f"{row['area']:,.1f} {unit}²", f"{row['area_used']:,.1f} {unit}²", "", ""]
            for row in each.parts
        ]
        rows += [[join["join"], f"{join['length']:,.1f} {unit}", "", *_sizes(join)] for join in each.joins]
        title = f"{each.name}: the {each.rule} is used"
        tables.append(TextTable(heads, rows, [False] + [True] * 4, title, each.why))
    return tables


def _sizes(join: Row) -> list[str]:
    return [f"{join[key]:.3f}" for key in ("largest_step", "mean_step")]


COMBINED_PART = objects(texts="surface", counts="triangles triangles_used", numbers="area area_used")
_JOIN = objects(texts="join older newer", numbers="length largest_step mean_step", place=lists({"type": "number"}))

STEP = step(
    Step(
        "combine",
        223,
        Phase.CHECK,
        COMBINE,
        after=AfterBuilding(
            "combined",
            combined_with,
            BuiltCombination,
            answer=lambda each: dict(vars(each)),
            shape=objects(texts="name why rule", parts=lists(COMBINED_PART), joins=lists(_JOIN)),
            printed=_printed,
            reported=_reported,
            annex="sources",
        ),
    )
)
