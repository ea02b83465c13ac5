"""Variants compared, surfaces frozen and taken apart, tables written by the command, contours that came in judged."""

import json

import numpy as np
import pytest

import evrin
from evrin import DataError, Recipe
from evrin.analysis.volumes.differences import difference
from evrin.demo import ground as site
from evrin.demo import true_height
from evrin.demo.laying_out import lay_out as lay_out_demo
from evrin.making.triangulation import Triangulation
from evrin.recipe import RecipeDocument, freeze
from evrin.surface import SourceLine
from evrin.survey.doubts.level_triangles import find_flats, fix_flats
from sites import grid_field, lay_out
from test_every_format_comes_back import corners

LIMIT = [[0.5, 0.5], [4, 0.5], [4, 3], [0.5, 2]]


def compared(one, other):
    return Recipe.read(one).build().compare(Recipe.read(other).build())


def test_a_variant_is_compared_line_by_line_finding_by_finding_and_height_by_height(tmp_path):
    lay_out_demo(tmp_path)
    clean, variant = tmp_path / "clean.toml", tmp_path / "variant.toml"
    changes = (("by      = 0.15", "by = 0.25"), ("[busts]", "[busts]\non = false"))
    text = clean.read_text()
    for before, after in changes:
        assert before in text
        text = text.replace(before, after)
    variant.write_text(text)
    found = compared(clean, variant)
    assert {"-by      = 0.15", "+by = 0.25", "+on = false"} <= set(found.lines)
    assert {f.code for f in found.only_second} >= {"height-spike", "zero-height"}
    assert {f.code for f in found.only_first} == {"bust-left-out"}
    tally = found.tally.set_index("items")
    assert tally.loc["used", "change"] == 3 == -tally.loc["left_out", "change"]
    assert found.difference.largest[0] == pytest.approx(-43.0, abs=0.6)
    assert found.difference.only_first == found.difference.only_second == 0.0
    same = compared(clean, clean)
    assert same.lines == same.only_first == same.only_second == [] and same.difference.rms == 0.0
    assert same.record()["changed_area"] == 0.0


def test_a_difference_is_what_closed_forms_give():
    low = evrin.triangulate([[0, 0, 1], [10, 0, 1], [10, 10, 1], [0, 10, 1]])
    ramp = evrin.triangulate([[0, 0, 1], [10, 0, 2], [10, 10, 2], [0, 10, 1]])
    found = difference(low, ramp)
    assert found.mean == pytest.approx(0.5, abs=1e-3) and found.rms == pytest.approx(np.sqrt(1 / 3), abs=1e-2)
    assert found.largest[:2] == (1.0, 10.0) and found.changed_area == pytest.approx(100.0, rel=0.01)
    small = evrin.triangulate([[0, 0, 1], [5, 0, 1], [5, 10, 1], [0, 10, 1]])
    assert difference(low, small).only_first == pytest.approx(50.0, rel=0.01)
    apart = difference(low, evrin.triangulate([[20, 0, 1], [25, 0, 1], [20, 5, 1]]))
    assert np.isnan(apart.mean) and apart.largest[0] == 0.0


def test_a_frozen_surface_needs_nothing_else_and_still_knows_its_shots(tmp_path):
    lay_out_demo(tmp_path / "site")
    path = tmp_path / "site" / "clean.toml"
    build = Recipe.read(path).build()
    written = freeze(build, tmp_path / "frozen")
    for file in (tmp_path / "site" / "field").iterdir():
        file.unlink()
    again = Recipe.read(written[2]).build()
    assert corners(again.surface) == corners(build.surface) and again.open_findings == []
    assert again.surface.name == build.surface.name and again.surface.crs == build.surface.crs
    output = {again.surface.provenance.describe(v) for v in range(len(again.surface.vertices))}
    assert "shot 473, code HEAP, day1.csv line 473" in output
    assert any(text.startswith("extrapolated to boundary survey limit") for text in output)
    assert any("raised by 0.15 (edit 4)" in text for text in output)
    table = written[1].read_text().splitlines()
    written[1].write_text("\n".join(table[:50]))
    with pytest.raises(DataError, match="The table belongs to another surface"):
        Recipe.read(written[2]).build()
    written[1].write_text("a,b\n1,2\n")
    with pytest.raises(DataError, match="not a table of a frozen surface"):
        Recipe.read(written[2]).build()


