"""The report: the whole story of a surface on one page that a client can open."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from pathlib import Path

import evrin
from evrin.analysis.terrain.banding import usual_interval
from evrin.base.errors import DataError
from evrin.base.files import whole_text_file
from evrin.draw.sheets.volume_sheets import series_sheet
from evrin.recipe import RecordEntry
from evrin.recipe.build import Build
from evrin.recipe.document.table_rows import table_rows
from evrin.recipe.handover.volume_record import series_of
from evrin.recipe.store.digests import digest_of
from evrin.report import report_tables
from evrin.report.report_pictures import Along, picture, pictures, usual_lines
from evrin.report.templating import filled, part
from evrin.report.viewer_page import check_page


def _silent(_: str) -> None:
    """Report nothing."""


def report_page(
    build: Build,
    *,
    interval: float | None = None,
    along: Sequence[Along] = (),
    made_on: str = "",
    look: str = "",
    record: Sequence[RecordEntry] = (),
    progress: Callable[[str], None] | None = None,
) -> str:
    """Return the report of a build.

    Parameters
    ----------
    build : Build
        Of a recipe.
    interval : float, optional
        Of contours; a round one that draws about two dozen levels if not given.
    along : sequence of Along, optional
        Lines to show profiles along; west to east and south to north through the middle if not given.
    made_on : str
        The date shown on the page.
    look : str
        Address of the viewer page, for a link.
    record : sequence of RecordEntry
        Volumes on record, which are shown over time; see `evrin.recipe.read_record`.
    progress : callable, optional
        Called with the name of each step.

    Returns
    -------
    str
        HTML with all that it needs in it.

    Raises
    ------
    DataError
        For an interval that is not above 0.

    Examples
    --------
    >>> import evrin
    >>> from evrin.demo import small_site
    >>> build = evrin.Recipe.read(small_site()).build()
    >>> from evrin.report import report_page
    >>> "field" in report_page(build)
    True
    """
    contour_interval = interval if interval is not None else usual_interval(build.surface)
    if not contour_interval > 0.0:
        raise DataError(f"the contour interval must be above 0; it is {contour_interval:g}")
    report = progress or _silent
    drawn = list(pictures(build, contour_interval, along or usual_lines(build), report))
    series = series_of(list(record)) if record else None
    if series is not None:
        sheet = series_sheet(series, record[0].units)
        drawn.append(picture("volumes", "Volumes on record, with their ± at 95 percent.", sheet))
    report("write the page")
    return filled(
        "report.html",
        style=part("report.css"),
        name=build.surface.name,
        facts=build.surface.facts,
        survey=report_tables.survey_of(build),
        annexes=[(anchor, f"{letter} {title}") for letter, (anchor, title) in zip(_LETTERS, _ANNEXES, strict=True)],
        heading=_heading,
        surface=build.surface,
        build=build,
        heights=(float(build.surface.vertices[:, 2].min()), float(build.surface.vertices[:, 2].max())),
        counts=_counts(build),
        checked=report_tables.checked_of(build),
        volumes=report_tables.results_in("volumes", build),
        combined=report_tables.results_in("sources", build),
        record=report_tables.of_frame(series) if series is not None else None,
        tally=report_tables.tally_of(build),
        sources=report_tables.sources_of(build),
        steps=report_tables.steps_of(build),
        slopes=report_tables.slopes_of(build),
        figures=report_tables.figures_of(build),
        reasons=[row for row in table_rows(build.text) if row["why"] and row["on"]],
        pictures={place: [each for each in drawn if each.place == place] for place in _PLACES},
        recipe_name=build.path.name if build.path is not None else "",
        recipe_text=build.text,
        digest=digest_of(build.text)[:12],
        files=_files(build),
        version=evrin.__version__,
        made_on=made_on,
        look=look,
    )


def _files(build: Build) -> list[tuple[str, str]]:
    parts = sorted(build.parts.items())
    return [(name.removeprefix("file "), digest) for name, digest in parts if name.startswith("file ")]


_LETTERS = "ABCDEFGHI"
_ANNEXES = (
    ("findings", "Findings"),
    ("checked", "Check points"),
    ("volumes", "Volumes"),
    ("maps", "Maps"),
    ("slopes", "Slopes"),
    ("profiles", "Profiles"),
    ("sources", "Sources"),
    ("figures", "Figures"),
    ("recipe", "Recipe"),
)


def _heading(anchor: str) -> str:
    """The heading of an annex, with its letter."""
    number = [each for each, _ in _ANNEXES].index(anchor)
    return f"Annex {_LETTERS[number]}: {_ANNEXES[number][1]}"


_PLACES = ("first", "findings", "maps", "slopes", "trust", "contours", "checked", "profiles", "volumes")


def _counts(build: Build) -> dict[str, int]:
    return {
        "open": len(build.open_findings),
        "accepted": sum(finding.accepted is not None for finding in build.findings),
        "notes": sum(finding.severity == "note" for finding in build.findings),
    }


def write_report(
    build: Build,
    path: str | os.PathLike[str],
    *,
    interval: float | None = None,
    along: Sequence[Along] = (),
    made_on: str = "",
    look: str = "",
    record: Sequence[RecordEntry] = (),
    progress: Callable[[str], None] | None = None,
) -> None:
    """Write the report; it appears whole or not at all: `Build.report`."""
    target = Path(path)
    check_page(target)
    text = report_page(
        build, interval=interval, along=along, made_on=made_on, look=look, record=record, progress=progress
    )
    with whole_text_file(target) as stream:
        stream.write(text)
