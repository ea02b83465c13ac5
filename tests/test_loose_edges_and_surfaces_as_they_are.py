"""Triangles found again from their edges, and surfaces that somebody made, taken as they are."""

import ezdxf
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import evrin
from evrin.base.errors import DataError, GeometryError
from evrin.formats import read
from evrin.making.recovering import recovered
from evrin.recipe import Recipe
from test_every_format_comes_back import corners, sample, surfaces
from zoo import SITE, lattice

ROW = np.array([[0, 0, 1], [10, 0, 2], [20, 0, 3], [0, 10, 1], [10, 10, 2.5], [20, 10, 3]], float)
SIDES = [(0, 1), (1, 2), (3, 4), (4, 5), (0, 3), (1, 4), (2, 5)]
DIAGONALS = [(0, 4), (1, 5)]


def edges_of(pairs, points=ROW):
    return np.array([[points[a], points[b]] for a, b in pairs], float)


def build(tmp_path, *tables):
    (tmp_path / "site.toml").write_text("\n".join(tables), encoding="utf-8")
    return Recipe.read(tmp_path / "site.toml").build()


def table(file, role, **keys):
    return "\n".join(["[[source]]", f'file = "{file}"', f'role = "{role}"', *(f"{k} = {v}" for k, v in keys.items())])


@given(surfaces(), st.randoms(use_true_random=False))
def test_the_exploded_edges_of_any_surface_give_the_same_triangles(surface, random):
    edges = surface.vertices[surface.edges]
    order = list(range(len(edges)))
    random.shuffle(order)
    turned = np.array([edges[k][:: random.choice((1, -1))] for k in order])
    found = recovered(turned)
    assert corners(found.surface) == corners(surface)
    assert not len(found.doubled) and not len(found.dangling) and not len(found.crossing) and not found.gaps
    assert sum(map(len, found.outline)) == (surface.mates < 0).sum()
    assert (found.surface.vertices == turned.reshape(-1, 3)[2 * found.edge_of + _end(found, turned)]).all()


def _end(found, turned):
    """Which end of its edge each vertex is."""
    ends = turned[found.edge_of]
    return (ends[:, 0] != found.surface.vertices).any(axis=1).astype(int)


@given(surfaces(), st.integers(0, 2**32))
def test_with_edges_missing_nothing_is_made_up(surface, seed):
    rng = np.random.default_rng(seed)
    stays = rng.random(len(surface.edges)) < 0.7
    try:
        found = recovered(surface.vertices[surface.edges[stays]])
    except (GeometryError, IndexError):
        return
    present = {frozenset(pair) for pair in surface.edges[stays].tolist()}
    number = {tuple(place): k for k, place in enumerate(surface.vertices.tolist())}
    for triangle in found.surface.vertices[found.surface.triangles].tolist():
        a, b, c = (number[tuple(place)] for place in triangle)
        assert {frozenset((a, b)), frozenset((b, c)), frozenset((c, a))} <= present


def test_what_does_not_close_to_a_triangle_is_reported():
    whole = recovered(edges_of(SIDES + DIAGONALS))
    assert len(whole.surface.triangles) == 4 and not whole.gaps
    gap = recovered(edges_of([*SIDES, DIAGONALS[0]]))
    assert len(gap.surface.triangles) == 2 and [len(ring) for ring in gap.gaps] == [4]
    doubled = recovered(edges_of([*SIDES, *DIAGONALS, (4, 0), (1, 0)]))
    assert doubled.doubled.tolist() == [9, 10]
    points = np.vstack((ROW, [[30, 5, 3], [35, 5, 3], [10, 0, 9]]))
    loose = recovered(edges_of([*SIDES, *DIAGONALS, (5, 6), (6, 7)], points))
    assert loose.dangling.tolist() == [9, 10]
    crossed = recovered(edges_of([*SIDES, *DIAGONALS, (1, 3)]))
    assert crossed.crossing.tolist() == [7, 9] and len(crossed.surface.triangles) == 2
    upright = recovered(edges_of([*SIDES, *DIAGONALS, (1, 8)], points))
    assert upright.upright.tolist() == [9]
    with pytest.raises(GeometryError, match="no three of the edges"):
        recovered(edges_of(SIDES))


