"""Each vertex is traced to the row whose height it has, and what is odd about single lines is reported."""

import ezdxf
import numpy as np
import pytest

import evrin
from evrin.recipe import Recipe

SPOTS = '[[source]]\nfile = "spots.csv"\nrole = "points"\n'
KERB = '[[source]]\nfile = "kerb.csv"\nrole = "breaklines"\n'


def built(folder, text):
    (folder / "site.toml").write_text("[site]\n" + text)
    return Recipe.read(folder / "site.toml").build()


def shot_at(surface, east, north):
    """The shot behind the vertex nearest to a place, and its height."""
    vertex = int(np.argmin(np.hypot(*(surface.vertices[:, :2] - (east, north)).T)))
    row = int(surface.provenance.shot_of[vertex])
    return surface.provenance.shots.describe(row), float(surface.vertices[vertex, 2])


def field(folder, *more):
    rows = [(10.0 * x, 10.0 * y, 10.0) for x in range(5) for y in range(5) if (x, y) != (2, 2)]
    lines = [f"{k},{x},{y},{z}" for k, (x, y, z) in enumerate(rows, 1)] + list(more)
    (folder / "spots.csv").write_text("number,easting,northing,height\n" + "\n".join(lines))


@pytest.mark.parametrize("order", [SPOTS + KERB, KERB + SPOTS])
@pytest.mark.parametrize("policy", ["mean", "first", "last", "lowest", "highest"])
def test_a_spot_beside_the_vertex_of_a_line_is_merged_into_it_and_not_the_other_way(tmp_path, order, policy):
    field(tmp_path, "S,20.01,20,14")
    (tmp_path / "kerb.csv").write_text("line,easting,northing,height\nK,5,20,10\nK,20,20,10\nK,35,20,10\n")
    build = built(tmp_path, order + f'[duplicates]\nwithin = 0.05\npolicy = "{policy}"\n')
    assert shot_at(build.surface, 20, 20) == ("code K, kerb.csv line 3", 10.0)
    tally = build.tally.set_index("source")
    assert tally.loc["spots.csv", "merged"] == 1 and tally.loc["kerb.csv", "used"] == 3
    (found,) = [f for f in build.findings if f.code == "near-duplicates" and f.shots]
    assert "the vertex of the line keeps its height" in found.message


@pytest.mark.parametrize(("policy", "shot"), [("first", "A"), ("last", "C"), ("lowest", "B"), ("highest", "A")])
def test_of_shots_at_one_place_the_vertex_names_the_one_whose_height_it_has(tmp_path, policy, shot):
    field(tmp_path, "A,20,20,12", "B,20,20,9", "C,20,20,11")
    build = built(tmp_path, SPOTS + f'[duplicates]\npolicy = "{policy}"\n')
    height = {"A": 12.0, "B": 9.0, "C": 11.0}[shot]
    assert shot_at(build.surface, 20, 20) == (f"shot {shot}, spots.csv line {26 + 'ABC'.index(shot)}", height)
    assert build.tally.iloc[-1]["merged"] == 2


def rings(levels):
    rows = ["line,easting,northing,height"]
    for k, level in enumerate(levels):
        turn = np.linspace(0.0, 2.0 * np.pi, 40)
        rows += [
            f"c{k},{500 + (200 - 9 * k) * np.cos(a):.3f},{500 + (200 - 9 * k) * np.sin(a):.3f},{level}" for a in turn
        ]
    return "\n".join(rows)


@pytest.mark.parametrize("base", [100.0, 100.3])
@pytest.mark.parametrize("step", [0.25, 1.0, 5.0])
@pytest.mark.parametrize("off", [0, 0.5, 0.3, -0.5])
def test_a_level_between_those_of_the_interval_is_reported_and_supplementary_ones_are_not(tmp_path, base, step, off):
    levels = [base + step * k for k in range(14)]
    levels[6] += off * step
    (tmp_path / "c.csv").write_text(rings(levels))
    source = '[[source]]\nfile = "c.csv"\nrole = "contours"\n'
    odd = [f for f in built(tmp_path, source).findings if f.code == "odd-contour"]
    assert [f.shots[0].partition(":")[0] for f in odd] == (["c6"] if off else [])
    (tmp_path / "c.csv").write_text(rings(levels[:6] + [base + step * (6 + k / 2) for k in range(8)]))
    odd = [f.message for f in built(tmp_path, source).findings if f.code == "odd-contour"]
    assert not any("alone between" in message for message in odd)


def test_an_edge_at_zero_costs_no_triangle_of_a_drawing(tmp_path):
    rng = np.random.default_rng(2)
    surface = evrin.triangulate(np.column_stack((rng.uniform(0, 100, (80, 2)), rng.uniform(40, 45, 80))))
    document = ezdxf.new()
    space = document.modelspace()
    for a, b in surface.edges:
        space.add_line(tuple(surface.vertices[a]), tuple(surface.vertices[b]))
    space.add_line((10, 10, 0), (60, 60, 0))
    document.saveas(tmp_path / "legacy.dxf")
    build = built(tmp_path, '[[source]]\nfile = "legacy.dxf"\nrole = "edges"\n')
    assert len(build.surface.triangles) == len(surface.triangles)
    assert [f.code for f in build.findings if "edge" in f.code and f.code != "doubtful-edge"] == ["unset-edges"]


def test_what_the_one_surface_of_a_recipe_is_called_travels_unless_the_recipe_states_it(tmp_path):
    given = evrin.triangulate([[0, 0, 1], [9, 0, 1], [9, 9, 2], [0, 9, 2]]).renamed(
        name="Mill leat", description="as dredged", kind="proposed", colour="#336699"
    )
    evrin.write(tmp_path / "leat.xml", given)
    source = '[[source]]\nfile = "leat.xml"\nrole = "surface"\n'
    surface = built(tmp_path, source).surface
    assert (surface.name, surface.description, surface.kind) == ("Mill leat", "as dredged", "proposed")
    surface = built(tmp_path, 'name = "other"\nkind = "existing"\n' + source).surface
    assert (surface.name, surface.description, surface.kind) == ("other", "as dredged", "existing")
