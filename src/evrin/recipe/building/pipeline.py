"""Running the steps of a build in order; results of phases are kept, and used again where nothing has changed."""

from __future__ import annotations

import inspect
from collections.abc import Iterable
from pathlib import Path

from evrin.check import RULES, Finding, RingGap
from evrin.making.merged_places import LineCrossing, LineMiss, TakenSurface, UnlikeHeights
from evrin.making.triangulation import Triangulation
from evrin.recipe.building.rows import Gathered, SourceCount, numbered
from evrin.recipe.building.work import Shaped, Work
from evrin.recipe.sources.source_contents import SourceContents
from evrin.recipe.steps import STEPS, Phase, Step, after_building
from evrin.recipe.steps.edit import living
from evrin.recipe.steps.source import SOURCE, source_key
from evrin.recipe.store.digests import digest_of, program_digest
from evrin.recipe.store.plain import keep_classes
from evrin.recipe.tables import Tables
from evrin.surface.provenance import Provenance, Shots
from evrin.surface.surface import SourceLine, Surface
from evrin.surface.survey_facts import SurveyFacts
from evrin.survey.contents import Line, Points, Refusal
from evrin.survey.mismatch import Extent, Located
from evrin.tin.mesh.working_mesh import Mesh

keep_classes(
    Extent, Located, Finding, RingGap, SourceContents, Gathered, SourceCount, Shaped, Provenance, Shots, SourceLine
)
keep_classes(
    Surface,
    SurveyFacts,
    LineCrossing,
    LineMiss,
    TakenSurface,
    Triangulation,
    UnlikeHeights,
    Line,
    Points,
    Refusal,
    Mesh,
)
_KEPT = (Phase.ROWS, Phase.MESH, Phase.EXTENT)


def run(work: Work) -> None:
    """Run every step that is due, phase by phase."""
    keys = phase_keys(work)
    _restore(work, keys)
    for phase in _KEPT:
        if phase > work.restored:
            _run_phase(work, phase, keys)
    before = living(work.shaped.triangulation)
    _run_phase(work, Phase.EDITS, keys)
    after = living(work.shaped.triangulation)
    work.edited_out = before & ~after[: len(before)]


def _run_phase(work: Work, phase: Phase, keys: dict[Phase, str]) -> None:
    done: list[tuple[str, str]] = []
    for each in STEPS:
        if each.phase == phase and each.act is not None and each.is_due(work):
            work.stages.start(each.name)
            did = each.act(work)
            work.stages.end(did)
            done.append((each.name, did))
    if phase == Phase.ROWS:
        work.rows.did = done
        work.gathered = numbered(work.rows)
        work.store.save(keys[phase], work.gathered)
    elif phase in _KEPT and done:
        work.shaped.did += done
        _keep_mesh(work, keys[phase])


def _keep_mesh(work: Work, key: str) -> None:
    """Keep the mesh without its lines, which are kept with the rows already."""
    mesh = work.shaped.triangulation
    lines, mesh.lines = mesh.lines, []
    try:
        work.store.save(key, work.shaped)
    finally:
        mesh.lines = lines


def _restore(work: Work, keys: dict[Phase, str]) -> None:
    """Take over the results of phases that are kept, the latest of each kind."""
    gathered = work.store.load(keys[Phase.ROWS], Gathered)
    if gathered is None:
        return
    work.gathered, work.restored = gathered, Phase.ROWS
    for name, did in gathered.did:
        work.stages.reuse(name, did)
    for phase in (Phase.EXTENT, Phase.MESH):
        shaped = work.store.load(keys[phase], Shaped)
        if shaped is not None:
            shaped.triangulation.lines = list(gathered.lines)
            work.shaped, work.restored = shaped, phase
            for name, did in shaped.did:
                work.stages.reuse(name, did)
            return


def phase_keys(work: Work) -> dict[Phase, str]:
    """Return the digest of all that the result of each phase depends on."""
    keys: dict[Phase, str] = {}
    before = program_digest()
    for phase in _KEPT:
        parts = [_depends_on(work, each) for each in STEPS if each.phase == phase]
        before = digest_of(phase.name, before, list(work.frame), parts)
        keys[phase] = before
    return keys


def _depends_on(work: Work, step: Step) -> list[object]:
    tables: list[object] = []
    if step.kind is SOURCE:
        tables = [source_key(work, source) for source in work.tables.on(SOURCE)]
    elif step.kind is not None:
        tables = work.files.of_tables(work.tables.on(step.kind))
    further = step.rests_on(work.tables) if step.rests_on is not None else None
    return [step.name, tables, further, _own_text(work, step)]


def _own_text(work: Work, step: Step) -> str:
    """Digest of the file of a step that is not Evrin's own, which the digest of the program does not cover."""
    if step.act is None or step.act.__module__.partition(".")[0] == "evrin":
        return ""
    return work.files.of(str(Path(inspect.getfile(step.act)).resolve()))


def parts_of(work: Work) -> dict[str, str]:
    """Return the digest of everything behind a build that a reader can name: files, and tables by key."""
    tables = work.tables
    out = {}
    for name in type(tables).model_fields:
        value = getattr(tables, name)
        rows = value if isinstance(value, tuple) else (value,)
        work.files.of_tables([row for row in rows if row is not None and getattr(row, "on", True)])
        plain = [row.model_dump(mode="json") if row is not None else None for row in rows]
        out[f"[{name}]"] = digest_of(plain)
    files = {f"file {name}": digest for name, digest in work.files.known.items()}
    return {**files, **out, "the program": program_digest()}


def findings_key(parts: dict[str, str]) -> str:
    """Return the digest of all that findings depend on; nothing where a rule is not Evrin's own.

    Parameters
    ----------
    parts : dict of str to str
        See `parts_of`. What is accepted decides only which findings are open.
    """
    if not _are_own(each.check for each in RULES.values()):
        return ""
    return digest_of("findings", sorted((name, digest) for name, digest in parts.items() if name != "[accept]"))


def whole_key(tables: Tables, parts: dict[str, str]) -> str:
    """Return the digest of all that a build depends on; nothing where steps, rules or other recipes decide it, too.

    Parameters
    ----------
    tables : Tables
        What the recipe states.
    parts : dict of str to str
        See `parts_of`.
    """
    is_own = _are_own(each.act for each in STEPS) and _are_own(after.act for _, after in after_building())
    if any(tables.on(kind) for kind, _ in after_building()) or not is_own:
        return ""
    return digest_of("whole", findings_key(parts), parts) if findings_key(parts) else ""


def _are_own(functions: Iterable[object]) -> bool:
    return all(each is None or each.__module__.partition(".")[0] == "evrin" for each in functions)
