"""A recipe's cloud or grid made a surface in tiles, in memory that does not grow with it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from itertools import islice
from pathlib import Path

import numpy as np

from evrin.base.errors import DataError, GeometryError
from evrin.base.named_values import Row
from evrin.base.tolerances import GROUND_CELL, WIDEST_OBJECT
from evrin.base.wording import counted
from evrin.large.running.engine import Engine
from evrin.large.running.job import Job
from evrin.large.running.tile_folder import once, opened_folder
from evrin.large.tiled_surface import TiledSurface
from evrin.large.tiles.grounding import GroundTile, ground_tile, lowest_of_tile, sizes_of, suited_cell, widest_of_tile
from evrin.large.tiles.square_tiles import Tile, Tiling, check_tiles, suited_tiling
from evrin.large.tiles.thinning import Kept, first_kept, kept_after_measuring
from evrin.large.tiles.tile_index import Index
from evrin.large.tiles.tile_joining import Tree, join_squares, tree_over, triangulate_tile
from evrin.large.tiles.tile_part import save_numbers
from evrin.large.tiles.tile_reading import FilePiece, forget, gather_tile, read_file
from evrin.large.tiles.trimming import long_triangles, save_trimmed
from evrin.recipe.recipe import Recipe
from evrin.recipe.sources.source_contents import SourceContents
from evrin.recipe.sources.source_reading import parts_of, paths_of
from evrin.recipe.sources.source_table import GroundFilter, Source
from evrin.recipe.steps.source import SOURCE
from evrin.recipe.steps.trim import TRIM, Trim
from evrin.recipe.store.digests import digest_of, program_digest, stamps_of
from evrin.recipe.tables import Tables
from evrin.survey.cloud.ground_cells import reach
from evrin.survey.cloud.ground_filter import FilterSizes, spacing_of

_HANDLED = ("site", "source", "trim")
_MOST_ROUNDS = 60
_PARTS_LOOKED_AT = 4


def tiled(
    recipe: Recipe, folder: Path, engine: Engine, *, tile: float | None = None, fresh: bool = False
) -> TiledSurface:
    """Make a recipe's cloud or grid a surface in tiles.

    Triangles are the Delaunay triangulation of all that is kept, bit for bit; every point that a tolerance drops is
    measured against them. See ``docs/large-work.md`` for why there is no seam.

    Parameters
    ----------
    recipe : Recipe
        With one source, a cloud or a grid, and no table but ``[site]`` and ``[trim]`` beside it.
    folder : Path
        Where results of tiles are kept; a run that was stopped goes on from them.
    engine : Engine
        What hands the tiles to workers.
    tile : float, optional
        Side of a tile; one that holds about a million points if not given.
    fresh : bool
        Whether to use nothing that is kept.

    Returns
    -------
    TiledSurface

    Raises
    ------
    DataError
        Before work begins, where the recipe asks for what does not hold across tiles; where a file cannot be read.
    GeometryError
        Where nothing can be triangulated.

    Examples
    --------
    >>> import evrin
    >>> from evrin.demo import small_site
    >>> from evrin.large import tiled, workers
    >>> path = small_site()
    >>> _ = path.write_text(path.read_text().replace('"points"', '"cloud"'))
    >>> with workers(1) as crew:
    ...     field = tiled(evrin.Recipe.read(path), path.with_name("kept"), crew, tile=5.0)
    >>> field
    <TiledSurface 'field': 9 vertices, 8 triangles in 30 tiles>
    >>> field.within((0, 0, 5, 5))
    <Surface 'field': 4 vertices, 2 triangles>
    """
    source = checked_source(recipe)
    paths = tuple(paths_of(recipe.path.parent, source))
    if not paths:
        raise DataError(f"{source.title}: no file has this name")
    tiling = _tiling(recipe, source, paths, tile)
    key = digest_of(
        program_digest(),
        stamps_of(recipe.path.parent, [source]),
        source.model_dump_json(),
        str(recipe.tables.site.frame),
        tiling,
    )[:24]
    job = Job(
        folder=opened_folder(folder, key, fresh=fresh),
        recipe_folder=recipe.path.parent,
        source=source,
        frame=recipe.tables.site.frame,
        tiling=tiling,
        files=paths,
    )
    notes: list[str] = []
    ground = _ground(job, engine, notes)
    counts = {each: counted_ground.left for each, counted_ground in ground.items() if counted_ground.left}
    if sum(counts.values()) < 3:
        raise GeometryError("fewer than three places are left; a surface needs three")
    save_numbers(job, counts)
    mesh, kept = _triangulated(job, engine, counts)
    trimmed, fewer = _trimmed(recipe, job, engine, mesh.tree)
    notes += [*_about(ground, kept, job), *([f"{fewer:,} triangles trimmed"] if fewer else [])]
    heights = min(each.lowest for each in ground.values()), max(each.highest for each in ground.values())
    nodes = {each: tuple(mesh.tree.nodes_of(each)) for each in mesh.digests}
    return TiledSurface(
        index=Index(job, recipe.tables.site.name, nodes, trimmed),
        digest=digest_of(*mesh.digests.values(), trimmed)[:24],
        triangles=mesh.count - fewer,
        vertices=sum(each.vertices for each in kept.values()),
        heights=heights,
        notes=tuple(notes),
    )


@dataclass(frozen=True)
class TiledMesh:
    """Where the triangles are, how many there are, and a digest of those that touch each tile."""

    tree: Tree
    count: int
    digests: dict[Tile, str]

    def digest_of(self, tile: Tile) -> str:
        """Return the digest of the triangles that touch a tile."""
        return self.digests.get(tile, "")


def checked_source(recipe: Recipe) -> Source:
    """Return the source of a recipe that can be worked on in tiles.

    Raises
    ------
    DataError
        Naming what does not hold across tiles.
    """
    tables, name = recipe.tables, recipe.path.name
    others = [f"[{key}]" for key in sorted(tables.model_fields_set) if key not in _HANDLED and _is_on(tables, key)]
    if others:
        raise DataError(
            f"{name}: in tiles there can be [site], one [[source]] and [trim], and here is {', '.join(others)}. "
            "Take it out, or build a part of the ground with `evrin build`, chosen by keep = { window = … }"
        )
    sources = [each for each in tables.on(SOURCE) if isinstance(each, Source)]
    if len(sources) != 1 or sources[0].role not in ("cloud", "grid"):
        raise DataError(f"{name}: in tiles there can be one [[source]], of role cloud or grid")
    if any(trim.smallest_angle_deg is not None for trim in tables.on(TRIM)):
        raise DataError(f"{name}: smallest_angle_deg does not hold across tiles; give a longest_edge alone")
    return sources[0]


def holds_in_tiles(recipe: Recipe) -> bool:
    """Whether all that a recipe asks for can be done in tiles."""
    try:
        checked_source(recipe)
    except DataError:
        return False
    return True


def _is_on(tables: Tables, key: str) -> bool:
    value = getattr(tables, key)
    return any(getattr(each, "on", True) for each in (value if isinstance(value, tuple) else (value,)) if each)


def _tiling(recipe: Recipe, source: Source, paths: tuple[Path, ...], size: float | None) -> Tiling:
    """Tiles suited to the spacing of the points in some files, of which all that lie near one another are needed."""
    spacings = []
    for path in {paths[0], paths[len(paths) // 2]}:
        parts = parts_of(path, source, recipe.tables.site.frame, recipe.path.parent, SourceContents(source.title))
        sample = [part.xyz[:, :2] for part in islice(parts, _PARTS_LOOKED_AT) if len(part)]
        if sum(map(len, sample)) > 1:
            spacings.append(spacing_of(np.concatenate(sample), 8.0 * GROUND_CELL.in_units(recipe.tables.site.units)))
    spacings = [each for each in spacings if each > 0.0] or [1.0]
    cell = source.thin.cell if source.thin is not None else None
    return suited_tiling(min(spacings), cell, size)


def _ground(job: Job, engine: Engine, notes: list[str]) -> dict[Tile, GroundTile]:
    done = job.at("ground", "all").with_suffix(".json")
    tiles = once(job.at("read", "tiles").with_suffix(".json"), lambda: _gathered(job, engine))
    notes += tiles["notes"]
    counts = {(column, row): count for column, row, count in tiles["tiles"]}

    def make() -> Row:
        ground, more = _filtered(job, engine, counts)
        return {"tiles": [[*each, *ground[each]] for each in counts], "notes": more}

    ground = once(done, make)
    notes += ground["notes"]
    forget(job, "read", (".xyz.npy", ".line.npy"))
    forget(job, "points", (".xyz.npy", ".origin.npy"))
    return {(row[0], row[1]): GroundTile(*row[2:]) for row in ground["tiles"]}


def _gathered(job: Job, engine: Engine) -> Row:
    """Read all files, and put the points of each tile together."""
    read = engine.run("read", read_file, [(job, file) for file in range(len(job.files))])
    pieces: dict[Tile, list[FilePiece]] = {}
    for file, each in enumerate(read):
        for stem, column, row, start, stop in each["pieces"]:
            pieces.setdefault((column, row), []).append(FilePiece(stem, file, start, stop))
    if not pieces:
        raise DataError(f"{job.source.title}: no point is left of it; look at keep and leave_out")
    tiles = sorted(pieces)
    check_tiles(job.tiling, tiles)
    counts = engine.run("sort into tiles", gather_tile, [(job, tile, pieces[tile]) for tile in tiles])
    notes = list(dict.fromkeys(note for each in read for note in each["notes"]))
    for name, words in (("left_out", "left out as the table asks"), ("refused", "refused")):
        total = sum(each[name] for each in read)
        notes += [f"{counted(total, 'point')} {words}"] if total else []
    return {"tiles": [[*tile, count] for tile, count in zip(tiles, counts, strict=True)], "notes": notes}


def _filtered(job: Job, engine: Engine, counts: dict[Tile, int]) -> tuple[dict[Tile, GroundTile], list[str]]:
    tiles = list(counts)
    sizes: FilterSizes | None = None
    cells: dict[Tile, list[int]] = {}
    notes = []
    table = job.source.ground_filter
    if table is not None:
        sizes, cells = _sizes(job, engine, tiles, table)
        widest = f", widest object {2.0 * sizes.widest:.0f} {job.frame.units}" if sizes.widest else ""
        notes.append(
            f"ground filter: cell {sizes.cell:g} {job.frame.units}, window {sizes.window:.1f} {job.frame.units}{widest}"
        )
    reach = _away(job, sizes)
    calls = [(job, tile, sizes, {each: cells[each] for each in _near(tile, cells, reach)}) for tile in tiles]
    ground = engine.run("ground" if sizes is not None else "thin", ground_tile, calls)
    return dict(zip(tiles, ground, strict=True)), notes


def _sizes(
    job: Job, engine: Engine, tiles: list[Tile], table: GroundFilter
) -> tuple[FilterSizes, dict[Tile, list[int]]]:
    """The sizes of the ground filter, one for all tiles, and the cells of each tile."""
    cell = table.cell
    if cell is None:
        suited = engine.run("cell of the ground filter", suited_cell, [(job, tile) for tile in tiles])
        cell = _median(suited)
    lowest = engine.run("lowest points", lowest_of_tile, [(job, tile, cell) for tile in tiles])
    cells = dict(zip(tiles, lowest, strict=True))
    widest = 0.0
    if table.window is None:
        reach = int(np.ceil(2.0 * WIDEST_OBJECT.in_units(job.frame.units) / job.tiling.size)) + 1
        calls = [(job, tile, cell, {each: cells[each] for each in _near(tile, cells, reach)}) for tile in tiles]
        widest = max(engine.run("widest object", widest_of_tile, calls))
    extent = (np.ptp(np.array(tiles), axis=0) + 1).max() * job.tiling.size
    return sizes_of(job, cell, widest, float(extent)), cells


def _median(suited: list[list[float]]) -> float:
    """The cell that suits the tile in which the middle one of all points is."""
    rows = sorted(suited)
    counts = np.cumsum([count for _, count in rows])
    return rows[int(np.searchsorted(counts, counts[-1] / 2.0))][0]


def _away(job: Job, sizes: FilterSizes | None) -> int:
    if sizes is None:
        return 0
    return int(np.ceil(reach(sizes.window, sizes.cell) * sizes.cell / job.tiling.size)) + 1


def _near(tile: Tile, tiles: Mapping[Tile, object], reach: int) -> list[Tile]:
    if (2 * reach + 1) ** 2 > len(tiles):
        return [each for each in tiles if max(abs(each[0] - tile[0]), abs(each[1] - tile[1])) <= reach]
    steps = range(-reach, reach + 1)
    around = [(tile[0] + east, tile[1] + north) for north in steps for east in steps]
    return [each for each in around if each in tiles]


def _triangulated(job: Job, engine: Engine, counts: dict[Tile, int]) -> tuple[TiledMesh, dict[Tile, Kept]]:
    """Thin tile by tile, triangulate all, and measure every point against all, until none is too far off."""
    thinned = job.source.thin is not None and job.source.thin.tolerance is not None
    calls = [(job, tile, _near(tile, counts, 1)) for tile in counts]
    kept = dict(zip(counts, engine.run("thin" if thinned else "take all", first_kept, calls), strict=True))
    measured: dict[Tile, str] = {}
    for round_number in range(1, _MOST_ROUNDS):
        mesh = _joined(job, engine, kept)
        if not thinned:
            return mesh, kept
        changed = {tile: mesh.digest_of(tile) for tile in counts if measured.get(tile) != mesh.digest_of(tile)}
        measure = [(job, tile, kept[tile], mesh.tree.nodes_of(tile), digest) for tile, digest in changed.items()]
        answers = engine.run(f"measure every point, round {round_number}", kept_after_measuring, measure)
        measured |= changed
        kept |= dict(zip(changed, answers, strict=True))
        if not any(each.added for each in answers):
            return mesh, kept
    raise DataError(f"points still lie off the surface by more than the tolerance after {_MOST_ROUNDS} rounds")


def _joined(job: Job, engine: Engine, kept: dict[Tile, Kept]) -> TiledMesh:
    tree = tree_over(job, kept)
    leaves = {tree.leaf_of(tile): (tile, each) for tile, each in kept.items() if each.vertices}
    settled = engine.run("triangulate", triangulate_tile, [(job, node, *leaf) for node, leaf in leaves.items()])
    for nodes in tree.levels():
        settled += engine.run("join", join_squares, [(job, node) for node in nodes])
    count = sum(each.triangles for each in settled)
    if count == 0:
        raise GeometryError("all points lie on one line; a surface needs a point off that line")
    listed: dict[Tile, list[str]] = {}
    for each in settled:
        for column, row, digest in each.listed:
            listed.setdefault((column, row), []).append(digest)
    return TiledMesh(tree, count, {tile: digest_of(*sorted(digests)) for tile, digests in sorted(listed.items())})


def _trimmed(recipe: Recipe, job: Job, engine: Engine, tree: Tree) -> tuple[str, int]:
    """Name of the file of the triangles that are trimmed, and how many there are."""
    trims = recipe.tables.on(TRIM)
    if not trims:
        return "", 0
    trim: Trim = trims[0]
    longest = float(trim.longest_edge or np.inf)
    calls = [(job, node.name, longest) for node in tree.nodes.values()]
    removed = engine.run("trim the rim", long_triangles, calls)
    return save_trimmed(job, np.concatenate(removed), longest, inside=trim.inside)


def _about(ground: Mapping[Tile, GroundTile], kept: Mapping[Tile, Kept], job: Job) -> list[str]:
    """What became of the points, in words."""
    units, thin = job.frame.units, job.source.thin
    notes = []
    not_ground, thinned, same = (int(sum(each[k] for each in ground.values())) for k in (1, 2, 3))
    left = sum(each.left for each in ground.values())
    if not_ground:
        notes.append(f"{counted(not_ground, 'point')} classified as non-ground")
    if thinned and thin is not None:
        notes.append(f"{counted(thinned, 'point')} thinned, the {thin.pick} in each cell of {thin.cell:g} {units} left")
    if same:
        apart = max(each.apart for each in ground.values())
        notes.append(
            f"{counted(same, 'point')} at the place of a lower one left out; at most {apart:.3f} {units} above it"
        )
    if thin is not None and thin.tolerance is not None:
        worst = max(each.worst for each in kept.values())
        count = sum(each.vertices for each in kept.values())
        notes.append(
            f"{count:,} points represent the cloud within {worst:.3f} {units} (measured on all {left:,}; tolerance "
            f"{thin.tolerance:g} {units})"
        )
    return notes