@pytest.mark.parametrize(("part", "role"), [("edges", "edges"), ("faces", "surface"), ("points", "points")])
def test_a_surface_taken_apart_goes_together_again(tmp_path, part, role):
    ground = evrin.triangulate(
        [[float(x), float(y), 40 + 0.1 * x * y] for x in range(5) for y in range(4)],
        boundaries=[LIMIT],
    )
    evrin.write(tmp_path / "parts.dxf", ground, parts=[part])
    (tmp_path / "again.toml").write_text(f'[[source]]\nfile = "parts.dxf"\nrole = "{role}"\n')
    build = Recipe.read(tmp_path / "again.toml").build()
    assert {tuple(v) for v in build.surface.vertices.tolist()} == {tuple(v) for v in ground.vertices.tolist()}
    if part != "points":
        assert corners(build.surface) == corners(ground)


def test_every_kind_of_table_is_written_by_the_command_and_comments_stay(run, tmp_path):
    path = lay_out(tmp_path, field=grid_field())
    limit = "line,x,y\nr,4001,2801\nr,4024,2801\nr,4024,2824\nr,4001,2801\n"
    (tmp_path / "limit.csv").write_text(limit)
    for words in (
        ("put", "trim", "longest_edge=9.5", "smallest_angle_deg=2"),
        ("put", "trim", "longest_edge=12"),
        ("put", "source:1", 'set_height=[{number="3", to=40.5}]', "--why", "read again"),
        ("put", "boundary", "file=limit.csv", "effect=keep"),
        ("put", "duplicates", "within=0.02", "policy=first"),
        ("raise", "--polygon", "4001,2801 4009,2801 4009,2809", "--by", "-0.1"),
        ("force", "--joins", "4005.1,2805 4010.2,2810"),
        ("add", "--at", "4012,2812", "--height", "40.4", "--why", "from the photograph"),
        ("off", "trim"),
    ):
        run("edit", path, *words, folder=tmp_path)
    text = path.read_text()
    assert text.startswith("# The first comment.") and '"Test field"   # beside a value' in text
    tables = Recipe.read(path).tables
    assert tables.trim.longest_edge == 12 and tables.trim.smallest_angle_deg == 2 and not tables.trim.on
    assert tables.source[0].set_height[0].to == 40.5 and tables.boundary[0].effect == "keep"
    assert [edit.do for edit in tables.edit] == ["raise", "force", "add"] and tables.duplicates.policy == "first"
    assert len(Recipe.read(path).build().edits) == 3
    kinds = [row["table"] for row in RecipeDocument(path).rows()]
    assert kinds == ["source:1", "duplicates", "boundary:1", "trim", "edit:1", "edit:2", "edit:3"]
    run("edit", path, "drop", "trim", folder=tmp_path)
    assert "[trim]" not in path.read_text()


def test_a_dry_run_shows_what_would_change_on_the_ground(run, demo):
    path = demo[0] / "clean.toml"
    before = path.read_text()
    output = run("edit", path, "raise", "--at", "4096,2896", "--by", "0.5", "--dry-run").stdout
    assert "before: 1," in output and "after: 1," in output and "+0.500 m at 4096.00, 2896.00" in output
    assert path.read_text() == before