def test_a_ring_of_three_round_something_else_is_an_opening():
    outer = np.array([[0, 0, 1], [30, 0, 1], [0, 30, 1], [8, 8, 2], [12, 8, 2], [8, 12, 2]], float)
    found = recovered(edges_of([(0, 1), (1, 2), (2, 0), (3, 4), (4, 5), (5, 3)], outer))
    assert corners(found.surface) == {frozenset(map(tuple, outer[3:].tolist()))} and len(found.gaps) == 1


def test_ends_that_narrowly_miss_are_reported_and_joined_where_that_is_asked():
    edges = edges_of(SIDES + DIAGONALS)
    edges[0, 1] += [0.004, 0.0, 0.0]
    apart = recovered(edges)
    assert len(apart.surface.triangles) < 4 and len(apart.nearly)
    assert len(recovered(edges, snap=0.005).surface.triangles) == 4


def test_a_drawing_of_edges_is_a_source(tmp_path):
    surface = sample()
    evrin.write(tmp_path / "e.dxf", surface, parts=["edges"])
    document = ezdxf.readfile(tmp_path / "e.dxf")
    x, y = SITE
    document.modelspace().add_line((x + 18, y + 18, 41), (x + 25, y + 25, 41), dxfattribs={"layer": "STRAY"})
    document.saveas(tmp_path / "e.dxf")
    built = build(tmp_path, table("e.dxf", "edges"))
    assert corners(built.surface) == corners(surface)
    (stray,) = (finding for finding in built.findings if finding.code == "dangling-edges")
    assert "unlike-ends" in {finding.code for finding in built.open_findings}
    assert "e.dxf entity" in stray.shots[0] and stray.is_open
    columns = [name for name in built.tally.columns if name not in ("source", "read")]
    assert (built.tally[columns].sum(axis=1) == built.tally["read"]).all()
    assert any("triangles found in" in stage.did for stage in built.stages)
    only = build(tmp_path, table("e.dxf", "edges", keep='{ layers = ["*EDGES"] }'))
    assert not only.open_findings and corners(only.surface) == corners(surface)


@pytest.mark.slow
@given(surfaces())
def test_a_surface_alone_is_taken_as_it_is(tmp_path_factory, surface):
    folder = tmp_path_factory.mktemp("taken")
    evrin.write(folder / "s.ply", surface)
    built = build(folder, table("s.ply", "surface"))
    assert corners(built.surface) == corners(surface)
    assert (built.surface.edge_lines == -1).all()
    assert "surface-changed" not in {finding.code for finding in built.findings}


def flat_with_a_hole():
    """A lattice with bent diagonals, which no triangulation would choose, and an opening."""
    xy = lattice(7) * 10.0
    triangles = []
    for row in range(6):
        for column in range(6):
            a = 7 * row + column
            b, c, d = a + 1, a + 8, a + 7
            if (row, column) != (3, 3):
                pair = [[a, b, c], [a, c, d]] if (row + column) % 2 else [[a, b, d], [b, c, d]]
                triangles += pair
    z = 40.0 + (np.arange(49) * 7 % 11) / 10.0
    return evrin.Surface.from_arrays(np.column_stack((xy, z)), triangles, name="theirs")


