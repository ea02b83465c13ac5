"""From a recipe to a surface: run the steps, read the surface off, check it."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path

import pandas as pd

from evrin.analysis import CheckPoints
from evrin.check import Evidence, Finding
from evrin.check.registry import accepted, run_rules
from evrin.lazy import LazyMethod
from evrin.recipe.keeping.store import NoStore, Store
from evrin.recipe.outcome import evidence_of, fates_of
from evrin.recipe.pipeline import findings_key, parts_of, run
from evrin.recipe.stage_log import Progress, Stage, Stages
from evrin.recipe.steps.accept import acceptances
from evrin.recipe.steps.combine import COMBINE, BuiltCombination, combined_with
from evrin.recipe.steps.volume import VOLUME, BuiltVolume, volumes_of
from evrin.recipe.tables import Tables
from evrin.recipe.tally import tally_table
from evrin.recipe.work import Work
from evrin.surface import SourceLine, Surface
from evrin.wording import counted


@dataclass(frozen=True, eq=False)
class Build:
    """What a recipe built.

    Attributes
    ----------
    surface : Surface
    findings : list of Finding
    tally : DataFrame
        A row for each source; every item read is in exactly one column.
    stages : list of Stage
    rings : tuple of SourceLine
        The boundaries.
    evidence : Evidence
        What the findings rest on.
    edits : list of str
        What each edit that was applied did, beginning with its number.
    parts : dict of str to str
        Digests of the files and tables that it rests on.
    combined : list of BuiltCombination
        What the recipe's ``[[combine]]`` tables put into the surface.
    volumes : list of BuiltVolume
        What the recipe's ``[[volume]]`` tables ask for.
    changed : list of str or None
        What has changed since the build before; None where none was kept.
    path : Path or None
        The recipe.
    text : str
        What the recipe states.

    Examples
    --------
    >>> import evrin
    >>> from evrin.demo import small_site
    >>> build = evrin.Recipe.read(small_site()).build()
    >>> build.surface, len(build.open_findings), build.tally["used"].iloc[-1]
    (<Surface 'field': 9 vertices, 8 triangles>, 0, np.int64(9))
    """

    surface: Surface
    findings: list[Finding]
    tally: pd.DataFrame
    stages: list[Stage]
    rings: tuple[SourceLine, ...]
    evidence: Evidence
    edits: list[str]
    parts: dict[str, str]
    volumes: list[BuiltVolume] = field(default_factory=list)
    combined: list[BuiltCombination] = field(default_factory=list)
    changed: list[str] | None = None
    path: Path | None = None
    text: str = ""

    compare = LazyMethod("evrin.recipe.handover.comparison:compare")
    freeze = LazyMethod("evrin.recipe.handover.freeze:freeze")
    report = LazyMethod("evrin.report.report_page:write_report")
    _repr_html_ = LazyMethod("evrin.report.snippets:build_snippet")

    @property
    def checked(self) -> list[tuple[str, CheckPoints]]:
        """Check points that the recipe names, beside the surface, by the name of what holds them."""
        return self.evidence.checked

    @property
    def accept_reach(self) -> float:
        """How near a finding must be to the place of an acceptance."""
        return self.evidence.accept_reach

    @property
    def open_findings(self) -> list[Finding]:
        """Findings that someone still has to fix or accept."""
        return [finding for finding in self.findings if finding.is_open]


def build(folder: Path, tables: Tables, progress: Progress | None = None, store: Store | None = None) -> Build:
    """Build what *tables* state, with paths relative to *folder*; see `Recipe.build`."""
    work = Work(folder, tables, Stages(progress), store or NoStore())
    run(work)
    work.stages.start("check")
    evidence = evidence_of(work)
    parts = parts_of(work)
    found = _findings(work, evidence, parts)
    surface, combined = evidence.surface, list[BuiltCombination]()
    if tables.on(COMBINE):
        surface, combined, about_joins = combined_with(work, surface, parts)
        found = [*found, *about_joins]
    volumes, about_volumes = volumes_of(work, surface, parts) if tables.on(VOLUME) else ([], [])
    findings = accepted([*found, *about_volumes], acceptances(tables))
    open_count = sum(finding.is_open for finding in findings)
    work.stages.end(f"{counted(len(findings), 'finding')}, {open_count} open")
    tally = tally_table(work.gathered.sources, fates_of(work, evidence))
    rings = tuple(work.shaped.rings)
    stages = work.stages.done
    return Build(surface, findings, tally, stages, rings, evidence, work.edits, parts, volumes, combined)


def _findings(work: Work, evidence: Evidence, parts: dict[str, str]) -> list[Finding]:
    """What the rules find; kept, since nothing but what the build rests on decides it."""
    key = findings_key(parts)
    kept: list[Finding] | None = work.store.load(key) if key else None
    if kept is not None:
        return kept
    found = run_rules(evidence)
    if key:
        work.store.save(key, found)
    return found
