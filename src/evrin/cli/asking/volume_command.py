"""`evrin volume`."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

from evrin.base.errors import DataError
from evrin.base.quantity_units import QuantityUnits
from evrin.cli.asking.record_command import add_to_record, again_of
from evrin.cli.asking.volume_tables import VolumeTables, print_tables, stated_in
from evrin.cli.options import volume_options as choose
from evrin.cli.options.options_object import with_options
from evrin.cli.options.shared_options import (
    AsJson,
    Out,
    Outputs,
    Quantities,
    names_file,
    numbers,
    print_notes,
    sorted_outputs,
    write_outputs,
    written,
)
from evrin.cli.terminal import (
    DONE,
    load_surface,
    open_because,
    place,
    print_answer,
    print_frame,
    progress,
    records,
    say_written,
)

if TYPE_CHECKING:
    from matplotlib.figure import Figure

    from evrin.recipe.handover.measuring import MeasuredVolume
    from evrin.recipe.tables.volume_table import VolumeTable


@dataclass(frozen=True)
class VolumeOptions:
    """What `evrin volume` is asked for."""

    surfaces: choose.Surfaces = None
    to_level: choose.ToLevel = None
    to_plane: choose.ToPlane = ""
    grade: choose.Grade = None
    rising_to: choose.RisingTo = None
    heap: choose.Heap = ""
    reach: choose.Reach = None
    apart: choose.Apart = False
    within: choose.Within = ""
    strip: choose.Strip = None
    strip_within: choose.StripWithin = ""
    bulking: choose.Bulking = 1.0
    compaction: choose.Compaction = 1.0
    density: choose.Density = None
    no_change: choose.NoChange = None
    spread: choose.TopSpread = None
    base_spread: choose.BaseSpread = None
    shared_spread: choose.SharedSpread = None
    spacing: choose.Spacing = None
    along: choose.AlongLine = ""
    bearing: choose.Bearing = None
    method: choose.Method = None
    left: choose.Left = None
    right: choose.Right = None
    cell: choose.Cell = None
    bands: choose.DepthBands = ""
    table: choose.LevelTable = None
    out: Annotated[
        Out, written("Pictures (.png, .pdf, .svg), tables (.csv), the difference as a surface; may be given again.")
    ] = None
    sections: choose.SectionPages = None
    no_change_lines: choose.NoChangeLines = None
    polygons: choose.BandPolygons = None
    allow_uncovered: choose.AllowUncovered = False
    append: choose.Append = None
    called: choose.Called = "volume"
    day: choose.Day = ""
    again: choose.Again = None
    convert: choose.ConvertBase = False
    quantities: Quantities = ""
    as_json: AsJson = False

    @property
    def paths(self) -> list[Path]:
        """The base and the top, or the top alone."""
        return self.surfaces or []


@with_options
def volume(options: VolumeOptions) -> int:
    """Measure cut and fill between two surfaces, or from a level, a plane, or the ground under a heap.

    Exact for the surfaces, with what heights leave uncertain, and other methods beside it where asked for. Exit code
    1: part of the ground, or of an area, is not covered by both.
    """
    if options.again is not None:
        from evrin.recipe.handover.volume_record import read_record

        return again_of(options.again, read_record(options.again)[0], as_json=options.as_json)
    if not options.paths:
        raise DataError("no surface; give a base and a top, or a top with --to-level, --to-plane or --heap")
    return _level_table(options) if options.table is not None else _measure(options)


def _measure(options: VolumeOptions) -> int:
    from evrin.analysis.volumes.difference_surface import rising_limits
    from evrin.formats.door.writers import check_lines_writable, check_writable
    from evrin.recipe.handover.measuring import measured_volume

    wanted = sorted_outputs(options.out, pictures=True, tables=True, others=check_writable)
    for target in (options.no_change_lines, options.polygons):
        if target is not None:
            check_lines_writable(target)
    pages = sorted_outputs([options.sections] if options.sections else [], pictures=True).pictures
    if pages and options.spacing is None:
        raise DataError("--sections needs --spacing, and --along or --bearing")
    asked, limits = _asked(options), list(numbers(options.bands, "limits"))
    if limits:
        rising_limits(limits)
    top = load_surface(options.paths[-1])
    units = QuantityUnits.of(options.quantities, top.units)
    with progress() as step:
        step("measure")
        measured = measured_volume(asked, top, convert=options.convert)
        tables = VolumeTables(measured, limits, units)
        _write(tables, wanted, options.no_change_lines, options.polygons)
        for target in pages:
            _write_sections(measured, target)
    print_notes(measured.findings)
    if options.append is not None:
        stated = asked.model_copy(update={"top": str(options.paths[-1])})
        add_to_record(options.append, stated, measured, options.day, convert=options.convert)
    if options.as_json:
        print_answer(tables.rows, measured.top, **tables.answer())
    else:
        print_tables(tables)
    left = measured.volume.total.uncovered
    if left and not options.allow_uncovered:
        return open_because(f"{left:,.3f} {measured.top.units}² are not covered by both, and not measured")
    return DONE


_STATED = (
    *("grade", "reach", "within", "strip", "strip_within", "no_change"),
    *("bulking", "compaction", "density", "spread", "base_spread", "shared_spread"),
    *("spacing", "left", "right", "cell"),
)


def _asked(chosen: VolumeOptions) -> VolumeTable:
    """The table of a recipe that options make up."""
    from pydantic import ValidationError

    from evrin.recipe.document.recipe_faults import in_words
    from evrin.recipe.tables.volume_table import VolumeTable

    if len(chosen.paths) > 2:
        raise DataError(f"a volume lies between two surfaces, a base and a top; {len(chosen.paths)} are given")
    options = {key: getattr(chosen, key) for key in _STATED}
    options |= {"level": chosen.to_level, "plane": plane_of(chosen.to_plane), "bearing": chosen.rising_to}
    options |= {"name": chosen.called, **_heap_of(chosen.heap), "apart": chosen.apart or None}
    options |= {"sections_bearing": chosen.bearing, **_along(chosen.along)}
    options["method"] = None if chosen.method is None else chosen.method.value
    given = {key: value for key, value in options.items() if value not in (None, "", ())}
    if len(chosen.paths) == 2:
        given["base"] = str(chosen.paths[0])
    try:
        return VolumeTable(**given)
    except ValidationError as error:
        raise DataError(in_words(error)) from error


def plane_of(text: str) -> tuple[tuple[float, ...], ...]:
    """Return places of a plane from ``0,0,41 50,0,42 0,50,41``.

    Raises
    ------
    DataError
        For anything else.
    """
    corners = tuple(numbers(part, "coordinates") for part in text.split())
    if any(len(each) != 3 for each in corners):
        raise DataError(f"{text!r} is not a plane; write easting,northing,height of each place, spaces between")
    return corners


def _heap_of(text: str) -> dict[str, object]:
    if not text:
        return {}
    return {"toe": text} if names_file(text) else {"heap": place(text)}


def _along(text: str) -> dict[str, object]:
    """The line of sections: a file, or places."""
    if not text:
        return {}
    return {"along": text} if names_file(text) else {"line": tuple(place(part) for part in text.split())}


def _write(tables: VolumeTables, wanted: Outputs, line: Path | None, polygons: Path | None) -> None:
    """Write what is asked for; the difference is made only where it is needed."""
    from evrin.analysis.volumes.difference_surface import band_polygons, no_change_lines, usual_bands
    from evrin.formats.door.writers import write, write_lines

    measured, limits = tables.measured, tables.limits
    write_outputs(wanted, tables.written())
    if not (wanted.pictures or wanted.others or line or polygons):
        return
    difference = measured.difference
    units, crs = difference.units, difference.crs

    def sheet() -> Figure:
        from evrin.draw.sheets.volume_sheets import volume_sheet
        from evrin.surface.surface import Surface

        pair = [measured.base, measured.top] if isinstance(measured.base, Surface) else []
        within = [] if measured.heap is None else [measured.heap.within_95]
        return volume_sheet(
            difference,
            measured.volume,
            limits,
            areas=measured.areas,
            surfaces=pair,
            base=measured.base,
            top=measured.top,
            net_95=within,
            quantities=tables.units,
        )

    wanted.tables.clear()
    write_outputs(wanted, sheet=sheet)
    for target in wanted.others:
        write(target, difference)
        say_written(target)
    if line is not None:
        write_lines(line, no_change_lines(difference, measured.top), units=units, crs=crs)
        say_written(line)
    if polygons is not None:
        write_lines(polygons, band_polygons(difference, limits or usual_bands(difference)), units=units, crs=crs)
        say_written(polygons)


def _write_sections(measured: MeasuredVolume, target: Path) -> None:
    from evrin.draw.sheets.section_sheets import save_pages, section_sheets
    from evrin.making.pads.planes import base_surface

    cut_by = measured.sections
    if cut_by is None:
        return
    base, _ = base_surface(measured.top, measured.base)
    through = cut_by.sections_of({f"base: {measured.volume.base}": base, f"top: {measured.volume.top}": measured.top})
    areas = list(zip(cut_by.cut.tolist(), cut_by.fill.tolist(), strict=True))
    title = f"end areas: {measured.volume.top} above {measured.volume.base}"
    sheets = section_sheets(
        through,
        units=measured.top.units,
        name=measured.asked.name,
        title=title,
        credit=measured.top.facts.line(),
        areas=areas,
    )
    for page in save_pages(sheets, target):
        say_written(page)


def _level_table(options: VolumeOptions) -> int:
    from evrin.analysis.volumes.level_volumes import level_volumes
    from evrin.formats.door.area_files import read_areas
    from evrin.formats.door.claims import Claim

    wanted = sorted_outputs(options.out, pictures=True, tables=True)
    if len(options.paths) != 1 or options.heap or options.to_plane or options.to_level is not None:
        raise DataError("--table is of one surface, at every level; leave out the base")
    ground = load_surface(options.paths[0])
    areas = read_areas([Claim.parsed(options.within)], ground.frame)[0] if options.within else []
    curve = level_volumes(ground, areas)
    units = QuantityUnits.of(options.quantities, ground.units)
    table = stated_in(curve.table(options.table), units)

    def sheet() -> Figure:
        from evrin.draw.sheets.volume_sheets import level_sheet

        return level_sheet(curve, table)

    write_outputs(wanted, table, sheet)
    if options.as_json:
        print_answer(records(table), ground)
    else:
        print_frame(table, f"{ground.name}: level in {ground.units}, area in {units.area}, volume in {units.volume}")
    return DONE


COMMANDS = (volume,)
