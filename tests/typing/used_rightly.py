"""What a surveyor writes: every exported name of `evrin`, used as documented. Types are checked; it is never run."""

from pathlib import Path

import numpy as np
import pandas as pd
from matplotlib.axes import Axes
from matplotlib.figure import Figure

import evrin
from evrin.analysis import Factors, Volume, cross_sections, end_areas, find_toe, trust
from evrin.check import Finding, find, fix_tables
from evrin.demo import lay_out, small_site, true_error
from evrin.draw import Shades, map_sheet, save_sheet, volume_sheet
from evrin.formats import look, read_boreholes
from evrin.large import Levels, TiledSurface, tiled, workers, write_contours
from evrin.making import Pad, Plane, Slopes, balanced, combine, layers_under, outline, pad_to_ground
from evrin.recipe import append_entry, draft, read_record
from evrin.report import Along, report_page, write_look
from evrin.survey import CodeRule, CodeTable, find_busts, inventory

POINTS = [[0.0, 0.0, 1.0], [8.0, 0.0, 1.0], [8.0, 8.0, 2.0], [0.0, 8.0, 2.0]]


def made() -> evrin.Surface:
    kerb = [[0.0, 4.0, 1.5], [8.0, 4.0, 1.5]]
    rim = [[0.0, 0.0], [8.0, 0.0], [8.0, 8.0], [0.0, 8.0]]
    ground = evrin.triangulate(POINTS, [kerb], [rim], longest_edge=20.0, name="field", units="m", crs="EPSG:25832")
    evrin.triangulate(pd.DataFrame({"x": [0.0], "y": [0.0], "z": [0.0]}))
    evrin.triangulate(np.array(POINTS), crisp=False)
    same = evrin.Surface.from_arrays(ground.vertices, ground.triangles, name="same", kind="proposed")
    return same.renamed(colour="#336699", description="as found").with_lines(ground.lines)


def asked(ground: evrin.Surface) -> None:
    west, south, east, north = ground.extent
    heights: list[float] = ground.height([1.0, 2.0], [3.0, 4.0]).tolist()
    slope: float = float(ground.slope(1.0, 2.0))
    place = ground.height_at(4.0, 4.0)
    corners = [corner.height for corner in place.held_by]
    areas: tuple[float, float] = (ground.plan_area, ground.slope_area)
    figures: dict[str, float | int] = ground.figures()
    table: pd.DataFrame = ground.to_dataframe()
    faults = [fault.kind for fault in ground.faults()]
    bands = ground.slope_bands([2, 5, 10], unit="percent")["plan_area"].sum()
    print(heights, slope, corners, areas, figures, table, faults, bands, west + east, south + north)
    print(ground.height_bands([1.0, 1.5]), ground.aspect_bands(), ground.hollows(0.1), ground.summits(0.2))
    print([path.end for path in ground.water_paths([(4.0, 4.0)])], ground.rim()[0].tolist())


def along(ground: evrin.Surface) -> None:
    line = evrin.Alignment.along([(0.0, 0.0), (8.0, 8.0)])
    profile: evrin.Profile = ground.profile([(0.0, 0.0), (8.0, 8.0)], start=100.0)
    print(profile.length, profile.height([2.0, 4.0]).tolist(), profile.frame.units)
    sections = ground.sections(line, 5.0, left=4.0, right=4.0, at_bends=True)
    several = cross_sections({"old": ground, "new": ground}, line, left=4.0, right=4.0, stations=[1.0, 2.0])
    print([section.chainage for section in (*sections, *several)], ground.points_along(line, interval=2.0, first=100))


def contoured(ground: evrin.Surface, folder: Path) -> evrin.Contours:
    lines = ground.contours(0.5, index=2.5, smooth=0.5)
    for line in lines:
        print(line.level, line.is_closed, line.points.shape)
    evrin.write(folder / "contours.dxf", lines)
    return ground.contours(levels=np.arange(1.0, 2.0, 0.25), lowest=1.0, highest=2.0)


def measured(old: evrin.Surface, new: evrin.Surface) -> Volume:
    volume = new.volume_above(old, {"bay": [[0, 0], [4, 0], [4, 4]]}, factors=Factors(bulking=1.2), spread={"a": 0.02})
    print(volume.total.cut, volume.total.fill_spread.shared, new.volume_above(1.5).total.net)
    plane = Plane.level(1.0)
    print(new.volume_above(plane, tolerance=0.01).total.fill, new.level_volumes().volume_below([1.0]))
    heap = new.heap_volume([(0, 0), (4, 0), (4, 4)], reach=50.0)
    difference: evrin.Surface = new.less(old)
    print(heap.volume, find_toe(new, (4.0, 4.0)), end_areas(difference, 5.0).chainage, new.difference(old).rms)
    return volume


