"""Print what Evrin takes beside general-purpose packages, side by side in one run; names choose groups of rows."""

from __future__ import annotations

import resource
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import ezdxf
import laspy
import numpy as np
import shapely
from combining import combining_rows
from large_recipe import contours_to_weed, lay_out
from lxml import etree
from matplotlib.tri import LinearTriInterpolator, Triangulation
from rich.console import Console
from rich.table import Table
from scipy.spatial import Delaunay
from tiles import tile_rows
from timing import seconds, side_by_side
from volumes import volume_rows
from waiting import compiling_row, first_key_rows, large_rows, public_rows

import evrin
from evrin.analysis import contour_labels
from evrin.analysis.contours.contour_labelling import around_labels
from evrin.analysis.terrain.drainage import hollows
from evrin.check import RULES, Evidence, find
from evrin.draw.sheets.view_sheet import view_of
from evrin.formats import How, read
from evrin.kernels import Floats, Ints
from evrin.kernels.preparing import prepare
from evrin.making.recovering import recovered
from evrin.report.packing import packed
from evrin.report.viewer_page import page_data
from evrin.surface import Shots, Surface
from evrin.survey.cloud.ground_filter import is_ground
from evrin.survey.lines.weeding import Weed, weeded
from evrin.tin.exact.curve_order import distinct_places
from evrin.tin.mesh import turning
from evrin.tin.mesh.working_mesh import Mesh

SIZE = 1_000_000


def scattered(count: int, seed: int = 1) -> Floats:
    return np.random.default_rng(seed).random((count, 2)) * 1000.0


def mesh_of(xy: Floats, parts: int = 0) -> Mesh:
    order, starts = distinct_places(xy)
    places = np.take(xy, order[starts[:-1]], axis=0)
    return Mesh(places, np.zeros(len(places)), parts=parts)


def short_segments(mesh: Mesh, count: int) -> Ints:
    """Return edges between places that follow one another along the curve: like breaklines, they hardly cross."""
    starts = np.linspace(0, mesh.vertex_count - 5, count).astype(np.int32)
    return np.column_stack((starts, starts + 2)).astype(np.int32)


class Rows:
    """The rows of the table."""

    def __init__(self) -> None:
        self.table = Table(title="Evrin beside general-purpose packages", title_justify="left")
        for head in ("work", "Evrin", "beside", "ratio", "to reach", ""):
            self.table.add_column(head, justify="left" if head in ("work", "") else "right")

    def faster(self, work: str, times: tuple[float, float], least: float) -> None:
        """Add a row in which the other must take so many times longer."""
        own, other = times
        ratio = other / own
        self._add(work, f"{own:.3g} s", f"{other:.3g} s", f"{ratio:,.1f}×", f"≥ {least:g}×", ratio >= least)

    def at_most(self, work: str, times: tuple[float, float], most: float) -> None:
        """Add a row in which our own time may be so many times the other at most."""
        own, other = times
        ratio = own / other
        self._add(work, f"{own:.3g} s", f"{other:.3g} s", f"{ratio:.2f}×", f"≤ {most:g}×", ratio <= most)

    def beside(self, work: str, times: tuple[float, float]) -> None:
        """Add a row without a limit."""
        own, other = times
        self._add(work, f"{own:.3g} s", f"{other:.3g} s", f"{own / other:.2f}×", "", None)

    def noted(self, work: str, own: float, what: str) -> None:
        """Add a row of one time, with what was done in it."""
        self._add(work, f"{own:.3g} s", what, "", "", None)

    def limit(self, work: str, value: float, most: float, unit: str) -> None:
        """Add a row of one figure with a limit."""
        self._add(work, f"{value:.0f} {unit}", "", "", f"≤ {most:g}", value <= most)

    def _add(self, work: str, own: str, other: str, ratio: str, goal: str, reached: bool | None) -> None:
        verdict = "" if reached is None else "reached" if reached else "MISSED"
        self.table.add_row(work, own, other, ratio, goal, verdict)
        print(f"{work}: {own} {other} {ratio}", file=sys.stderr)


