"""`evrin tiles`."""

from __future__ import annotations

import os
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from evrin.base.errors import DataError
from evrin.base.wording import unsigned
from evrin.cli.options import tile_options as choose
from evrin.cli.options.options_object import with_options
from evrin.cli.options.shared_options import AsJson, Index, Interval, RecipeFile, Unit, WindowText, window_of
from evrin.cli.session import session
from evrin.cli.terminal import DONE, load_surface, messages, print_answer, print_rows, progress_by_parts, say_written

if TYPE_CHECKING:
    from evrin.large.other_surface import Against
    from evrin.large.running.engine import Engine
    from evrin.large.tile_volumes import TotalVolume
    from evrin.large.tiled_surface import TiledSurface
    from evrin.recipe.recipe import Recipe

_MOST_WORKERS = 1000


@dataclass(frozen=True)
class TilesOptions:
    """What `evrin tiles` is asked for."""

    recipe: RecipeFile
    contours: choose.ContoursOut = None
    interval: Interval = None
    index: Index = None
    heights: choose.HeightsOut = None
    slopes: choose.SlopesOut = None
    slope_unit: choose.GridUnit = Unit.percent
    cell: choose.CellSide = None
    against: choose.AgainstSurface = None
    differences: choose.DifferencesOut = None
    out: choose.PartOut = None
    window: WindowText = ""
    tile: choose.TileSide = None
    workers: choose.Workers = 0
    scheduler: choose.Scheduler = ""
    folder: choose.KeptIn = None
    as_json: AsJson = False


@with_options
def tiles(wanted: TilesOptions) -> int:
    """Make a cloud or grid that does not fit in memory a surface in tiles; write contours and grids of it.

    The triangles are the same in every bit whatever the tiles' order and the number of workers. What was stopped goes
    on where it was.
    """
    from evrin.recipe.recipe import Recipe

    _check(wanted)
    read = Recipe.read(wanted.recipe)
    with progress_by_parts() as report:
        from evrin.large.running.engine import workers as opened

        report("start workers", 0, 0)
        # A run that is stopped leaves what the system clears up, with a warning that helps nobody.
        os.environ.setdefault("PYTHONWARNINGS", "ignore:resource_tracker")
        with opened(wanted.workers, wanted.scheduler, report) as crew:
            surface = _made(read, wanted.folder or wanted.recipe.with_name(f"{wanted.recipe.stem}-tiles"), crew, wanted)
            _write(surface, crew, wanted)
            measured = _measured(surface, crew, wanted)
    for note in surface.notes:
        messages().print(f"note: {note}", soft_wrap=True)
    _print(surface, measured, as_json=wanted.as_json)
    return DONE


def _check(wanted: TilesOptions) -> None:
    """Refuse what cannot be done, before any work."""
    from evrin.formats.door.writers import check_writable
    from evrin.large.tiled_outputs import check_contours_writable, check_grid_writable

    if not 0 <= wanted.workers <= _MOST_WORKERS:
        raise DataError(f"--workers runs from 0 to {_MOST_WORKERS:,}; got {wanted.workers}")
    if wanted.tile is not None and wanted.tile <= 0.0:
        raise DataError(f"--tile must be above 0; got {wanted.tile:g}")
    if (wanted.contours is None) != (wanted.interval is None):
        raise DataError("--contours and --interval go together")
    grids = [path for path in (wanted.heights, wanted.slopes, wanted.differences) if path is not None]
    if bool(grids) != (wanted.cell is not None):
        raise DataError("--cell goes with --heights, --slopes or --differences")
    if wanted.differences is not None and wanted.against is None:
        raise DataError("--differences needs --against")
    if (wanted.out is not None) != bool(wanted.window):
        raise DataError("--out and --window go together")
    if wanted.slope_unit is Unit.one_in:
        raise DataError("slopes in a grid are in percent, degrees or ratio: level ground has no run for a rise of 1")
    window_of(wanted.window)
    if wanted.contours is not None and wanted.interval is not None:
        check_contours_writable(wanted.contours, wanted.interval, wanted.index)
    if wanted.cell is not None:
        for path in grids:
            check_grid_writable(path, wanted.cell)
    if wanted.out is not None:
        check_writable(wanted.out)


