"""`evrin layers`."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from evrin.base.errors import DataError
from evrin.cli.options.options_object import with_options
from evrin.cli.options.shared_options import AsJson, line_of, print_notes, sorted_outputs, write_outputs
from evrin.cli.options.works_options import (
    Between,
    BetweenHoles,
    Carry,
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
    from matplotlib.figure import Figure

    from evrin.making.layers.ground_layers import GroundLayers
    from evrin.making.limits.limit_cells import Area
    from evrin.surface.surface import Surface


@dataclass(frozen=True)
class LayersOptions:
    """What `evrin layers` is asked for."""

    surface: Ground
    holes: Holes
    out: LayersOut = None
    materials: Materials = ""
    carry: Carry = ""
    between: BetweenHoles = Between.TRIANGLES
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
    from evrin.making.layers.ground_layers import layers_under

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
        laid = layers_under(
            base, boreholes, carry=_carried(asked.carry), between=asked.between.value, pinch=asked.pinch
        )
        dug = _Dug.asked(asked, base) if asked.down_to else None
        volumes = laid.volumes(dug.floor, dug.roof, dug.areas) if dug is not None else None
    line = line_of(asked.along, base) if asked.along else None

    def sheet() -> Figure:
        from evrin.draw.sheets.layer_sheets import layer_section_sheet

        assert line is not None
        floor, roof = (None, None) if dug is None else (dug.floor, dug.roof)
        return layer_section_sheet(laid, line.points, start=line.start, reach=asked.reach, down_to=floor, up_to=roof)

    write_outputs(wanted, volumes, sheet)
    if asked.tops is not None:
        _write_tops(laid, asked.tops)
    for note in laid.notes:
        messages().print(f"note: {note}", soft_wrap=True)
    table = laid.table
    if asked.as_json:
        print_answer(records(table), base, volumes=records(volumes) if volumes is not None else [], notes=laid.notes)
    else:
        print_frame(table, f"Layers under {base.name}, {base.units}")
        if volumes is not None:
            print_frame(volumes, f"Volumes by material, {base.units}³")
    return DONE


class _Dug(NamedTuple):
    """What volumes are asked of."""

    floor: Surface | float
    roof: Surface | float | None
    areas: list[Area]

    @classmethod
    def asked(cls, asked: LayersOptions, ground: Surface) -> _Dug:
        from evrin.formats.door.area_files import read_areas
        from evrin.formats.door.claims import Claim

        areas = read_areas([Claim.parsed(asked.within)], ground.frame)[0] if asked.within else []
        return cls(_surface_or_level(asked.down_to), _surface_or_level(asked.up_to) if asked.up_to else None, areas)


def _surface_or_level(text: str) -> Surface | float:
    try:
        return float(text)
    except ValueError:
        return load_surface(Path(text))


def _carried(text: str) -> str | dict[str, str]:
    """``thickness`` for all, or ``topsoil=thickness,clay=height``."""
    if "=" not in text:
        return text.strip()
    pairs = [part.partition("=") for part in text.split(",") if part.strip()]
    return {name.strip(): how.strip() for name, _, how in pairs}


def _write_tops(laid: GroundLayers, folder: Path) -> None:
    from evrin.formats.door.writers import write

    folder.mkdir(parents=True, exist_ok=True)
    for top in laid.tops:
        target = folder / f"{top.name.replace(' ', '-')}.xml"
        write(target, top)
        say_written(target)


COMMANDS = (layers,)