def triangulation_rows(rows: Rows) -> Mesh:
    mesh_of(scattered(1000))
    xy = scattered(SIZE)
    points = shapely.multipoints(xy)

    def plain() -> None:
        mesh_of(xy, 1)

    def with_segments() -> None:
        mesh = mesh_of(xy, 1)
        segments = short_segments(mesh, 100_000)
        mesh.force(segments, np.ones(len(segments), np.bool_))

    mesh_of(xy)
    own, other = side_by_side(plain, lambda: Delaunay(xy), 2)
    rows.faster("Delaunay, 1 million points, one thread, beside SciPy", (own, other), 18)
    rows.faster("the same on both cores", (seconds(lambda: mesh_of(xy), 5), other), 26)
    public_rows(rows, mesh_of, xy)
    beside = side_by_side(plain, lambda: shapely.delaunay_triangles(points), 2)
    rows.faster("the same, beside shapely", beside, 7)
    rows.at_most("plus 100,000 breakline segments", side_by_side(with_segments, plain, 6), 1.5)
    four = scattered(4 * SIZE)
    rows.at_most("4 million against 1 million points", side_by_side(lambda: mesh_of(four, 1), plain, 4), 4.6)
    return mesh_of(xy)


def flip_row(rows: Rows, mesh: Mesh) -> None:
    """Time the flips that are legal, checks included."""
    spent, count = 0.0, 0
    for e in range(0, 30_000, 7):
        start = time.perf_counter()
        try:
            mesh.flip(e)
        except evrin.EditError:
            continue
        spent += time.perf_counter() - start
        count += 1
    rebuilding = seconds(lambda: mesh_of(scattered(SIZE)), 1)
    rows.faster("one flip on 1 million vertices, beside rebuilding", (spent / count, rebuilding), 1000)


def surface_of(count: int) -> Surface:
    xy = scattered(count)
    z = 20.0 * np.sin(xy[:, 0] / 90.0) * np.cos(xy[:, 1] / 120.0)
    return evrin.triangulate(np.column_stack((xy, z)))