@pytest.mark.slow
def test_compare_freeze_and_outline_on_the_command_line(run, demo, tmp_path):
    variant = demo[0] / "variant.toml"
    variant.write_text((demo[0] / "clean.toml").read_text().replace("longest_edge       = 30.0", "longest_edge = 9.0"))
    done = run("compare", "clean.toml", "variant.toml", "-o", tmp_path / "c.png")
    assert "-longest_edge       = 30.0" in done.stdout and "Findings only in variant.toml" in done.stdout
    assert (tmp_path / "c.png").stat().st_size > 50_000
    record = json.loads(run("compare", "clean.toml", "variant.toml", "--json").stdout)
    assert record["rows"][0] == {"items": "read", "first": 1500, "second": 1500, "change": 0}
    run("freeze", "clean.toml", "-o", tmp_path / "frozen")
    assert "shot 473" in run("height", tmp_path / "frozen" / "clean-frozen.toml", "--at", "4100,2898").stdout
    for name in ("edge.dxf", "edge.geojson", "edge.csv"):
        run("outline", "clean.toml", "-o", tmp_path / name)
    run("outline", "field/day1.csv", "--round", "-o", tmp_path / "shots.dxf")
    run("outline", "field/pond.csv", "--round", "-o", tmp_path / "none.dxf", code=2)
    assert len(evrin.formats.read(tmp_path / "shots.dxf").lines) >= 1 and not (tmp_path / "none.dxf").exists()
    ring = [line for line in evrin.formats.read(tmp_path / "edge.geojson").lines if line.name == "outline 1"]
    assert len(ring) == 1 and ring[0].closed and np.isfinite(ring[0].xyz).all()
    variant.unlink()


def contour_lines(height, interval):
    east, north = np.meshgrid(np.arange(4030.0, 4212.0), np.arange(2826.0, 2914.0))
    xyz = np.column_stack((east.ravel(), north.ravel(), height(east.ravel(), north.ravel())))
    return [
        SourceLine(f"c{k}", np.column_stack((line.points, np.full(len(line.points), line.level))), effect="contour")
        for k, line in enumerate(evrin.triangulate(xyz).contours(interval))
        if len(line.points) > 3
    ]


@pytest.mark.parametrize(("height", "interval"), [(site.field, 0.25), (site.field, 0.5), (true_height, 0.5)])
def test_repairing_flat_triangles_brings_contours_alone_nearer_the_truth(height, interval):
    lines = contour_lines(height, interval)
    rng = np.random.default_rng(1)
    places = rng.uniform((4034, 2830), (4208, 2910), (8000, 2))
    errors, flats = [], []
    for how in (None, False, True):
        work = Triangulation(np.empty((0, 3)), lines)
        repaired = fix_flats(work, with_points=how) if how is not None else None
        ground = work.surface()[0]
        error = ground.height(*places.T) - height(*places.T)
        errors.append((np.sqrt(np.nanmean(error**2)), np.nanmax(np.abs(error))))
        flats.append(len(find_flats(ground)))
    assert repaired.before == flats[0] > repaired.after_flips >= flats[1] > repaired.after == flats[2]
    assert flats[2] < 0.35 * flats[0] and repaired.points > 100
    assert errors[2][0] < 0.85 * errors[0][0] and errors[2][1] <= errors[0][1]
    assert errors[1][0] < 1.05 * errors[0][0]


def hill(levels, names="abcdefgh"):
    """Rings round a hill, the outermost first, at these levels."""
    angle = np.linspace(0, 2 * np.pi, 48, endpoint=False)
    rows = ["line,x,y,z"]
    for k, level in enumerate(levels):
        radius = 40.0 - 4.0 * k
        ring = np.column_stack((4000 + radius * np.cos(angle), 2800 + radius * np.sin(angle)))
        rows += [f"{names[k]},{x:.3f},{y:.3f},{level}" for x, y in [*ring.tolist(), ring[0].tolist()]]
    return "\n".join(rows) + "\n"


CONTOURS = '[[source]]\nfile = "c.csv"\nrole = "contours"\n'


def findings_of(tmp_path, text, extra=""):
    path = lay_out(tmp_path, base=CONTOURS + extra, c__csv=text)
    return Recipe.read(path).build()


