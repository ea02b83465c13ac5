"""`evrin combine`."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from evrin.cli.options.options_object import with_options
from evrin.cli.options.shared_options import AsJson, Convert, Interval, sorted_outputs, write_outputs
from evrin.cli.options.works_options import (
    Across,
    Band,
    CalledResult,
    CombinedOut,
    JoinLines,
    Ruled,
    Surfaces,
    UsedWhere,
    WithinFile,
)
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

    from evrin.making.combining.combined_surfaces import Combined


@dataclass(frozen=True)
class CombineOptions:
    """What `evrin combine` is asked for."""

    surfaces: Surfaces
    out: CombinedOut = None
    rule: Ruled = UsedWhere.NEWER
    within: WithinFile = ""
    band: Band = 0.0
    across: Across = 0.0
    join_lines: JoinLines = None
    called: CalledResult = ""
    interval: Interval = None
    convert: Convert = False
    as_json: AsJson = False


@with_options
def combine(asked: CombineOptions) -> int:
    """Make one surface out of several, each cut exactly along the join; print what is used, and the steps at joins."""
    from evrin.formats.door.area_files import read_areas
    from evrin.formats.door.claims import Claim
    from evrin.formats.door.writers import check_lines_writable, check_writable, write, write_lines
    from evrin.making.combining.combined_surfaces import combine as combined_of

    wanted = sorted_outputs(asked.out, pictures=True, tables=True, others=check_writable)
    if asked.join_lines is not None:
        check_lines_writable(asked.join_lines)
    given = list(load_surfaces(asked.surfaces, convert=asked.convert).values())
    areas = read_areas([Claim.parsed(asked.within)], given[0].frame)[0] if asked.within else []
    with progress() as step:
        step("combine")
        combined = combined_of(given, asked.rule.value, areas, band=asked.band, across=asked.across, name=asked.called)

    def sheet() -> Figure:
        from evrin.draw.sheets.earthwork_sheets import combined_sheet

        return combined_sheet(combined, asked.interval)

    write_outputs(wanted, combined.steps, sheet)
    for target in wanted.others:
        write(target, combined.surface)
        say_written(target)
    if asked.join_lines is not None:
        write_lines(asked.join_lines, combined.lines, units=combined.surface.units, crs=combined.surface.crs)
        say_written(asked.join_lines)
    if asked.as_json:
        print_answer(
            records(combined.parts), combined.surface, joins=records(combined.table), gaps_filled=combined.gaps_filled
        )
    else:
        _print(combined)
    return DONE


def _print(combined: Combined) -> None:
    unit = combined.surface.units
    console = output()
    print_frame(combined.parts, f"{combined.surface.name}: what is used, {unit}²")
    if combined.gaps_filled:
        console.print(f"across gaps: {combined.gaps_filled:,.3f} {unit}²")
    if combined.joins:
        console.print()
        print_frame(combined.table, f"Joins, {unit}")
    else:
        messages().print("the surfaces meet nowhere: there is no join")


COMMANDS = (combine,)
