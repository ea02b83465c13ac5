"""`evrin layers`."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from evrin.cli.options import AsJson, Out, line_of, print_notes, sorted_outputs, write_outputs, written
from evrin.cli.terminal import (
    DONE,
    load_surface,
    messages,
    print_answer,
    print_frame,
    progress,
    records,
    say_written,
)
from evrin.errors import DataError

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.figure import Figure

    from evrin.analysis import GroundLayers
    from evrin.surface import Surface


def layers(
    ground: Annotated[Path, typer.Argument(metavar="GROUND", help="A recipe or a surface file.")],
    holes: Annotated[str, typer.Option(metavar="FILE", help="Boreholes: a row for each material of each hole.")],
    out: Annotated[
        Out, written("Sections (.png, .pdf, .svg) and volumes by material (.csv) to write; may be given again.")
    ] = None,
    materials: Annotated[
        str, typer.Option(metavar="NAMES", help="Materials in order from above, commas between.", show_default=False)
    ] = "",
    pinch: Annotated[
        float,
        typer.Option(metavar="PART", help="Where a material ends on the way to a hole without it: 0.5 is half way."),
    ] = 0.5,
    above: Annotated[
        str,
        typer.Option(metavar="HEIGHT|FILE", help="Volumes by material above this: a level, or a pit's surface."),
    ] = "",
    below: Annotated[
        str, typer.Option(metavar="HEIGHT|FILE", help="And below this; the ground if not given.", show_default=False)
    ] = "",
    within: Annotated[
        str, typer.Option(metavar="FILE", help="Closed lines within which volumes count.", show_default=False)
    ] = "",
    along: Annotated[
        str, typer.Option(metavar="LINE", help="The line of the section: places, or a file with one.")
    ] = "",
    reach: Annotated[
        float | None, typer.Option(metavar="LENGTH", help="How far from the line holes are drawn.")
    ] = None,
    tops: Annotated[
        Path | None, typer.Option(metavar="FOLDER", help="The top of each material to write here (.xml).")
    ] = None,
    as_json: AsJson = False,
) -> int:
    """Lay the top of each material between boreholes; print volumes by material, and draw a section."""
    from evrin.analysis import layers_under
    from evrin.formats import read_boreholes
    from evrin.formats.claims import Claim

    wanted = sorted_outputs(out, pictures=True, tables=True)
    if wanted.pictures and not along:
        raise DataError("a section needs a line; give --along")
    if wanted.tables and not above:
        raise DataError("volumes need what bounds them from below; give --above")
    base = load_surface(ground)
    path, claim = Claim.parsed(holes)
    names = [name.strip() for name in materials.split(",") if name.strip()]
    found, findings = read_boreholes(path, base.frame, claim, names)
    print_notes(findings)
    with progress() as step:
        step("lay layers")
        laid = layers_under(base, found, pinch=pinch)
        volumes = _volumes(laid, above, below, within) if above else None
    line = line_of(along, base).points if along else None

    def sheet() -> Figure:
        from evrin.draw import layer_section_sheet

        assert line is not None
        return layer_section_sheet(laid, line, reach=reach)

    write_outputs(wanted, volumes, sheet)
    if tops is not None:
        _write_tops(laid, tops)
    for note in laid.notes:
        messages().print(f"note: {note}", soft_wrap=True)
    table = laid.table
    if as_json:
        print_answer(records(table), base, volumes=records(volumes) if volumes is not None else [], notes=laid.notes)
    elif not out:
        print_frame(table, f"Layers under {base.name}, {base.units}")
        if volumes is not None:
            print_frame(volumes, f"Volumes by material, {base.units}³")
    return DONE


def _surface_or_level(text: str) -> Surface | float:
    try:
        return float(text)
    except ValueError:
        return load_surface(Path(text))


def _volumes(laid: GroundLayers, above: str, below: str, within: str) -> pd.DataFrame:
    from evrin.formats.area_files import read_areas
    from evrin.formats.claims import Claim

    areas = read_areas([Claim.parsed(within)], laid.tops[0].frame)[0] if within else []
    return laid.volumes(_surface_or_level(above), _surface_or_level(below) if below else None, areas)


def _write_tops(laid: GroundLayers, folder: Path) -> None:
    from evrin.formats import write

    folder.mkdir(parents=True, exist_ok=True)
    for top in laid.tops:
        target = folder / f"{top.name.replace(' ', '-')}.xml"
        write(target, top)
        say_written(target)


COMMANDS = (layers,)
