"""`evrin combine`."""

from __future__ import annotations

from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from evrin.cli.options import AsJson, Convert, Interval, Out, sorted_outputs, write_outputs, written
from evrin.cli.terminal import (
    DONE,
    load_surfaces,
    messages,
    output,
    print_answer,
    print_frame,
    progress,
    records,
    say_written,
)

if TYPE_CHECKING:
    from matplotlib.figure import Figure

    from evrin.analysis import Combined


class Rule(StrEnum):
    """What stands where several surfaces are."""

    NEWER = "newer"
    HIGHER = "higher"
    LOWER = "lower"


def combine(
    surfaces: Annotated[list[Path], typer.Argument(metavar="SURFACE…", help="Recipes or surface files, oldest first.")],
    out: Annotated[
        Out,
        written("The surface, pictures (.png, .pdf, .svg) and the steps (.csv) to write; may be given again."),
    ] = None,
    rule: Annotated[
        Rule, typer.Option(metavar="|".join(Rule), help="What stands where several surfaces are.")
    ] = Rule.NEWER,
    within: Annotated[
        str, typer.Option(metavar="FILE", help="Closed lines; the newer count only inside them.", show_default=False)
    ] = "",
    band: Annotated[
        float, typer.Option(metavar="LENGTH", help="Raise or lower the older within this of a join, so that it meets.")
    ] = 0.0,
    across: Annotated[
        float, typer.Option(metavar="LENGTH", help="Triangulate across gaps with edges up to this.")
    ] = 0.0,
    joins: Annotated[
        Path | None, typer.Option(metavar="FILE", help="The joins to write, as lines in three dimensions.")
    ] = None,
    called: Annotated[str, typer.Option("--called", metavar="NAME", help="What the result is called.")] = "",
    interval: Interval = None,
    convert: Convert = False,
    as_json: AsJson = False,
) -> int:
    """Make one surface out of several, each cut exactly along the join; print what stands, and the steps at joins."""
    from evrin.analysis import combine as combined_of
    from evrin.formats import write, write_lines
    from evrin.formats.area_files import read_areas
    from evrin.formats.claims import Claim
    from evrin.formats.writers import check_lines_writable, check_writable

    wanted = sorted_outputs(out, pictures=True, tables=True, others=check_writable)
    if joins is not None:
        check_lines_writable(joins)
    given = list(load_surfaces(surfaces, convert=convert).values())
    areas = read_areas([Claim.parsed(within)], given[0].frame)[0] if within else []
    with progress() as step:
        step("combine")
        found = combined_of(given, rule.value, areas, band=band, across=across, name=called)

    def sheet() -> Figure:
        from evrin.draw import combined_sheet

        return combined_sheet(found, interval)

    write_outputs(wanted, found.steps, sheet)
    for target in wanted.others:
        write(target, found.surface)
        say_written(target)
    if joins is not None:
        write_lines(joins, found.lines, units=found.surface.units, crs=found.surface.crs)
        say_written(joins)
    if as_json:
        print_answer(records(found.parts), found.surface, joins=records(found.table), gaps_filled=found.gaps_filled)
    else:
        _print(found)
    return DONE


def _print(found: Combined) -> None:
    unit = found.surface.units
    console = output()
    print_frame(found.parts, f"{found.surface.name}: what stands, {unit}²")
    if found.gaps_filled:
        console.print(f"across gaps: {found.gaps_filled:,.3f} {unit}²")
    if found.joins:
        console.print()
        print_frame(found.table, f"Joins, {unit}")
    else:
        messages().print("the surfaces meet nowhere: there is no join")


COMMANDS = (combine,)
