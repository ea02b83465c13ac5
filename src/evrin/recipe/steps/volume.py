"""`[[volume]]`: volumes that are measured at every build, from what is kept where nothing has changed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace

from evrin.base.errors import GeometryError
from evrin.base.json_shapes import lists, mappings, objects
from evrin.base.named_values import Row
from evrin.base.shown_table import TextTable
from evrin.check import Finding, rule
from evrin.check.rules_heaps import heap_findings
from evrin.recipe.building.after_building import Added, AfterBuilding, key_after
from evrin.recipe.building.work import Work
from evrin.recipe.steps import Phase, Step, step
from evrin.recipe.steps.combine import COMBINE
from evrin.recipe.tables import Kind
from evrin.recipe.tables.volume_table import VolumeTable
from evrin.surface.surface import Surface

VOLUME = Kind("volume", VolumeTable, listed=True)

UNMEASURED = rule(
    "volume-unmeasured",
    "volumes that cannot be measured on this ground",
    "warning",
    fix="correct its table, or switch it off",
)
UNCOVERED = rule(
    "volume-uncovered",
    "volumes of which some ground is not covered by both surfaces",
    "warning",
    fix="limit it with within, or state allow_uncovered = true",
)


@dataclass(frozen=True)
class BuiltVolume:
    """A volume of a recipe.

    Attributes
    ----------
    name, why : str
        What it is called, and the reason that the recipe states.
    base, top : str
        Names of the surfaces.
    units : str
        Unit of lengths.
    rows : list of dict
        Figures by area, as `evrin.recipe.handover.measuring.MeasuredVolume.rows` has them.
    methods : list of dict
        Cut and fill by every method that the table asks for.
    before : dict of str to float or None
        Net volume of each area at the build before, where it was another; None where nothing is known of it.

    Examples
    --------
    >>> import evrin
    >>> from evrin.demo import small_site
    >>> evrin.Recipe.read(small_site()).build().volumes
    []
    """

    name: str
    why: str
    base: str
    top: str
    units: str
    rows: list[Row]
    methods: list[Row] = field(default_factory=list)
    before: dict[str, float] | None = None


def volumes_of(work: Work, surface: Surface, parts: dict[str, str]) -> Added[BuiltVolume]:
    """Measure what each table that is on asks for; kept where no recipe is part of it.

    Raises
    ------
    DataError
        If a file cannot be read, or surfaces are in unlike units or systems.
    """
    from evrin.recipe.handover.measuring import measured_volume, plain_rows

    results: list[BuiltVolume] = []
    findings: list[Finding] = []
    combined = work.tables.on(COMBINE)
    for table in work.tables.on(VOLUME):
        key = key_after("volume", parts, ("accept", "volume"), [*combined, table])
        kept: Row | None = work.store.load(key, dict) if key else None
        if kept is None:
            try:
                measured = measured_volume(table, surface, work.folder, convert=True)
            except GeometryError as error:
                findings.append(UNMEASURED.finding(table.heap, f"{table.name}: {error}"))
                continue
            kept = {
                "base": measured.volume.base,
                "top": measured.volume.top,
                "rows": measured.rows(),
                "methods": [] if measured.methods is None else plain_rows(measured.methods),
                "doubts": [] if measured.heap is None else [list(doubt) for doubt in measured.heap.doubts],
            }
            if key:
                work.store.save(key, kept)
        results.append(
            BuiltVolume(
                name=table.name,
                why=table.why,
                base=kept["base"],
                top=kept["top"],
                units=surface.units,
                rows=kept["rows"],
                methods=kept["methods"],
            )
        )
        findings += heap_findings(table.name, table.heap, kept["doubts"])
        bare = _uncovered(kept["rows"][-1])
        if bare > 0.0 and not table.allow_uncovered:
            text = f"{table.name}: {bare:,.3f} {surface.units}² are not covered by both surfaces, and not measured"
            findings.append(UNCOVERED.finding(None, text))
    return Added(surface, results, findings)


def _uncovered(row: Row) -> float:
    return float(row["only_base"] + row["only_top"] + row["neither"])


def nets_of(volume: BuiltVolume) -> dict[str, float]:
    """Return the net volume of each area."""
    return {str(row["area"]): float(row["net"]) for row in volume.rows}


def _with_before(volume: BuiltVolume, before: dict[str, float]) -> BuiltVolume:
    """Return a volume with the net volumes of the build before, of the areas where they were others."""
    nets = nets_of(volume)
    return replace(volume, before={area: before[area] for area in nets if before.get(area, nets[area]) != nets[area]})


def _before(volume: BuiltVolume, row: Row) -> str:
    net = (volume.before or {}).get(str(row["area"]))
    return "" if net is None else f"{net:,.3f}"


def _answer(volume: BuiltVolume) -> Row:
    keys = ("name", "why", "base", "top", "rows", "methods")
    return {**{key: getattr(volume, key) for key in keys}, "before": volume.before or {}}


def _printed(results: list[BuiltVolume], unit: str) -> list[TextTable]:
    """What each volume is, and what it was before, for a printed build."""
    rows = [
        [each.name, str(row["area"]), each.base, *_figures(row, ("cut", "fill", "net", "net_95")), _before(each, row)]
        for each in results
        for row in each.rows
    ]
    heads = ["volume", "area", "from", f"cut {unit}³", f"fill {unit}³", "net", "± 95 %", "net before"]
    volumes = [TextTable(heads, rows, [False] * 3 + [True] * 5, "Volumes")] if rows else []
    return volumes + _methods_table(results, "Volumes by method")


def _methods_table(results: list[BuiltVolume], title: str) -> list[TextTable]:
    """Cut and fill by every method asked for, and how far each is from the exact one."""
    rows = [
        [each.name, str(row["method"]), *_figures(row, ("cut", "fill", "net")), *_percent(row)]
        for each in results
        for row in each.methods
    ]
    heads = ["volume", "method", "cut", "fill", "net", "cut %", "fill %"]
    return [TextTable(heads, rows, [False] * 2 + [True] * 5, title)] if rows else []


def _percent(row: Row) -> list[str]:
    values = (row["cut_percent"], row["fill_percent"])
    return ["–" if value is None else f"{value:+.3f}" for value in values]


def _reported(results: list[BuiltVolume], unit: str) -> list[TextTable]:
    """The figures of each volume, for a report."""
    heads = ["area", "cut", "fill", "net", "± 95 %", "by shots", "shared"]
    heads += [f"no change {unit}²", f"uncovered {unit}²", "before"]
    keys = ("cut", "fill", "net", "net_95", "net_sd_shots", "net_sd_shared", "no_change_area")
    tables = []
    for each in results:
        rows = [
            [str(row["area"]), *_figures(row, keys), f"{_uncovered(row):,.3f}", _before(each, row)] for row in each.rows
        ]
        title = f"{each.name}: {each.top} above {each.base}, {each.units}³"
        tables.append(TextTable(heads, rows, [False] + [True] * 9, title, each.why))
        tables += _methods_table([each], f"{each.name} by other methods, {each.units}³")
    return tables


def _figures(row: Row, keys: Sequence[str]) -> list[str]:
    return [f"{row[key]:,.3f}" for key in keys]


AREA_SHAPE = objects(
    texts="area",
    numbers="cut fill net cut_area fill_area no_change_area only_base only_top neither cut_sd_shots cut_sd_shared "
    "cut_95 fill_sd_shots fill_sd_shared fill_95 net_sd_shots net_sd_shared net_95 cut_loose fill_needed [cut_mass] "
    "[fill_mass] [base_spread] [toe_spread] [ground_spread] [sampling_spread]",
)
METHOD_SHAPE = objects(texts="method", numbers="cut fill net cut_percent? fill_percent?")
STEP = step(
    Step(
        "volumes",
        225,
        Phase.CHECK,
        VOLUME,
        after=AfterBuilding(
            "volumes",
            volumes_of,
            BuiltVolume,
            answer=_answer,
            shape=objects(
                texts="name why base top",
                rows=lists(AREA_SHAPE),
                methods=lists(METHOD_SHAPE),
                before=mappings("number"),
            ),
            printed=_printed,
            reported=_reported,
            figures=nets_of,
            with_before=_with_before,
        ),
    )
)