def test_contours_in_step_leave_nothing_but_a_flat_top(tmp_path):
    build = findings_of(tmp_path, hill([40, 40.5, 41, 41.5, 42, 42.5]))
    assert {f.code for f in build.findings} == {"flat-ground"} and build.open_findings == []
    assert "46 triangles lie flat at 42.5" in build.findings[0].message
    repaired = findings_of(tmp_path, hill([40, 40.5, 41, 41.5, 42, 42.5]), '[flat_triangles]\nfix = "points"\n')
    assert repaired.findings == [] and 42.5 < repaired.surface.height(4000.0, 2800.0) < 43.0
    assert "46 flat triangles" in next(stage.did for stage in repaired.stages if stage.name == "flat triangles")


def test_an_odd_level_and_a_missing_contour_are_found_in_place(tmp_path):
    odd = findings_of(tmp_path, hill([40, 40.5, 47, 41.5, 42, 42.5]))
    (found,) = [f for f in odd.findings if f.code == "odd-contour"]
    assert "contour c at 47 does not fit its neighbours, which are at 40.5 and 41.5" in found.message
    assert found.shots == ("c: c.csv lines 100 to 147",) and found.is_open
    missing = findings_of(tmp_path, hill([40, 40.5, 41.5, 42, 42.5]))
    (found,) = [f for f in missing.findings if f.code == "odd-contour"]
    assert "1 contour seems to be missing between b at 40.5 and c at 41.5" in found.message
    away = np.hypot(found.place[0] - 4000.0, found.place[1] - 2800.0)
    assert 32.0 <= away <= 36.0


def test_contours_that_cross_are_errors_and_no_matter_of_policy(tmp_path):
    text = hill([40, 40.5, 41]) + "x,3990,2750,40.25\nx,3990,2850,40.25\n"
    build = findings_of(tmp_path, text)
    crossings = [f for f in build.findings if f.code == "crossing-contours"]
    assert len(crossings) == 6 and all(f.severity == "error" for f in crossings)
    assert not [f for f in build.findings if f.code == "crossing-breaklines"]
    bow = "line,x,y,z\ns,0,0,5\ns,10,10,5\ns,10,0,5\ns,0,10,5\nt,0,-5,4\nt,10,-5,4\nu,0,20,6\nu,10,20,6\n"
    (found,) = [f for f in findings_of(tmp_path, bow).findings if f.code == "crossing-contours"]
    assert "s crosses itself" in found.message and found.place == (5.0, 5.0)


def test_bare_contours_in_a_recipe_get_levels_and_those_without_are_reported(tmp_path):
    bare = "line,x,y\n" + "".join(f"c{k},{x},{5 * k}\n" for k in range(5) for x in (0, 10, 20))
    table = (
        '[[source]]\nfile = "c.csv"\nrole = "contours"\nheights = "levels"\n'
        "ladder = [{ along = [[5.0, -1.0], [5.0, 16.0]], start = 40.0, step = 0.5 }]\n"
    )
    build = Recipe.read(lay_out(tmp_path, base=table, c__csv=bare)).build()
    assert sorted(set(build.surface.vertices[:, 2].tolist())) == [40.0, 40.5, 41.0, 41.5]
    (found,) = [f for f in build.findings if f.code == "contour-without-level"]
    assert "no ladder crosses contour c4" in found.message and build.tally["refused"].iloc[-1] == 3
    set_level = 'set_level = [{ at = [0.0, 20.0], to = 42.0, why = "off the map" }]\n'
    whole = Recipe.read(lay_out(tmp_path, base=table + set_level, c__csv=bare)).build()
    assert whole.surface.vertices[:, 2].max() == 42.0 and whole.tally["refused"].iloc[-1] == 0
    with pytest.raises(evrin.RecipeError, match="go together"):
        Recipe.read(lay_out(tmp_path, base=CONTOURS + 'heights = "levels"\n', c__csv=bare))
