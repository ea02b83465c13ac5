"""`evrin pad`."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from evrin.base.errors import DataError
from evrin.base.named_values import Row
from evrin.base.wording import counted, unsigned
from evrin.cli.asking.volume_command import plane_of
from evrin.cli.options.options_object import with_options
from evrin.cli.options.shared_options import AsJson, Interval, numbers, print_notes, sorted_outputs, write_outputs
from evrin.cli.options.works_options import (
    Balanced,
    BermEvery,
    BermWidth,
    Corners,
    CornerShape,
    CutRun,
    Daylight,
    EarthworkFile,
    Factor,
    FillRun,
    Ground,
    Level,
    OnPlane,
    OutlineFile,
    PadOut,
)
from evrin.cli.terminal import (
    DONE,
    load_surface,
    messages,
    open_because,
    output,
    print_answer,
    print_rows,
    progress,
    say_written,
)

if TYPE_CHECKING:
    from matplotlib.figure import Figure

    from evrin.kernels import Floats
    from evrin.making.pads.balancing import Balance
    from evrin.making.pads.pad_earthworks import Pad
    from evrin.making.pads.pad_slopes import Slopes
    from evrin.making.pads.pads import PadToGround
    from evrin.making.pads.planes import Plane
    from evrin.surface.surface import Surface


@dataclass(frozen=True)
class PadOptions:
    """What `evrin pad` is asked for."""

    surface: Ground
    outline: OutlineFile
    out: PadOut = None
    level: Level = None
    on_plane: OnPlane = ""
    cut: CutRun = "2"
    fill: FillRun = "2"
    corners: Corners = CornerShape.ROUND
    berm_every: BermEvery = 0.0
    berm_width: BermWidth = 0.0
    balance: Balanced = False
    factor: Factor = 1.0
    earthwork: EarthworkFile = None
    daylight: Daylight = None
    interval: Interval = None
    as_json: AsJson = False


@with_options
def pad(options: PadOptions) -> int:
    """Build a pad into the ground, with slopes out to where they meet it; print cut and fill.

    Exit code 1: the ground ends before a slope meets it.
    """
    from evrin.formats.door.writers import check_lines_writable, check_writable
    from evrin.making.pads.balancing import balanced

    wanted = sorted_outputs(options.out, pictures=True, others=check_writable)
    for target, check in ((options.earthwork, check_writable), (options.daylight, check_lines_writable)):
        if target is not None:
            check(target)
    base = load_surface(options.surface)
    pads = _pads(options, base)
    with progress() as step:
        step("balance" if options.balance else "build pads")
        balance = balanced(base, pads, options.factor) if options.balance else None
        built = balance.built if balance is not None else _in_turn(base, pads)
    proposed = built[-1].surface if balance is None else _proposed(base, built)

    def sheet() -> Figure:
        from evrin.draw.sheets.earthwork_sheets import pad_sheet

        return pad_sheet(built, base, options.interval)

    write_outputs(wanted, sheet=sheet)
    _write(built, proposed, wanted.others, options.earthwork, options.daylight)
    ends = [(each.pad.name, *row) for each in built for row in each.ends.tolist()]
    if options.as_json:
        shift = balance.shift if balance is not None else None
        rows = [_row(each) for each in built]
        listed = [dict(zip(("pad", "easting", "northing", "length"), each, strict=True)) for each in ends]
        print_answer(rows, proposed, shift=shift, ends=listed)
    else:
        _print(built, balance, base.units)
    for name, east, north, length in ends:
        messages().print(
            f"{name}: the ground ends before the slope meets it, over {length:.2f} {base.units} round "
            f"{east:.2f}, {north:.2f}",
            soft_wrap=True,
        )
    if ends:
        return open_because(f"the ground ends before a slope meets it, at {counted(len(ends), 'place')}")
    return DONE


def _pads(options: PadOptions, ground: Surface) -> list[Pad]:
    from evrin.formats.door.claims import Claim
    from evrin.formats.door.intake import take_in_lines
    from evrin.making.pads.pad_earthworks import Pad

    path, claim = Claim.parsed(options.outline)
    taken = take_in_lines(path, ground.frame, claim)
    print_notes(taken.findings)
    is_open = [line.name for line in taken.contents.lines if not line.closed]
    if is_open:
        raise DataError(f"{path}: {', '.join(is_open[:5])} is not closed; an outline is a closed line or a polygon")
    heights, slopes = _heights(options), _slopes(options)
    lines = taken.contents.lines
    pads = []
    for k, line in enumerate(lines, 1):
        name = line.name or (path.stem if len(lines) == 1 else f"{path.stem} {k}")
        searched = _on_the_ground(line.xyz, ground, name) if options.balance and heights is None else heights
        pads.append(Pad.of(line.xyz, searched, slopes, name))
    return pads


def _on_the_ground(outline: Floats, ground: Surface, name: str) -> float | None:
    """The level from which a balance is looked for, where neither options nor the outline state one."""
    import numpy as np

    if np.isfinite(outline[:, 2]).all():
        return None
    below = ground.height(outline[:, 0], outline[:, 1])
    if np.isnan(below).all():
        raise DataError(f"{name}: its outline is off the ground; give --level, or an outline on it")
    return float(np.nanmean(below))


def _heights(options: PadOptions) -> float | Plane | None:
    from evrin.making.pads.planes import Plane

    if options.level is not None and options.on_plane:
        raise DataError("give --level or --on-plane, not both")
    if options.on_plane:
        return Plane.through(plane_of(options.on_plane))
    return None if options.level is None else float(options.level)


def _slopes(options: PadOptions) -> Slopes:
    from evrin.making.pads.pad_slopes import Slopes

    return Slopes(
        _runs(options.cut), _runs(options.fill), options.corners.value, options.berm_every, options.berm_width
    )


def _runs(text: str) -> list[float]:
    """Runs for one of rise, of which each may be in percent."""
    out = []
    for part in text.split(","):
        (value,) = numbers(part.strip().removesuffix("%"), "slopes") or (0.0,)
        if part.strip().endswith("%"):
            if not value > 0.0:
                raise DataError(f"{part.strip()} is not a slope; give a percentage above 0")
            value = 100.0 / value
        out.append(value)
    return out


def _in_turn(ground: Surface, pads: list[Pad]) -> list[PadToGround]:
    """Each pad on what the one before it left."""
    from evrin.making.pads.pads import pad_to_ground

    built: list[PadToGround] = []
    for each in pads:
        built.append(pad_to_ground(built[-1].surface if built else ground, each))
    return built


def _proposed(ground: Surface, built: list[PadToGround]) -> Surface:
    """The ground with all pads in it, each of which was built on the ground as it was."""
    if len(built) == 1:
        return built[0].surface
    from evrin.making.combining.combined_surfaces import combine

    name = " and ".join(each.pad.name for each in built)
    return combine([ground, *(each.earthwork for each in built)], name=name).surface.renamed(kind="proposed")


def _write(
    built: list[PadToGround], proposed: Surface, others: list[Path], earthwork: Path | None, daylight: Path | None
) -> None:
    from evrin.formats.door.writers import write, write_lines
    from evrin.making.combining.combined_surfaces import combine

    for target in others:
        write(target, proposed)
        say_written(target)
    if earthwork is not None:
        alone = [each.earthwork for each in built]
        write(earthwork, alone[0] if len(alone) == 1 else combine(alone).surface)
        say_written(earthwork)
    if daylight is not None:
        lines = [line for each in built for line in each.daylight]
        write_lines(daylight, lines, units=proposed.units, crs=proposed.crs)
        say_written(daylight)


def _row(built: PadToGround) -> Row:
    z = built.pad.outline[:, 2]
    figures = {"cut": built.cut, "fill": built.fill, "net": built.net}
    areas = {"cut_area": built.cut_area, "fill_area": built.fill_area}
    return {"pad": built.pad.name, "lowest": float(z.min()), "highest": float(z.max()), **figures, **areas}


def _print(built: list[PadToGround], balance: Balance | None, unit: str) -> None:
    rows = []
    for each in built:
        row = _row(each)
        heights = f"{row['lowest']:.3f}" + ("" if row["lowest"] == row["highest"] else f" to {row['highest']:.3f}")
        rows.append([row["pad"], heights, *(unsigned(float(row[key])) for key in list(row)[3:])])
    heads = ["pad", f"height {unit}", f"cut {unit}³", f"fill {unit}³", "net", f"cut {unit}²", f"fill {unit}²"]
    print_rows(heads, rows, "", [False] + [True] * 6)
    if balance is not None:
        console = output()
        if len(built) == 1 and rows[0][1].count(" ") == 0:
            console.print(f"balancing level: {rows[0][1]} {unit}")
        left = f"fill less {balance.factor:g} times cut: {unsigned(balance.net)} {unit}³"
        console.print(f"moved by {balance.shift:+.4f} {unit}; {left}")


COMMANDS = (pad,)
