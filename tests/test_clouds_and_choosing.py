"""Clouds thinned and filtered, selections of every kind, and sources that do not go together."""

import ezdxf
import laspy
import numpy as np
import pyproj
import pytest
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st

import evrin
from evrin.base.errors import DataError, RecipeError
from evrin.demo.received import GROUND, flight
from evrin.formats.gis.gis_files import write_layer
from evrin.recipe import Recipe
from evrin.surface import Shots
from evrin.survey import Line, Points, Selection
from evrin.survey.attribute_filter import parsed, where_holds
from evrin.survey.cloud.cell_thinning import thinned_by_cell
from evrin.survey.cloud.ground_filter import is_ground
from evrin.survey.cloud.tolerance_thinning import thinned_by_tolerance
from evrin.survey.mismatch import Extent, Located, mismatches
from exact import exact_height
from zoo import SITE, places


def cloud(xyz, **columns):
    return Points(xyz, Shots.of_file("c.laz", np.arange(1, len(xyz) + 1), word="point"), columns=columns)


def build(tmp_path, *tables):
    (tmp_path / "site.toml").write_text("\n".join(tables), encoding="utf-8")
    return Recipe.read(tmp_path / "site.toml").build()


def write_laz(path, xyz, classes=None, returns=None):
    header = laspy.LasHeader(point_format=6, version="1.4")
    header.offsets, header.scales = np.floor(xyz.min(axis=0)), np.full(3, 0.001)
    out = laspy.LasData(header)
    out.x, out.y, out.z = xyz.T
    out.classification = np.full(len(xyz), 2, np.uint8) if classes is None else classes
    number, of = returns if returns is not None else (np.ones(len(xyz), np.uint8),) * 2
    out.return_number, out.number_of_returns = number, of
    out.write(path)


def balanced(built):
    columns = [name for name in built.tally.columns if name not in ("source", "read")]
    return (built.tally[columns].sum(axis=1) == built.tally["read"]).all()


@st.composite
def clouds(draw):
    xy = draw(places(1, 60))
    heights = draw(st.lists(st.integers(400, 420), min_size=len(xy), max_size=len(xy)))
    return np.column_stack((xy, np.array(heights) / 10.0))


