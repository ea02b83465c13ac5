"""From a recipe to a surface: run the steps, read the surface off, check it."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar, cast

from evrin.analysis.quality.check_point_fit import CheckPoints
from evrin.base.named_values import Row
from evrin.base.wording import counted
from evrin.check import Evidence, Finding
from evrin.check.rule_registry import accepted, run_rules
from evrin.recipe.building.outcome import evidence_of, fates_of
from evrin.recipe.building.pipeline import findings_key, parts_of, run, whole_key
from evrin.recipe.building.stage_log import Progress, Stage, Stages
from evrin.recipe.building.tally import tally_rows
from evrin.recipe.building.work import Work
from evrin.recipe.steps import after_building
from evrin.recipe.steps.accept import acceptances
from evrin.recipe.steps.combine import BuiltCombination
from evrin.recipe.steps.volume import BuiltVolume
from evrin.recipe.store.digests import digest_of
from evrin.recipe.store.kept_results import NoStore, Store
from evrin.recipe.store.plain import keep_classes
from evrin.recipe.tables import Tables
from evrin.surface.surface import SourceLine, Surface

if TYPE_CHECKING:
    import pandas as pd

    from evrin.recipe.handover.comparison import Comparison
    from evrin.recipe.handover.volume_record import RecordEntry
    from evrin.report.report_pictures import Along

T = TypeVar("T")


@dataclass(frozen=True, eq=False)
class Build:
    """What a recipe built.

    Attributes
    ----------
    surface : Surface
        The surface as built.
    findings : list of Finding
        What looks wrong, accepted findings included.
    tally_rows : list of dict
        A row for each source, and one for all: how many items were read, and by what became of them.
    stages : list of Stage
        What was done, and how long it took.
    rings : tuple of SourceLine
        The boundaries.
    checked : list of (str, CheckPoints)
        Check points that the recipe names, beside the surface, by the name of what holds them.
    accept_reach : float
        How near a finding must be to the place of an acceptance.
    edits : list of str
        What each edit that was applied did, beginning with its number.
    parts : dict of str to str
        Digests of the files and tables that it rests on.
    results : list
        What the tables of the last phase ask for, such as `volumes` and `combined`.
    changed : list of str or None
        What has changed since the build before; None where none was kept.
    path : Path or None
        The recipe.
    text : str
        What the recipe states.
    key : str
        The digest of all that it depends on; empty where that is not known.
    store : Store or None
        Where results are kept.

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
    tally_rows: list[Row]
    stages: list[Stage]
    rings: tuple[SourceLine, ...]
    checked: list[tuple[str, CheckPoints]]
    accept_reach: float
    edits: list[str]
    parts: dict[str, str]
    results: list[object] = field(default_factory=list)
    changed: list[str] | None = None
    path: Path | None = None
    text: str = ""
    key: str = ""
    store: Store | None = None

    def compare(self, other: Build | Surface, names: tuple[str, str] | None = None) -> Comparison:
        """Compare this build with another: their recipes, findings, tallies and heights; with a surface, the heights.

        Parameters
        ----------
        other : Build or Surface
            What to compare with.
        names : (str, str), optional
            What the two are called; the names of their recipes or surfaces if not given.

        Returns
        -------
        Comparison

        Raises
        ------
        DataError
            If the surfaces are in unlike units or reference systems.
        """
        from evrin.recipe.handover.comparison import compare

        return compare(self, other, names)

    def freeze(self, folder: str | os.PathLike[str]) -> list[Path]:
        """Write the build so that it can be used without its sources; see `evrin.freeze`.

        Parameters
        ----------
        folder : path
            Where to write. It is created if it does not exist; files in it of the same names are replaced.

        Returns
        -------
        list of Path
            The surface (LandXML), a table of its vertices with the shot behind each, and a recipe with both as source.

        Raises
        ------
        DataError
            If the folder cannot be written to, the recipe itself is one of the files, or the surface has two heights at
            one place, as at a step that ``[[combine]]`` left.
        """
        from evrin.recipe.handover.freeze import freeze

        return freeze(self, folder)

    def report(
        self,
        path: str | os.PathLike[str],
        *,
        interval: float | None = None,
        along: Sequence[Along] = (),
        made_on: str = "",
        look: str = "",
        record: Sequence[RecordEntry] = (),
        progress: Progress | None = None,
    ) -> None:
        """Write the report as one page of HTML; it appears whole or not at all.

        Parameters
        ----------
        path : path
            The file to write, which ends in ``.html``.
        interval : float, optional
            Contour interval of its plans; one that suits the surface if not given.
        along : sequence of Along
            Lines for profiles; two lines across the middle of the surface if not given.
        made_on : str
            The date to print.
        look : str
            The viewer page to link to.
        record : sequence of RecordEntry
            Volumes measured before, to be shown over time.
        progress : callable, optional
            Is called with the name of each part as it starts.

        Raises
        ------
        DataError
            If the interval is not above 0, the extension is not ``.html``, or the folder cannot be written to.

        Examples
        --------
        >>> import tempfile
        >>> import evrin
        >>> from evrin.demo import small_site
        >>> build = evrin.Recipe.read(small_site()).build()
        >>> build.report(tempfile.mkdtemp() + "/report.html")
        """
        from evrin.report.surface_report import write_report

        write_report(
            self, path, interval=interval, along=along, made_on=made_on, look=look, record=record, progress=progress
        )

    def _repr_html_(self) -> str:
        from evrin.report.snippets import build_snippet

        return build_snippet(self)

    @cached_property
    def tally(self) -> pd.DataFrame:
        """The tally as a table: a row for each source; every item read is in exactly one column."""
        import pandas as pd

        return pd.DataFrame(self.tally_rows)

    @property
    def open_findings(self) -> list[Finding]:
        """Findings that someone still has to fix or accept."""
        return [finding for finding in self.findings if finding.is_open]

    @property
    def volumes(self) -> list[BuiltVolume]:
        """What the recipe's ``[[volume]]`` tables ask for."""
        return self.results_of(BuiltVolume)

    @property
    def combined(self) -> list[BuiltCombination]:
        """What the recipe's ``[[combine]]`` tables put into the surface."""
        return self.results_of(BuiltCombination)

    def results_of(self, kind: type[T]) -> list[T]:
        """Return the results of one kind, such as those of a step of your own.

        Parameters
        ----------
        kind : type
            Their class.

        Returns
        -------
        list
        """
        return [each for each in self.results if isinstance(each, kind)]

    def kept(self, name: str, make: Callable[[Surface], T]) -> T:
        """Return a result that follows from the surface: the one kept for the same recipe and files, or a new one.

        Parameters
        ----------
        name : str
            What the result is.
        make : callable
            Takes the surface and returns numbers, texts, tables, lists or arrays.

        Returns
        -------
        object
            What *make* returns.
        """
        if self.store is None or not self.key:
            return make(self.surface)
        key = digest_of("answer", name, self.key)
        kept = cast("T | None", self.store.load(key, object))
        if kept is None:
            kept = make(self.surface)
            self.store.save(key, kept)
        return kept