def built(folder: Path) -> evrin.Build:
    recipe = evrin.Recipe.read(small_site())
    build = recipe.build(keep=folder / "kept", progress=print)
    open_findings: list[Finding] = build.open_findings
    print(fix_tables(open_findings), build.tally["used"].sum(), [stage.seconds for stage in build.stages])
    print(evrin.compare(build, build).difference.largest, build.compare(build.surface).names)
    paths: list[Path] = [*evrin.freeze(build, folder), *build.freeze(str(folder))]
    build.report(folder / "report.html", interval=0.5, along=[Along("track", evrin.Alignment.along([(0, 0), (8, 8)]))])
    report: str = report_page(build, made_on="2026-05-12")
    write_look(folder / "look.html", build.surface, build.findings)
    print(paths, len(report), [row.code for row in find(recipe.evidence())], recipe.status().is_up_to_date)
    return build


def edited(ground: evrin.Surface, recipe: Path) -> evrin.Surface:
    editor = evrin.Editor.of(ground)
    editor.flip((4.0, 4.0))
    added: str = editor.add((2.0, 2.0), 1.2)
    document = evrin.RecipeDocument(recipe)
    document.append("trim", longest_edge=30.0, why="rim")
    document.save()
    print(added, evrin.checked_edit({"do": "delete", "at": (2.0, 2.0)}).why, find_busts(ground).vertices)
    return editor.surface()


def put_together(old: evrin.Surface, new: evrin.Surface, holes: Path) -> None:
    combined = combine([old, new], "newer", band=2.0)
    pad = Pad(np.array([[2.0, 2.0, 2.0], [6.0, 2.0, 2.0], [6.0, 6.0, 2.0]]), Slopes(cut=1.5, fill=2.0), "slab")
    on_ground = pad_to_ground(old, pad)
    boreholes, findings = read_boreholes(holes, evrin.Frame("m", "local"))
    layers = layers_under(old, boreholes, pinch=0.5)
    print(combined.surface.name, on_ground.cut, balanced(old, [pad]).shift, [top.name for top in layers.tops], findings)
    print(old.clip(keep=outline(old)[0]).transform("EPSG:25832").transform(evrin.Frame("ft")).units)


def drawn(ground: evrin.Surface, volume: Volume, folder: Path) -> Axes:
    figure: Figure = map_sheet(ground, shading=Shades("slope", (2.0, 5.0)), contours=ground.contours(0.5))
    save_sheet(figure, folder / "map.png")
    save_sheet(volume_sheet(ground, volume), folder / "volume.pdf")
    return ground.plot(Figure().add_subplot(), shading="relief", triangles=False)


def exchanged(folder: Path) -> evrin.Grid:
    ground = evrin.read_surface(folder / "ground.xml", units="ftUS", exchanged=True, frame=evrin.Frame("m"))
    ground.write(folder / "ground.dxf", parts=["faces", "lines"])
    ground.write(str(folder / "ground.tif"), cell=0.5, method="natural")
    kerb = evrin.SourceLine("kerb", np.array([[0.0, 0.0, 1.0], [5.0, 0.0, 1.0]]))
    evrin.write_lines(folder / "kerbs.geojson", [kerb], units="m", crs="local")
    checked: evrin.CheckPoints = ground.check_points([[1, 1, 1.1]], ["a"], tolerance=0.03)
    print(checked.passed, trust(ground).largest, inventory(look(folder / "day1.csv")).rows, kerb.is_ring)
    print(evrin.Surface.read(folder / "ground.xml", "ground").provenance, CodeTable((CodeRule("KB*", "line"),)))
    return ground.gridded(1.0)


def recorded(folder: Path) -> int:
    entries, broken = read_record(folder / "record.jsonl")
    print([entry.date for entry in entries], broken, draft([folder], folder / "first.toml").text)
    return append_entry(folder / "record.jsonl", "heap", {"level": 1.0}, {}, "m", [{"area": "all", "net": 3.0}])


def in_tiles(recipe: evrin.Recipe, folder: Path) -> TiledSurface:
    with workers(2) as crew:
        surface = tiled(recipe, folder, crew, tile=100.0)
        print(write_contours(surface, crew, folder / "contours.gpkg", Levels(0.5)))
    return surface


def refused(path: Path) -> str:
    try:
        evrin.Recipe.read(path).build()
    except evrin.RecipeError as error:
        return "; ".join(error.faults)
    except (evrin.DataError, evrin.GeometryError, evrin.EditError, evrin.MissingPackageError) as error:
        return str(error)
    except evrin.EvrinError:
        raise
    shots: evrin.Shots | None = None
    print(lay_out(path), true_error(made(), count=100), shots)
    return ""
