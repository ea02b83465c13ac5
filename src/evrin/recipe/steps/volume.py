"""`[[volume]]`: volumes that are measured at every build, from what is kept where nothing has changed."""

from __future__ import annotations

from dataclasses import dataclass

from evrin.base.errors import GeometryError
from evrin.base.rows import Row
from evrin.check import Finding, rule
from evrin.recipe.building.work import Work
from evrin.recipe.steps import Phase, Step, step
from evrin.recipe.steps.combine import COMBINE
from evrin.recipe.store.digests import digest_of
from evrin.recipe.tables import Kind
from evrin.recipe.tables.volume import VolumeTable
from evrin.surface.surface import Surface

VOLUME = Kind("volume", VolumeTable, listed=True)
STEP = step(Step("volumes", 225, Phase.CHECK, VOLUME))

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
    base, top : str
        Names of the surfaces.
    units : str
    rows : list of dict
        Figures by area, as `evrin.recipe.MeasuredVolume.rows` has them.
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
    before: dict[str, float] | None = None


def volumes_of(work: Work, surface: Surface, parts: dict[str, str]) -> tuple[list[BuiltVolume], list[Finding]]:
    """Measure what each table that is on asks for; kept, where no recipe is its base and nothing has changed.

    Raises
    ------
    DataError
        Where a file cannot be read, or surfaces are in unlike units or systems.
    """
    from evrin.recipe.handover.measuring import measured_volume

    out: list[BuiltVolume] = []
    findings: list[Finding] = []
    rest = sorted((name, digest) for name, digest in parts.items() if name not in ("[accept]", "[volume]"))
    others = [table.file for table in work.tables.on(COMBINE)]
    for table in work.tables.on(VOLUME):
        rests_on_recipe = any(name.lower().endswith(".toml") for name in (table.base, table.top, *others))
        key = "" if rests_on_recipe else digest_of("volume", rest, table.model_dump(mode="json"))
        kept = work.store.load(key) if key else None
        if kept is None:
            try:
                found = measured_volume(table, surface, work.folder, convert=True)
            except GeometryError as error:
                findings.append(UNMEASURED.finding(table.heap, f"{table.name}: {error}"))
                continue
            kept = {"base": found.volume.base, "top": found.volume.top, "rows": found.rows()}
            if key:
                work.store.save(key, kept)
        out.append(BuiltVolume(table.name, table.why, kept["base"], kept["top"], surface.units, kept["rows"]))
        bare = sum(kept["rows"][-1][key] for key in ("only_base", "only_top", "neither"))
        if bare > 0.0 and not table.allow_uncovered:
            text = f"{table.name}: {bare:,.3f} {surface.units}² are not covered by both surfaces, and not measured"
            findings.append(UNCOVERED.finding(None, text))
    return out, findings


def with_before(volumes: list[BuiltVolume], before: object) -> list[BuiltVolume]:
    """Return volumes with what each was at the build before, from a record of that."""
    out = []
    for each in volumes:
        was = before.get(each.name) if isinstance(before, dict) else None
        now = nets_of(each)
        changed = {area: was[area] for area in now if area in was and was[area] != now[area]} if was else None
        out.append(BuiltVolume(each.name, each.why, each.base, each.top, each.units, each.rows, changed))
    return out


def nets_of(volume: BuiltVolume) -> dict[str, float]:
    """Return the net volume of each area."""
    return {str(row["area"]): float(row["net"]) for row in volume.rows}