@given(clouds(), st.sampled_from(["lowest", "median", "middle"]), st.sampled_from([0.003, 0.5, 2.0, 1e7]), st.data())
def test_one_point_a_cell_is_kept_whatever_the_order_and_the_parts(xyz, pick, cell, data):
    whole = thinned_by_cell([cloud(xyz)], cell, pick)
    order = np.array(data.draw(st.permutations(range(len(xyz)))))
    cut = data.draw(st.integers(0, len(xyz)))
    parts = [cloud(xyz[order[:cut]]), cloud(xyz[order[cut:]])]
    assert thinned_by_cell(parts, cell, pick).xyz.tolist() == whole.xyz.tolist()
    cells = {}
    for place in xyz.tolist():
        cells.setdefault((np.floor(place[0] / cell), np.floor(place[1] / cell)), []).append(place)
    assert len(whole) == len(cells)
    for x, y, z in whole.xyz.tolist():
        members = sorted(place[2] for place in cells[np.floor(x / cell), np.floor(y / cell)])
        assert pick == "middle" or z == (members[0] if pick == "lowest" else members[(len(members) - 1) // 2])
        if pick == "middle":
            away = [
                np.hypot(a / cell % 1 - 0.5, b / cell % 1 - 0.5)
                for a, b, _ in cells[np.floor(x / cell), np.floor(y / cell)]
            ]
            assert np.hypot(x / cell % 1 - 0.5, y / cell % 1 - 0.5) == min(away)


def test_thinning_in_many_parts_folds_and_keeps_what_is_known_of_each_point(monkeypatch):
    monkeypatch.setattr("evrin.survey.cloud.cell_thinning._FOLD", 50)
    rng = np.random.default_rng(2)
    xyz = np.column_stack((rng.uniform(0, 9, (600, 2)), rng.uniform(40, 41, 600)))
    whole = cloud(xyz, **{"class": np.arange(600) % 7})
    parts = [whole.take(np.arange(k, min(k + 37, 600))) for k in range(0, 600, 37)]
    for pick in ("lowest", "median", "middle"):
        kept = thinned_by_cell(parts, 1.0, pick)
        assert kept.xyz.tolist() == thinned_by_cell([whole], 1.0, pick).xyz.tolist()
        rows = kept.shots.line_of - 1
        assert (kept.columns["class"] == rows % 7).all() and (kept.xyz == xyz[rows]).all()
    assert len(thinned_by_cell([], 1.0)) == 0


@settings(max_examples=40)
@given(clouds(), st.sampled_from([0.05, 0.3, 5.0]), st.randoms(use_true_random=False))
def test_thinning_by_tolerance_proves_what_it_leaves_out(xyz, tolerance, random):
    try:
        surface = evrin.triangulate(xyz)
    except evrin.GeometryError:
        with pytest.raises(evrin.GeometryError):
            thinned_by_tolerance(xyz, tolerance)
        return
    order = np.array(random.sample(range(len(xyz)), len(xyz)))
    _, first = np.unique(xyz[:, :2], axis=0, return_index=True)
    single = xyz[first]
    thinned = thinned_by_tolerance(single, tolerance)
    again = thinned_by_tolerance(single[np.argsort(order[: len(single)])], tolerance)
    assert thinned.worst <= tolerance and again.kept.sum() == thinned.kept.sum()
    through = evrin.triangulate(single[thinned.kept])
    for x, y, z in single[~thinned.kept].tolist():
        corners = through.vertices[through.triangles[through.triangles_at(x, y)]]
        assert abs(float(exact_height(corners, x, y)) - z) <= tolerance + 1e-9
    assert surface.extent == through.extent


def test_a_tolerance_must_be_one():
    with pytest.raises(DataError, match="must be above 0"):
        thinned_by_tolerance(np.zeros((4, 3)), 0.0)


def test_the_ground_filter_finds_the_demos_ground():
    """Four in a hundred is the aim; the heap, the leat and the track stay, trees and the barn go."""
    xyz, hit = flight()
    ground = is_ground(xyz)
    assert (ground != (hit == GROUND)).mean() < 0.002
    assert all((ground & (hit == kind)).sum() <= 0.01 * (hit == kind).sum() for kind in (3, 5, 6))
    moved = is_ground(xyz[::7] + [*SITE.round(), 100.0])
    assert (moved != (hit[::7] == GROUND)).mean() < 0.01
    with pytest.raises(DataError, match="too many for the ground filter"):
        is_ground(
            np.column_stack((np.tile(np.linspace(0, 1e5, 5000), 2), np.linspace(0, 1e5, 10000), np.zeros(10000))),
            cell=1.0,
        )


def test_a_stray_point_costs_the_ground_filter_what_a_point_costs_and_changes_nothing():
    xyz = flight()[0][::5]
    alone = is_ground(xyz)
    for stray in ([1e7, 2.0, 3.0], [-1e300, 1e300, 0.0]):
        found = is_ground(np.vstack((xyz[:9000], [stray], xyz[9000:])))
        assert (np.delete(found, 9000) == alone).all()


def test_a_cloud_is_chosen_thinned_and_accounted_for(tmp_path):
    rng = np.random.default_rng(5)
    xyz = np.column_stack((rng.uniform(0, 60, (4000, 2)), np.zeros(4000))).round(3)
    xyz[:, 2] = (41.0 + 0.02 * xyz[:, 0] + np.where(rng.random(4000) < 0.02, 6.0, 0.0)).round(3)
    classes = np.where(xyz[:, 2] > 45.0, 5, 2).astype(np.uint8)
    of = rng.integers(1, 3, 4000).astype(np.uint8)
    write_laz(tmp_path / "c.laz", xyz, classes, (np.ones(4000, np.uint8), of))
    source = '[[source]]\nfile = "c.laz"\nrole = "cloud"\n'
    kept = build(tmp_path, source + 'keep = { classes = [2] }\nthin = { cell = 4, pick = "median", tolerance = 0.02 }')
    row = kept.tally.iloc[0]
    assert row["read"] == 4000 and row["left_out"] == (classes == 5).sum() and balanced(kept)
    assert row["thinned"] > 3600 and kept.surface.vertices[:, 2].max() < 43.0
    (read_stage,) = (stage for stage in kept.stages if stage.name == "read")
    assert "thinned to" in read_stage.did and "measured on all" in read_stage.did
    single = build(tmp_path, source + 'keep = { returns = ["only"], window = [10, 10, 50, 50] }')
    inside = ((xyz[:, :2] >= 10) & (xyz[:, :2] <= 50)).all(axis=1)
    assert single.tally["used"].iloc[0] == (inside & (of == 1)).sum()
    filtered = build(tmp_path, source + "ground_filter = { cell = 2.0, window = 4.0 }\nthin = { tolerance = 0.02 }")
    assert filtered.tally["left_out"].iloc[0] == pytest.approx((classes == 5).sum(), abs=3) and balanced(filtered)
    assert "c.laz point" in filtered.surface.provenance.describe(0)


def test_things_inside_a_polygon_or_a_ring_of_a_file_are_meant(tmp_path):
    (tmp_path / "p.csv").write_text("".join(f"{k},{y},{x},41\n" for k, (x, y) in enumerate(np.ndindex(8, 8))))
    (tmp_path / "r.csv").write_text("x,y\n1.5,1.5\n5.5,1.5\n5.5,5.5\n1.5,5.5\n1.5,1.5\n")
    source = '[[source]]\nfile = "p.csv"\nrole = "points"\ncolumns = "PNEZ"\n'
    ring = build(tmp_path, source + 'keep = { within = "r.csv" }')
    polygon = build(tmp_path, source + "keep = { polygon = [[1.5, 1.5], [5.5, 1.5], [5.5, 5.5], [1.5, 5.5]] }")
    assert ring.surface.vertices.tolist() == polygon.surface.vertices.tolist() and len(ring.surface.vertices) == 16
    hole = build(tmp_path, source + 'leave_out = { within = "r.csv" }')
    assert hole.tally["left_out"].iloc[0] == 16 and balanced(hole)


FACTS = {
    "DEPTH": np.array([0.2, 1.5, np.nan, 3.0]),
    "STATUS": np.array(["wet", "dry", "", "wet"], object),
    "a name": np.array([1, 2, 3, 4]),
    "LEVEL": np.array(["43.2", "none", "44", ""], object),
}


@pytest.mark.parametrize(
    ("text", "met"),
    [
        ("DEPTH > 1", [False, True, False, True]),
        ("DEPTH <= 1.5 and STATUS == 'dry'", [False, True, False, False]),
        ("STATUS like 'w*' and DEPTH < 1 or `a name` = 3", [True, False, True, False]),
        ("LEVEL >= 43.5", [False, False, True, False]),
        ('STATUS != "wet"', [False, True, True, False]),
        ("DEPTH != 3", [True, True, False, False]),
        ("`a name` > -1e3", [True, True, True, True]),
    ],
)
def test_attributes_are_compared(text, met):
    assert where_holds(text, FACTS, 4).tolist() == met


@pytest.mark.parametrize(
    ("text", "output"),
    [
        ("DEPTH", "cut short"),
        ("DEPTH > ", "cut short"),
        ("DEPTH > 1 STATUS == 'wet'", "'and' or 'or' was expected"),
        ("1 > DEPTH", "is not a comparison"),
        ("DEPTH ; 1", "is not part of a comparison"),
        ("DEPHT > 1", "did you mean 'DEPTH'"),
        ("QQQ > 1", "known here: DEPTH, LEVEL, STATUS, a name"),
        ("__import__('os') == 1", "is not part"),
    ],
)
def test_anything_but_comparisons_is_refused(text, output):
    with pytest.raises(DataError, match=output):
        where_holds(text, FACTS, 4)


@given(st.text(alphabet="DEPTH<>=!'\"` 0123.andorlike()_;", max_size=40))
def test_no_text_makes_the_comparisons_do_anything_else(text):
    try:
        assert all(len(comparison) == 3 for together in parsed(text) for comparison in together)
    except DataError as error:
        assert "write comparisons such as" in str(error)


def test_lines_are_chosen_by_layer_name_attribute_and_place():
    lines = [
        Line(name, np.array([[x, 0.0, 1.0], [x + 5, 0, 1]]), Shots.of_file("d", [1, 1], "", name), False, facts)
        for name, x, facts in (
            ("bank 1", 0.0, {"layer": "BANK-TOP", "kind": "line", "DEPTH": 1.0}),
            ("bank 2", 20.0, {"layer": "BANK-FOOT", "kind": "polyline 3-D", "DEPTH": 3.0}),
            ("fence", 40.0, {"layer": "FENCE", "kind": "line"}),
        )
    ]
    assert Selection(layers=("BANK-*",)).all_met(lines).tolist() == [True, True, False]
    assert Selection(kinds=("line",), names=("b*",)).all_met(lines).tolist() == [True, False, False]
    assert Selection(where="DEPTH > 2").all_met(lines).tolist() == [False, True, False]
    assert Selection(window=(22.0, -1.0, 42.0, 1.0)).any_met(lines).tolist() == [False, True, True]
    with pytest.raises(DataError, match="no class to select by"):
        Selection(classes=(2,)).all_met(lines)


def test_keys_that_do_not_fit_a_role_are_refused_by_line(tmp_path):
    (tmp_path / "p.csv").write_text("x,y,z\n0,0,0\n")
    for keys, output in (
        ('role = "breaklines"\nthin = { cell = 1 }', "thin is not allowed for role 'breaklines'"),
        ('role = "cloud"\nheights = "shots"', "heights = 'shots' is not allowed for role 'cloud'; use own"),
        ('role = "points"\nthin = { }', "give a cell, a tolerance, or both"),
        ('role = "points"\nscale_heights = 0', "would set every height to zero"),
        ('role = "points"\nsnap = 1.0', "snap is not allowed for role 'points'; it is for edges"),
        ('role = "points"\nkeep = { layer = ["A"] }', "did you mean 'layers'"),
        ('role = "points"\nheights = "texts"', "source 1 → heights"),
    ):
        (tmp_path / "site.toml").write_text(f'[[source]]\nfile = "p.csv"\n{keys}\n')
        with pytest.raises(RecipeError, match=output):
            Recipe.read(tmp_path / "site.toml")


def spread(seed, count=200):
    rng = np.random.default_rng(seed)
    return np.column_stack(
        (SITE[0] + rng.uniform(0, 180, count), SITE[1] + rng.uniform(0, 90, count), rng.uniform(40, 46, count))
    )


@given(
    st.integers(0, 999), st.sampled_from(["exchanged", "feet-beside-metres", "heights-in-feet", "degrees", "apart", ""])
)
def test_sources_that_do_not_go_together_are_reported_with_what_is_wrong(seed, kind):
    first, second = spread(seed), spread(seed + 1, 120)
    changed = {
        "exchanged": lambda xyz: xyz[:, [1, 0, 2]],
        "feet-beside-metres": lambda xyz: xyz / 0.3048,
        "heights-in-feet": lambda xyz: xyz / [1.0, 1.0, 0.3048],
        "degrees": lambda xyz: np.column_stack(
            ((xyz[:, 0] - SITE[0]) / 1e5 + 8.0, (xyz[:, 1] - SITE[1]) / 1e5 + 50.0, xyz[:, 2])
        ),
        "apart": lambda xyz: xyz + [5000.0, 0.0, 0.0],
        "": lambda xyz: xyz + [90.0, 0.0, 0.0],
    }[kind]
    found = mismatches([Located("a", Extent.of(first), 200), Located("b", Extent.of(changed(second)), 120)])
    assert [(each.source, each.kind) for each in found] == ([(1, kind)] if kind else [])


@pytest.mark.parametrize(
    ("change", "fix", "code"),
    [
        (lambda xyz: xyz[:, [1, 0, 2]], "exchanged = true", "sources-exchanged"),
        (lambda xyz: xyz / 0.3048, 'units = "ft"', "sources-feet-beside-metres"),
        (lambda xyz: xyz / [1, 1, 0.3048], 'height_units = "ft"', "sources-heights-in-feet"),
    ],
)
def test_the_fix_that_a_mismatch_names_settles_it(tmp_path, change, fix, code):
    for name, xyz in (("a.csv", spread(1)), ("b.csv", change(spread(2, 120)))):
        (tmp_path / name).write_text("x,y,z\n" + "".join(f"{x!r},{y!r},{z!r}\n" for x, y, z in xyz.tolist()))
    tables = [f'[[source]]\nfile = "{name}"\nrole = "points"\n' for name in ("a.csv", "b.csv")]
    wrong = build(tmp_path, *tables)
    (finding,) = (finding for finding in wrong.open_findings if finding.code == code)
    assert fix in finding.fix
    right = build(tmp_path, tables[0], tables[1] + fix)
    assert code not in {finding.code for finding in right.findings}
    assert len(right.surface.vertices) == 320 and right.surface.extent[2] < SITE[0] + 181


def test_degrees_are_carried_into_the_sites_system(tmp_path):
    there = spread(3)
    back = pyproj.Transformer.from_crs("EPSG:25832", "EPSG:4326", always_xy=True)
    east, north = back.transform(there[:, 0], there[:, 1])
    rows = "".join(f"{x!r},{y!r},{z!r}\n" for x, y, z in np.column_stack((east, north, there[:, 2])).tolist())
    (tmp_path / "d.csv").write_text("x,y,z\n" + rows)
    table = '[[source]]\nfile = "d.csv"\nrole = "points"\n'
    assert "sources-degrees" in {f.code for f in build(tmp_path, table).open_findings}
    repaired = build(tmp_path, '[site]\ncrs = "EPSG:25832"\n', table + 'crs = "EPSG:4326"\n')
    assert np.allclose(np.sort(repaired.surface.vertices, axis=0), np.sort(there, axis=0), atol=1e-3)
    assert repaired.surface.crs == "EPSG:25832" and not repaired.open_findings
    with pytest.raises(DataError, match="reference system 'EPSG:1' is not known"):
        build(tmp_path, '[site]\ncrs = "EPSG:25832"\n', table + 'crs = "EPSG:1"\n')


def in_new_york(tmp_path, shapes, name):
    (tmp_path / name).unlink(missing_ok=True)
    kind = shapely.get_type_id(shapes[0])
    geometry = {0: "Point", 1: "LineString"}[int(kind)] + (" Z" if shapely.has_z(shapes[0]) else "")
    write_layer(
        tmp_path / name, "shots", np.array(shapes, object), geometry, {"n": np.arange(len(shapes))}, "EPSG:2263"
    )


@pytest.mark.parametrize("role", ["points", "cloud", "breaklines"])
def test_heights_of_a_system_in_feet_come_to_metres_with_the_rest(tmp_path, role):
    feet = spread(3, 60) * [1.0, 1.0, 3.28] + [980_000.0, 200_000.0, 0.0]
    feet = feet[np.argsort(feet[:, 0])]  # a line that never crosses itself
    shapes = [shapely.LineString(feet)] if role == "breaklines" else list(shapely.points(feet))
    in_new_york(tmp_path, shapes, "shots.gpkg")
    source = f'[[source]]\nfile = "shots.gpkg"\nrole = "{role}"\n'
    built = build(tmp_path, '[site]\ncrs = "EPSG:26918"\n', source)
    assert np.allclose(np.sort(built.surface.vertices[:, 2]), np.sort(feet[:, 2]) * 1200.0 / 3937.0, atol=1e-9)
    east, north = pyproj.Transformer.from_crs("EPSG:2263", "EPSG:26918", always_xy=True).transform(*feet[:, :2].T)
    assert np.allclose(np.sort(built.surface.vertices[:, 0]), np.sort(east), atol=1e-6)
    assert np.allclose(np.sort(built.surface.vertices[:, 1]), np.sort(north), atol=1e-6)
    assert "heights read as ftUS, converted to m" in built.stages[0].did
    metres = build(tmp_path, '[site]\ncrs = "EPSG:26918"\n', source + 'units = "m"\n')
    assert np.allclose(np.sort(metres.surface.vertices[:, 2]), np.sort(feet[:, 2]))


def test_a_site_whose_reference_system_measures_otherwise_is_reported(tmp_path):
    in_new_york(tmp_path, list(shapely.points(spread(4) + [980_000.0, 200_000.0, 0.0])), "shots.gpkg")
    source = '[[source]]\nfile = "shots.gpkg"\nrole = "points"\n'
    (output,) = build(tmp_path, '[site]\ncrs = "EPSG:2263"\n', source).open_findings
    assert output.code == "units-differ" and 'units = "ftUS"' in output.fix
    assert not build(tmp_path, '[site]\ncrs = "EPSG:2263"\nunits = "ftUS"\n', source).open_findings


def test_a_cloud_of_any_format_takes_shots_alone_and_refuses_those_without_height(tmp_path):
    in_new_york(tmp_path, list(shapely.points(spread(5, 1500)[:, :2])), "flat.gpkg")
    with pytest.raises(DataError, match="1500 refused"):
        build(tmp_path, '[[source]]\nfile = "flat.gpkg"\nrole = "cloud"\n')
    drawing = ezdxf.new()
    for x, y, z in spread(6, 30).tolist():
        drawing.modelspace().add_point((x, y, z))
        drawing.modelspace().add_text(f"{z:.2f}").set_placement((x + 0.5, y))
    drawing.saveas(tmp_path / "spots.dxf")
    built = build(tmp_path, '[[source]]\nfile = "spots.dxf"\nrole = "cloud"\n')
    assert built.tally["used"].tolist() == [30, 30] and built.tally["left_out"].tolist() == [30, 30]
    assert built.surface.vertices[:, 2].min() > 1.0 and balanced(built)


def test_items_are_selected_by_height(tmp_path):
    field = "".join(f"{k},{2800 + 5 * (k % 5)},{4000 + 5 * (k // 5)},{40 + k % 5},G\n" for k in range(25))
    table = '[[source]]\nfile = "p.csv"\nrole = "points"\ncolumns = "PNEZD"\n'
    (tmp_path / "p.csv").write_text(field)
    (tmp_path / "r.toml").write_text(table + "keep = { heights = [41.0, 43.0] }\n")
    kept = Recipe.read(tmp_path / "r.toml").build()
    assert len(kept.surface.vertices) == 15 and kept.tally["left_out"].iloc[-1] == 10
    (tmp_path / "r.toml").write_text(table + "leave_out = { heights = [41.0, 43.0] }\n")
    assert len(Recipe.read(tmp_path / "r.toml").build().surface.vertices) == 10
    (tmp_path / "r.toml").write_text(table + "keep = { heights = [43.0, 41.0] }\n")
    with pytest.raises(RecipeError, match="from the lowest to the highest"):
        Recipe.read(tmp_path / "r.toml")


@pytest.mark.parametrize("thin", ['cell = 2.0, pick = "median"', 'cell = 1.0, pick = "middle", tolerance = 0.05'])
def test_a_flight_in_tiles_gives_what_it_gives_in_one_file(tmp_path, thin):
    rng = np.random.default_rng(3)
    xyz = rng.uniform(0.0, 60.0, (4000, 3)).round(2)
    xyz[:, 2] = (40.0 + np.sin(xyz[:, 0] / 9.0)).round(2)
    (tmp_path / "flight").mkdir()
    write_laz(tmp_path / "whole.laz", xyz)
    for tile in range(6):
        is_here = (xyz[:, 0] // 20.0 + 3 * (xyz[:, 1] // 30.0)).clip(0, 5) == tile
        write_laz(tmp_path / "flight" / f"{tile}.laz", xyz[is_here])
    (tmp_path / "flight" / "notes.md").write_text("flown in May")
    ways = ['file = "whole.laz"', 'files = "flight"', 'files = "flight/*.laz"']
    ways.append('files = ["flight/[3-5].laz", "flight/?.laz"]')
    built = [build(tmp_path, f'[[source]]\n{way}\nrole = "cloud"\nthin = {{ {thin} }}') for way in ways]
    for other in built[1:]:
        assert other.surface.vertices.tobytes() == built[0].surface.vertices.tobytes()
        assert other.surface.triangles.tobytes() == built[0].surface.triangles.tobytes()
        assert (other.tally.iloc[-1, 1:] == built[0].tally.iloc[-1, 1:]).all()
        assert set(other.surface.provenance.shots.files) == {f"{tile}.laz" for tile in range(6)}
    for wrong, fault in (
        ('files = "none/*.laz"', "no file"),
        ("files = []", "give either file, or files"),
        ('file = "whole.laz"\nfiles = "flight"', "give either file, or files"),
    ):
        with pytest.raises(RecipeError, match=fault):
            build(tmp_path, f'[[source]]\n{wrong}\nrole = "cloud"')
    with pytest.raises(RecipeError, match="files is not allowed for role 'points'"):
        build(tmp_path, '[[source]]\nfiles = "flight"\nrole = "points"')
