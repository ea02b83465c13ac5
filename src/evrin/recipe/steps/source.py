"""`[[source]]`: reading the files of a recipe and joining their rows."""

from __future__ import annotations

from dataclasses import replace

from evrin.base.errors import DataError
from evrin.base.wording import counted
from evrin.recipe.building.fates import fate
from evrin.recipe.building.work import Work
from evrin.recipe.sources.joining import joined, rows_of
from evrin.recipe.sources.source_contents import SourceContents
from evrin.recipe.sources.source_reading import open_source
from evrin.recipe.sources.source_table import Source
from evrin.recipe.steps import STEPS, Phase, Step, step
from evrin.recipe.steps.field_codes import FIELD_CODES, code_table
from evrin.recipe.store.digests import digest_of, program_digest
from evrin.recipe.tables import Kind, Tables

SOURCE = Kind("source", Source, listed=True)
THINNED = fate(70, "thinned", "other points of the cloud represent it")


def read_sources(work: Work) -> str:
    """Read every source that is on, from the store where nothing has changed, and number all rows."""
    sources = work.tables.on(SOURCE)
    if not sources:
        raise DataError("every source is switched off; there is nothing to build from")
    book = work.tables.settled(FIELD_CODES)
    codes = code_table(work.folder, book)
    rows = [rows_of(_opened(work, source), source, k, codes, book.chord) for k, source in enumerate(sources)]
    work.rows = joined(rows, work.frame)
    items = counted(sum(count.read for count in work.rows.counts), "item")
    lines = counted(len(work.rows.strands), "line")
    notes = [f"{count.name}: {note}" for count in work.rows.counts for note in count.notes]
    return "; ".join([f"{items} from {counted(len(sources), 'source')}, {lines}", *notes])


def _opened(work: Work, source: Source) -> SourceContents:
    key = source_key(work, source)
    opened = work.store.load(key, SourceContents)
    work.stages.note(f"read {source.title}")
    if opened is not None:
        work.stages.reuse_part(source.title)
    else:
        opened = open_source(work.folder, source, work.frame)
        opened.points = replace(opened.points, columns={})
        work.store.save(key, opened)
    opened.name = source.title
    return opened


def source_key(work: Work, source: Source) -> str:
    """Return the digest of all that reading one source depends on; keys that later steps read are left out."""
    return digest_of(program_digest(), "read", work.files.of_tables([source], leave=_later()), list(work.frame))


def later_keys(source: Source) -> list[tuple[str, object]]:
    """Return what a source states that later steps read."""
    stated: dict[str, object] = source.model_dump(mode="json", include=set(_later()))
    return sorted(stated.items())


def _later() -> tuple[str, ...]:
    return tuple(key for each in STEPS for key in each.keys)


def _rests_on(tables: Tables) -> object:
    return [later_keys(source) for source in tables.on(SOURCE)]


STEP = step(
    Step(
        "read",
        10,
        Phase.ROWS,
        SOURCE,
        read_sources,
        is_asked=lambda work: True,
        rests_on=_rests_on,
        is_needed=True,
    )
)
