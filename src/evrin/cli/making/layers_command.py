"""`evrin layers`."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from evrin.base.errors import DataError
from evrin.cli.options.options_object import with_options
from evrin.cli.options.shared_options import AsJson, line_of, print_notes, sorted_outputs, write_outputs
from evrin.cli.options.works_options import (
    DownTo,
    Ground,
    HoleReach,
    Holes,
    LayersOut,
    Materials,
    Pinch,
    SectionLine,
    Tops,
    UpTo,
    WithinAreas,
)
from evrin.cli.terminal import DONE, load_surface, messages, print_answer, print_frame, progress, records, say_written

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.figure import Figure

    from evrin.making.ground_layers import GroundLayers
    from evrin.surface.surface import Surface


@dataclass(frozen=True)
class LayersOptions:
    """What `evrin layers` is asked for."""

    surface: Ground
    holes: Holes
    out: LayersOut = None
    materials: Materials = ""
    pinch: Pinch = 0.5
    down_to: DownTo = ""
    up_to: UpTo = ""
    within: WithinAreas = ""
    along: SectionLine = ""
    reach: HoleReach = None
    tops: Tops = None
    as_json: AsJson = False


@with_options
def layers(asked: LayersOptions) -> int:
    """Lay the top of each material between boreholes; print volumes by material, and draw a section."""
    from evrin.formats.door.borehole_files import read_boreholes
    from evrin.formats.door.claims import Claim
    from evrin.making.ground_layers import layers_under

    wanted = sorted_outputs(asked.out, pictures=True, tables=True)
    if wanted.pictures and not asked.along:
        raise DataError("a section needs a line; give --along")
    if wanted.tables and not asked.down_to:
        raise DataError("volumes need what bounds them from below; give --down-to")
    base = load_surface(asked.surface)
    path, claim = Claim.parsed(asked.holes)
    names = [name.strip() for name in asked.materials.split(",") if name.strip()]
    boreholes, findings = read_boreholes(path, base.frame, claim, names)
    print_notes(findings)
    with progress() as step:
        step("lay layers")
        laid = layers_under(base, boreholes, pinch=asked.pinch)
        volumes = _volumes(laid, asked.down_to, asked.up_to, asked.within) if asked.down_to else None
    line = line_of(asked.along, base).points if asked.along else None

    def sheet() -> Figure:
        from evrin.draw.sheets.layer_sheets import layer_section_sheet

        assert line is not None
        return layer_section_sheet(laid, line, reach=asked.reach)

    write_outputs(wanted, volumes, sheet)
    if asked.tops is not None:
        _write_tops(laid, asked.tops)
    for note in laid.notes:
        messages().print(f"note: {note}", soft_wrap=True)
    table = laid.table
    if asked.as_json:
        print_answer(records(table), base, volumes=records(volumes) if volumes is not None else [], notes=laid.notes)
    elif not asked.out:
        print_frame(table, f"Layers under {base.name}, {base.units}")
        if volumes is not None:
            print_frame(volumes, f"Volumes by material, {base.units}³")
    return DONE


def _surface_or_level(text: str) -> Surface | float:
    try:
        return float(text)
    except ValueError:
        return load_surface(Path(text))


def _volumes(laid: GroundLayers, down_to: str, up_to: str, within: str) -> pd.DataFrame:
    from evrin.formats.door.area_files import read_areas
    from evrin.formats.door.claims import Claim

    areas = read_areas([Claim.parsed(within)], laid.tops[0].frame)[0] if within else []
    return laid.volumes(_surface_or_level(down_to), _surface_or_level(up_to) if up_to else None, areas)


def _write_tops(laid: GroundLayers, folder: Path) -> None:
    from evrin.formats.door.writers import write

    folder.mkdir(parents=True, exist_ok=True)
    for top in laid.tops:
        target = folder / f"{top.name.replace(' ', '-')}.xml"
        write(target, top)
        say_written(target)


COMMANDS = (layers,)