def analysis_rows(rows: Rows) -> None:
    small = surface_of(2000)
    levels = np.linspace(-19.9, 19.9, 80)
    small.contours(levels=levels)
    small.height([500.0], [500.0])
    small.heights_on_grid(0.0, 0.0, 10.0, 100, 100)
    ground = surface_of(SIZE // 2)
    x, y, z = ground.vertices.T
    drawn = Triangulation(x, y, ground.triangles)

    def other_contours() -> None:
        from matplotlib import _tri

        generator = _tri.TriContourGenerator(drawn.get_cpp_triangulation(), z)
        for level in levels:
            generator.create_contour(level)

    def own_contours() -> None:
        surface_again = Surface(ground.vertices, ground.triangles, ground.edge_lines)
        surface_again.contours(levels=levels)

    rows.faster("contours, 1 million triangles, 80 levels", side_by_side(own_contours, other_contours, 3), 4)
    smooth = ground.contours(0.5, smooth=1.0)
    contour_labels(smooth, 100.0, 2.0)
    around_labels(smooth, contour_labels(smooth, 100.0, 2.0))
    own, other = side_by_side(lambda: ground.contours(levels=levels, smooth=1.0), own_contours, 3)
    rows.beside("the same, smoothed, beside exact", (own, other))
    placed = contour_labels(smooth, 100.0, 2.0)
    own = seconds(lambda: around_labels(smooth, contour_labels(smooth, 100.0, 2.0)))
    rows.noted("their labels placed, lines left out below", own, f"{len(placed):,} labels")
    east, north = np.meshgrid(np.arange(1000.0), np.arange(1000.0))

    def own_grid() -> None:
        ground.heights_on_grid(0.0, 0.0, 1.0, 1000, 1000)

    def other_grid() -> None:
        LinearTriInterpolator(Triangulation(x, y, ground.triangles), z)(east, north)

    rows.faster("heights on a 1,000 × 1,000 grid", side_by_side(own_grid, other_grid), 200)
    asked = scattered(SIZE, 2)

    def own_places() -> None:
        surface_again = Surface(ground.vertices, ground.triangles, ground.edge_lines)
        surface_again.height(asked[:, 0], asked[:, 1])

    def other_places() -> None:
        finder = Triangulation(x, y, ground.triangles).get_trifinder()
        finder(asked[:, 0], asked[:, 1])

    beside = side_by_side(own_places, other_places)
    rows.faster("heights at 1 million places, locator included", beside, 30)


def check_rows(rows: Rows) -> None:
    """Time every rule on a million vertices beside triangulating them, and a view of 200,000 triangles."""
    rng = np.random.default_rng(4)
    xyz = np.column_stack((scattered(SIZE, 3), np.zeros(SIZE)))
    xyz[:, 2] = 40.0 + 20.0 * np.sin(xyz[:, 0] / 90.0) * np.cos(xyz[:, 1] / 120.0) + rng.normal(0.0, 0.02, SIZE)

    def evidence() -> Evidence:
        surface = evrin.triangulate(xyz)
        rows_at = np.arange(len(surface.vertices))
        shots = Shots.of_file("cloud.csv", np.arange(1, SIZE + 1))
        nothing = np.zeros(SIZE, np.bool_)
        return Evidence(surface, xyz, shots, rows_at, nothing, [], [], (), (), [], [], [], 30.0, 0.02)

    find(evidence())
    given = evidence()
    own, other = side_by_side(lambda: find(given), lambda: evrin.triangulate(xyz))
    rows.at_most("all rules, 1 million vertices, beside triangulating", (own, other), 1)
    checks = {code: rule.check for code, rule in RULES.items() if rule.check is not None}
    each = {code: seconds(lambda check=check: list(check(given)), 1) for code, check in checks.items()}
    worst = sorted(each.items(), key=lambda row: -row[1])[:3]
    rows.noted("  of these the longest", worst[0][1], ", ".join(f"{code} {time:.2f} s" for code, time in worst))
    ground = surface_of(SIZE // 10)
    lines = ground.contours(1.0)
    view_of(ground, contours=lines)
    own = seconds(lambda: view_of(ground, contours=lines), 1)
    rows.noted("a view of 200,000 triangles, contours draped", own, "a sheet")
    own = seconds(lambda: packed(*page_data(ground, [], lines)), 1)
    rows.noted("packing them for the viewer page", own, f"{len(packed(*page_data(ground, [], lines))) / 2**20:.1f} MB")


def _hills(xy: Floats) -> Floats:
    x, y = xy.T
    return np.column_stack((xy, 400 + 60 * np.sin(x / 300) + 40 * np.cos(y / 230) + 6 * np.sin(x * y / 9e4)))


def regular_rows(rows: Rows) -> None:
    """Time checks, water and alignments on regular ground and on contours, beside a scatter of the same number."""
    side, step = 370, 20.0
    width = side * step
    rng = np.random.default_rng(6)
    scatter = _hills(rng.uniform(0.0, width, (side * side, 2)))
    east, north = np.meshgrid(np.arange(side) * step, np.arange(side) * step)
    lattice = _hills(np.column_stack((east.ravel(), north.ravel())))
    drawn = evrin.triangulate(scatter[:20_000]).contours(2.0)
    along = [np.column_stack((line.points, np.full(len(line.points), line.level))) for line in drawn]
    contours = np.concatenate(along)[: side * side]

    def evidence(xyz: Floats) -> Evidence:
        surface, count = evrin.triangulate(xyz), len(xyz)
        shots = Shots.of_file("ground.csv", np.arange(1, count + 1))
        nothing = np.zeros(count, np.bool_)
        at = np.arange(count)
        return Evidence(surface, xyz, shots, at, nothing, [], [], (), (), [], [], [], 30.0, 0.02)

    given = {"scatter": evidence(scatter), "lattice": evidence(lattice), "contours": evidence(contours)}
    find(given["scatter"])
    for name in ("lattice", "contours"):
        beside = side_by_side(lambda name=name: find(given[name]), lambda: find(given["scatter"]), 2)
        rows.at_most(f"all rules on a {name} of 137,000, beside a scatter", beside, 2)
        beside = side_by_side(
            lambda name=name: hollows(given[name].surface), lambda: hollows(given["scatter"].surface), 2
        )
        rows.at_most(f"hollows of a {name} of 137,000, beside a scatter", beside, 2)
    part = np.linspace(0.0, 1.0, 8900)
    line = np.column_stack((part * width, width / 2.0 + 800.0 * np.sin(9.0 * part)))
    turning.chainages(line[:9], scatter[:99, :2], 20.0, 4.0)
    own = side_by_side(lambda: turning.chainages(line, scatter[:, :2], 20.0, 4.0), lambda: mesh_of(scatter[:, :2]))
    rows.at_most("near an alignment of 8,900 vertices, beside triangulating", own, 2)
    own = side_by_side(
        lambda: turning.chainages(line + 1e6, scatter[:, :2], 20.0, 4.0), lambda: mesh_of(scatter[:, :2])
    )
    rows.at_most("the same, far from it", own, 2)
    wide = np.column_stack((rng.uniform(0, 900, (37_000, 2)), np.zeros(37_000)))
    is_ground(wide)
    beside = side_by_side(lambda: is_ground(wide), lambda: is_ground(wide * (0.22, 0.22, 1.0)), 2)
    rows.at_most("ground of 37,000 points on 0.8 km², beside 0.04 km²", beside, 2)


def file_rows(rows: Rows) -> None:
    """Time reading files beside the packages that the formats use, reading alone."""
    ground = surface_of(100_000)
    with tempfile.TemporaryDirectory() as temporary:
        folder = Path(temporary)
        cloud, drawing, interchange = folder / "c.laz", folder / "g.dxf", folder / "g.xml"
        write_cloud(cloud, SIZE)
        evrin.write(drawing, ground)
        evrin.write(interchange, ground)

        def cloud_to_surface() -> None:
            evrin.triangulate(read(cloud).points.xyz)

        def bare_cloud_and_triangulation() -> None:
            mesh_of(np.ascontiguousarray(laspy.read(cloud).xyz[:, :2]))

        cloud_to_surface()
        work = "LAZ of 1 million points to surface, beside laspy and Delaunay"
        rows.at_most(work, side_by_side(cloud_to_surface, bare_cloud_and_triangulation, 4), 1.5)

        def bare_interchange() -> None:
            for _, element in etree.iterparse(interchange):
                element.clear()

        beside = side_by_side(lambda: read(interchange), bare_interchange)
        rows.at_most(f"LandXML of {len(ground.triangles):,} triangles, beside lxml iterating", beside, 2)
        beside = side_by_side(lambda: read(drawing), lambda: ezdxf.readfile(drawing))
        rows.at_most(f"DXF of {len(ground.triangles):,} faces, beside ezdxf reading", beside, 0.3)
    edges = ground.vertices[ground.edges]
    beside = side_by_side(lambda: recovered(edges), lambda: evrin.triangulate(ground.vertices))
    rows.beside(f"triangles from {len(edges):,} loose edges, beside triangulating", beside)


def cleaning_rows(rows: Rows) -> None:
    """Time weeding, and a large recipe: beside reading and triangulating alone, and built again after an edit."""
    contours = contours_to_weed()
    how = [Weed(tolerance=0.02)] * len(contours)
    weeded(contours[:5], how[:5])
    done = weeded(contours, how)
    name = f"weeding contours of {done.before:,} vertices to {done.after:,}"
    rows.limit(name, 1000.0 * seconds(lambda: weeded(contours, how)), 1000, "ms")
    with tempfile.TemporaryDirectory() as temporary:
        folder = Path(temporary)
        path = lay_out(folder)
        points = read(folder / "points.csv").points.xyz
        recipe = evrin.Recipe.read(path)
        recipe.build()

        def reading_and_triangulating() -> None:
            read(folder / "points.csv", How())
            read(folder / "lines.csv", How(as_lines=True))
            mesh_of(np.ascontiguousarray(points[:, :2]))

        beside = side_by_side(recipe.build, reading_and_triangulating, 2)
        rows.at_most("recipe: 1 million points, 100,000 segments, 50 boundaries", beside, 2)
        rows.faster("built again after an edit, in one process", _again(recipe), 5)


def _again(recipe: evrin.Recipe) -> tuple[float, float]:
    edit = recipe.tables.edit[0]
    first = seconds(lambda: recipe.build(keep=True, fresh=True), 2)
    other = recipe.tables.model_copy(update={"edit": (edit.model_copy(update={"by": 0.2}),)})
    return seconds(lambda: type(recipe)(recipe.path, other).build(keep=True), 3), first


def write_cloud(path: Path, count: int) -> None:
    """Write points in the order of a flight, a strip at a time."""
    rng = np.random.default_rng(5)
    header = laspy.LasHeader(point_format=6, version="1.4")
    header.scales = np.full(3, 0.001)
    points = laspy.LasData(header)
    points.x, points.y = rng.uniform(0.0, 500.0, count), np.sort(rng.uniform(0.0, 500.0, count))
    points.z = 40.0 + 5.0 * np.sin(points.x / 90.0) + rng.normal(0.0, 0.02, count)
    points.write(path)


MEMORY_PROBE = """
import re, numpy as np
from pathlib import Path
from evrin.tin.mesh.working_mesh import Mesh
from evrin.tin.exact.curve_order import distinct_places
def peak():
    return int(re.search(r"VmHWM:\\s+(\\d+)", Path("/proc/self/status").read_text()).group(1)) * 1024
def build(count):
    xy = np.random.default_rng(1).random((count, 2))
    order, starts = distinct_places(xy)
    return Mesh(np.ascontiguousarray(xy[order[starts[:-1]]]), np.zeros(count))
build(1000)
before = peak()
build(4_000_000)
print((peak() - before) / 4_000_000)
"""


def process_rows(rows: Rows) -> None:
    memory = subprocess.run([sys.executable, "-c", MEMORY_PROBE], capture_output=True, text=True, check=True)
    rows.limit("memory at the peak, 4 million points, input included", float(memory.stdout), 250, "bytes a point")


def main() -> None:
    prepare(lambda done, count: None)
    rows = Rows()
    groups: dict[str, Callable[[], object]] = {
        "triangulation": lambda: flip_row(rows, triangulation_rows(rows)),
        "analysis": lambda: analysis_rows(rows),
        "check": lambda: check_rows(rows),
        "regular": lambda: regular_rows(rows),
        "files": lambda: file_rows(rows),
        "cleaning": lambda: cleaning_rows(rows),
        "volumes": lambda: volume_rows(rows, seconds),
        "combining": lambda: combining_rows(rows, seconds),
        "memory": lambda: process_rows(rows),
        "waiting": lambda: first_key_rows(rows),
        "large": lambda: large_rows(rows),
        "tiles": lambda: tile_rows(rows),
        "compiling": lambda: compiling_row(rows),
    }
    for name in sys.argv[1:] or groups:
        groups[name]()
    Console(width=130).print(rows.table)
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    print(f"peak memory of this run: {peak:,.0f} MiB")


if __name__ == "__main__":
    main()