def test_another_source_changes_a_surface_only_where_it_falls_into_it(tmp_path):
    theirs = flat_with_a_hole()
    evrin.write(tmp_path / "s.xml", theirs)
    (tmp_path / "p.csv").write_text("1,13,14,45.5\n")
    alone = build(tmp_path, table("s.xml", "surface"))
    assert corners(alone.surface) == corners(theirs)
    both = build(tmp_path, table("s.xml", "surface"), table("p.csv", "points", columns='"PNEZ"'))
    removed = corners(theirs) - corners(both.surface)
    assert len(removed) == 1 and both.surface.height(14.0, 13.0) == 45.5
    assert np.isnan(both.surface.height(35.0, 35.0))  # the opening stays open
    beyond = tmp_path / "p.csv"
    beyond.write_text("1,30,75,41.0\n")
    wider = build(tmp_path, table("s.xml", "surface"), table("p.csv", "points", columns='"PNEZ"'))
    assert corners(theirs) <= corners(wider.surface) and np.isfinite(wider.surface.height(70.0, 30.0))


def test_an_edit_and_a_boundary_change_a_surface_only_there(tmp_path):
    theirs = flat_with_a_hole()
    evrin.write(tmp_path / "s.xml", theirs)
    flip = '[[edit]]\ndo = "flip"\nat = [5.0, 5.2]\n'
    edited = build(tmp_path, table("s.xml", "surface"), flip)
    assert len(corners(theirs) - corners(edited.surface)) == 2 and not edited.open_findings
    (tmp_path / "r.csv").write_text("x,y\n-5,-5\n32,-5\n32,32\n-5,32\n-5,-5\n")
    ring = '[[boundary]]\nfile = "r.csv"\neffect = "keep"\n'
    cut = build(tmp_path, table("s.xml", "surface"), ring)
    asked = np.random.default_rng(4).uniform(0.1, 31.9, (2, 200))
    assert np.allclose(cut.surface.height(*asked), theirs.height(*asked), equal_nan=True, atol=1e-9)
    assert np.isnan(cut.surface.height(33.0, 10.0))


def test_a_line_across_a_surface_sets_its_own_heights_there(tmp_path):
    evrin.write(tmp_path / "s.xml", flat_with_a_hole())
    (tmp_path / "b.csv").write_text("line,x,y,z\nbank,12,2,44\nbank,12,28,46\n")
    built = build(tmp_path, table("s.xml", "surface"), table("b.csv", "breaklines"))
    assert built.surface.height(12.0, 15.0) == pytest.approx(45.0)
    assert "crossing-breaklines" not in {finding.code for finding in built.findings}
    along = (tmp_path / "b.csv").read_text().replace("12,2,44", "10,0,44").replace("12,28,46", "10,30,46")
    (tmp_path / "b.csv").write_text(along)
    kept = build(tmp_path, table("s.xml", "surface"), table("b.csv", "breaklines"))
    assert (kept.surface.edge_lines == 0).sum() >= 3


def test_surfaces_that_overlap_are_reported(tmp_path):
    theirs = flat_with_a_hole()
    evrin.write(tmp_path / "s.xml", theirs)
    moved = evrin.Surface.from_arrays(theirs.vertices + [4.0, 3.0, 0.0], theirs.triangles, name="moved")
    evrin.write(tmp_path / "t.xml", moved)
    built = build(tmp_path, table("s.xml", "surface"), table("t.xml", "surface", name='"other"'))
    assert "surface-changed" in {finding.code for finding in built.open_findings}


def test_one_of_several_surfaces_is_chosen_by_name(tmp_path):
    document = ezdxf.new("R2010")
    for name, z in (("OLD", 1.0), ("NEW", 2.0)):
        document.modelspace().add_3dface([(0, 0, z), (9, 0, z), (0, 9, z)], dxfattribs={"layer": name})
    document.saveas(tmp_path / "two.dxf")
    with pytest.raises(DataError, match="several surfaces; choose one with --name, or name= in Python: OLD, NEW"):
        evrin.read_surface(tmp_path / "two.dxf")
    assert evrin.read_surface(tmp_path / "two.dxf", "NEW").vertices[0, 2] == 2.0
    with pytest.raises(DataError, match="2 surfaces selected"):
        build(tmp_path, table("two.dxf", "surface"))
    assert build(tmp_path, table("two.dxf", "surface", keep='{ names = ["N*"] }')).surface.vertices[0, 2] == 2.0


