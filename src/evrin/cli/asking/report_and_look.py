"""`evrin report` and `evrin look`."""

from __future__ import annotations

from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from evrin.base.wording import counted
from evrin.cli.options.shared_options import Interval, PageNeeded, RecipeFile, SurfaceFile, line_of, names_file
from evrin.cli.options.what_is_written import WRITES
from evrin.cli.session import session
from evrin.cli.terminal import DONE, load_build, load_surface, open_because, progress, say_written

if TYPE_CHECKING:
    from evrin.check import Finding
    from evrin.surface.surface import Surface


def report(
    recipe: RecipeFile,
    out: PageNeeded,
    look: Annotated[
        Path | None,
        WRITES,
        typer.Option(metavar="FILE", help="Write the viewer page as well, and link the two (.html)."),
    ] = None,
    interval: Interval = None,
    along: Annotated[
        list[str] | None,
        typer.Option(
            metavar="LINE",
            help='A line to show a profile along: places, as in "4060,2905 4100,2850", or a file with one.',
        ),
    ] = None,
    record: Annotated[
        Path | None, typer.Option(metavar="RECORD", help="Show the volumes on this record over time (.jsonl).")
    ] = None,
    day: Annotated[
        str,
        typer.Option(metavar="DAY", help="The date shown on the page; today if not given.", show_default=False),
    ] = "",
) -> int:
    """Write the whole story of a surface on one page. Exit code 1: open findings or failed check points remain."""
    from evrin.recipe.handover.volume_record import read_record
    from evrin.recipe.recipe import Recipe
    from evrin.report.report_pictures import Along
    from evrin.report.surface_report import write_report
    from evrin.report.viewer_page import check_page, write_look

    check_page(out)
    entries = read_record(record)[0] if record is not None else []
    if look is not None:
        check_page(look)
    with progress() as step:
        source = Recipe.read(recipe)
        built = source.build(step, keep=True, fresh=session().fresh)
        session().built.append((recipe, built.parts))
        lines = [Along(f"along {_name_of_line(text)}", line_of(text, built.surface)) for text in along or []]
        write_report(
            built,
            out,
            interval=interval,
            along=lines,
            made_on=day or date.today().isoformat(),
            look=_address(look, out),
            record=entries,
            progress=step,
        )
        say_written(out)
        if look is not None:
            step("write the viewer page")
            lines_drawn = built.surface.contours(interval or _interval(built.surface))
            write_look(look, built.surface, built.findings, lines_drawn, report=_address(out, look))
            say_written(look)
    reasons = [f"{counted(len(built.open_findings), 'open finding')}"] if built.open_findings else []
    failed = any(checked.passed is False for _, checked in built.checked)
    reasons += ["check points are further off than their tolerance"] if failed else []
    return open_because("; ".join(reasons)) if reasons else DONE


def _name_of_line(text: str) -> str:
    return Path(text.split(",")[0]).name if names_file(text) else text


def look(
    surface: SurfaceFile,
    out: PageNeeded,
    interval: Interval = None,
) -> int:
    """Write an interactive viewer page: plan and three dimensions, the shots behind every place, flips as snippets."""
    from evrin.report.viewer_page import check_page, write_look

    check_page(out)
    ground, findings = _with_findings(surface)
    write_look(out, ground, findings, ground.contours(interval or _interval(ground)))
    say_written(out)
    return DONE


COMMANDS = (report, look)


def _with_findings(surface: Path) -> tuple[Surface, list[Finding]]:
    if surface.suffix.lower() != ".toml":
        return load_surface(surface), []
    built = load_build(surface)
    return built.surface, built.findings


def _interval(surface: Surface) -> float:
    from evrin.analysis.terrain.banding import usual_interval

    return usual_interval(surface)


def _address(target: Path | None, page: Path) -> str:
    """The way from one page to another, as a link."""
    if target is None:
        return ""
    import os.path
    from urllib.parse import quote

    return quote(Path(os.path.relpath(target, page.parent)).as_posix())