def _made(recipe: Recipe, folder: Path, crew: Engine, wanted: TilesOptions) -> TiledSurface:
    from evrin.large.tiled_building import tiled

    return tiled(recipe, folder, crew, tile=wanted.tile, fresh=session().fresh)


def _write(surface: TiledSurface, crew: Engine, wanted: TilesOptions) -> None:
    from evrin.formats.door.writers import write
    from evrin.large.tiled_outputs import Levels, write_contours, write_heights, write_slopes

    if wanted.contours is not None and wanted.interval is not None:
        write_contours(surface, crew, wanted.contours, Levels(wanted.interval, wanted.index))
        say_written(wanted.contours)
    if wanted.heights is not None and wanted.cell is not None:
        write_heights(surface, crew, wanted.heights, wanted.cell)
        say_written(wanted.heights)
    if wanted.slopes is not None and wanted.cell is not None:
        write_slopes(surface, crew, wanted.slopes, wanted.cell, wanted.slope_unit.value)
        say_written(wanted.slopes)
    part = window_of(wanted.window)
    if part is not None and wanted.out is not None:
        write(wanted.out, surface.within(part))
        say_written(wanted.out)


def _measured(surface: TiledSurface, crew: Engine, wanted: TilesOptions) -> TotalVolume | None:
    from evrin.large.tiled_outputs import volume_against, write_differences

    if wanted.against is None:
        return None
    base = _base(surface, crew, wanted, wanted.against)
    if wanted.differences is not None and wanted.cell is not None:
        write_differences(surface, crew, wanted.differences, wanted.cell, base)
        say_written(wanted.differences)
    return volume_against(surface, crew, base)


def _base(surface: TiledSurface, crew: Engine, wanted: TilesOptions, path: Path) -> Against:
    """The surface to compare with: in tiles if its recipe can be, in one piece otherwise."""
    from evrin.large.other_surface import against
    from evrin.large.tiled_building import holds_in_tiles
    from evrin.recipe.recipe import Recipe

    if path.suffix.lower() == ".toml" and holds_in_tiles(other := Recipe.read(path)):
        folder = surface.job.folder.parent.with_name(f"{surface.job.folder.parent.name}-against")
        return against(surface, _made(other, folder, crew, wanted))
    return against(surface, load_surface(path))


def _print(surface: TiledSurface, measured: TotalVolume | None, *, as_json: bool) -> None:
    units = surface.job.frame.units
    low, high = surface.heights
    facts: list[tuple[str, object, str]] = [
        ("vertices", surface.vertices, f"{surface.vertices:,}"),
        ("triangles", surface.triangles, f"{surface.triangles:,}"),
        ("tiles", len(surface.tiles), f"{len(surface.tiles):,} of {surface.job.tiling.size:g} {units}"),
        ("lowest", low, f"{unsigned(low, 3)} {units}"),
        ("highest", high, f"{unsigned(high, 3)} {units}"),
    ]
    if measured is not None:
        for name, unit in (("cut", 3), ("fill", 3), ("net", 3), ("common_area", 2), ("only_here", 2)):
            value = getattr(measured, name)
            facts.append((name, value, f"{unsigned(value, 3)} {units}{'²' if unit == 2 else '³'}"))
    if as_json:
        frame = surface.job.frame
        row = {"name": surface.name, **{name: value for name, value, _ in facts}}
        print_answer([row], units=units, crs=frame.crs, tile=surface.job.tiling.size, notes=list(surface.notes))
        return
    print_rows(["", surface.name], [[name.replace("_", " "), text] for name, _, text in facts], "", [False, True])


COMMANDS = (tiles,)