def build(folder: Path, tables: Tables, progress: Progress | None = None, store: Store | None = None) -> Build:
    """Build what *tables* state, with paths relative to *folder*; see `Recipe.build`."""
    work = Work(folder, tables, Stages(progress), store or NoStore())
    parts = parts_of(work)
    key = whole_key(tables, parts)
    kept = work.store.load(key, Build) if key else None
    if kept is not None:
        work.stages.note("check: nothing has changed")
        for each in kept.stages:
            work.stages.reuse(each.name, each.did)
        return replace(kept, stages=work.stages.done, key=key, store=work.store)
    built = _built(work, parts)
    if key:
        # Every command prints them; kept with the rest, they need no triangle to be looked at.
        _ = built.surface.plan_area, built.surface.slope_area
        work.store.save(key, built)
    work.store.remember_stamped(work.files.stamped)
    return replace(built, key=key, store=work.store)


def evidence_for(folder: Path, tables: Tables, progress: Progress | None = None) -> Evidence:
    """Return what the rules look at; see `Recipe.evidence`."""
    work = Work(folder, tables, Stages(progress))
    run(work)
    return evidence_of(work)


def _built(work: Work, parts: dict[str, str]) -> Build:
    tables = work.tables
    run(work)
    work.stages.start("check")
    evidence = evidence_of(work)
    surface, results, findings = evidence.surface, list[object](), _findings(work, evidence, parts)
    for kind, after in after_building():
        if tables.on(kind):
            added = after.act(work, surface, parts)
            surface, results, findings = added.surface, [*results, *added.results], [*findings, *added.findings]
    findings = accepted(findings, acceptances(tables))
    open_count = sum(finding.is_open for finding in findings)
    work.stages.end(f"{counted(len(findings), 'finding')}, {open_count} open")
    tally = tally_rows(work.gathered.sources, fates_of(work, evidence))
    rings = tuple(work.shaped.rings)
    checked, reach = evidence.checked, evidence.accept_reach
    stages = work.stages.done
    return Build(
        surface=surface,
        findings=findings,
        tally_rows=tally,
        stages=stages,
        rings=rings,
        checked=checked,
        accept_reach=reach,
        edits=work.edits,
        parts=parts,
        results=results,
    )


def _findings(work: Work, evidence: Evidence, parts: dict[str, str]) -> list[Finding]:
    """What the rules find; kept, since nothing but what the build rests on decides it."""
    key = findings_key(parts)
    kept: list[Finding] | None = work.store.load(key, list) if key else None
    if kept is not None:
        return kept
    findings = run_rules(evidence)
    if key:
        work.store.save(key, findings)
    return findings


keep_classes(Build, Stage, CheckPoints)