def test_a_grid_is_a_surface_or_points_as_asked(tmp_path):
    heights = "41.5 41.6 41.7\n41.2 -9999 41.4\n41.0 41.1 41.2\n41.0 41.0 41.0\n"
    (tmp_path / "g.asc").write_text(
        f"ncols 3\nnrows 4\nxllcenter 0\nyllcenter 0\ncellsize 2\nNODATA_value -9999\n{heights}"
    )
    points = build(tmp_path, table("g.asc", "grid"))
    assert len(points.surface.vertices) == 11 and points.tally["read"].iloc[-1] == 11
    assert points.surface.provenance.describe(0).startswith("g.asc cell 1")
    surface = build(tmp_path, table("g.asc", "surface"))
    assert len(surface.surface.triangles) == 4 and np.isnan(surface.surface.height(2.0, 5.0))
    assert read(tmp_path / "g.asc").grids[0].points()[1].tolist() == [0, 1, 2, 3, 4, 5, 6, 8, 9, 10, 11]


@pytest.mark.parametrize("seed", range(6))
def test_a_finished_surface_keeps_its_holes_and_bays_whatever_line_touches_them(tmp_path, seed):
    rng = np.random.default_rng(seed)
    ring = np.array([[0.0, 0], [100, 0], [100, 100], [0, 100]])
    hole = np.array([[40.0, 40], [60, 40], [60, 60], [40, 60]]) + rng.uniform(-3, 3, (4, 2))
    bay = np.array([[70.0, 70], [130, 70], [130, 130], [70, 130]])
    line = np.vstack(([10.0, 10], hole[:2], [90.0, 10]))
    points = np.vstack((ring, rng.uniform(0, 100, (20, 2))))
    lines = [np.column_stack((line, np.ones(4)))]
    ground = evrin.triangulate(np.column_stack((points, np.ones(len(points)))), lines).clip(cut=[hole])
    ground = ground.clip(cut=[bay]) if seed % 2 else ground
    evrin.write(tmp_path / "a.xml", ground)
    # A line of another file along the rim of the hole, and beyond it on the ground.
    rows = "".join(f"L,{x!r},{y!r},1.0\n" for x, y in [*hole[1:].tolist(), [30.0, 90.0]])
    (tmp_path / "l.csv").write_text("line,x,y,z\n" + rows)
    (tmp_path / "site.toml").write_text(
        '[[source]]\nfile = "a.xml"\nrole = "surface"\n[[source]]\nfile = "l.csv"\nrole = "breaklines"\n'
    )
    built = evrin.Recipe.read(tmp_path / "site.toml").build().surface
    assert built.plan_area == pytest.approx(ground.plan_area, rel=1e-9) and built.faults() == []
    assert np.isnan(float(built.height(50.0, 50.0)))


def test_a_combined_surface_that_is_frozen_has_the_area_it_had(tmp_path):
    newer = evrin.triangulate([[60, 20, 1], [140, 20, 1], [140, 60, 1], [60, 60, 1]])
    evrin.write(tmp_path / "new.xml", newer)
    (tmp_path / "old.csv").write_text("E,N,Z\n0,0,1\n80,0,1\n80,80,1\n0,80,1\n")
    (tmp_path / "s.toml").write_text('[[source]]\nfile = "old.csv"\nrole = "points"\n[[combine]]\nfile = "new.xml"\n')
    build = evrin.Recipe.read(tmp_path / "s.toml").build()
    written = evrin.freeze(build, tmp_path / "frozen")
    again = evrin.Recipe.read(next(path for path in written if path.suffix == ".toml")).build()
    assert (build.surface.plan_area, again.surface.plan_area) == (pytest.approx(8800.0), pytest.approx(8800.0))
