"""Combining, pads and layers as a surveyor meets them: the demo, the commands, recipes and pictures."""

import json

import ezdxf
import numpy as np
import pytest

import evrin
from evrin.demo import works
from evrin.draw import combined_sheet, layer_section_sheet, pad_sheet
from evrin.formats import read_boreholes
from evrin.making import Pad, Slopes, combine, layers_under, pad_to_ground

CORNER, LAY_BY, HOLES = (f"earthworks/{name}" for name in ("corner-later.xml", "lay-by.geojson", "boreholes.csv"))
REFUSED_BY_HAND = ["nan", "inf", "-1", "1e300"]


def test_what_the_demo_builds_is_near_the_truth(demo):
    """The balancing level to two centimetres, the rest to what shots and five holes can give."""
    rows = {row["name"]: row for row in demo[1]["works"]}
    assert len(rows) == 6
    for name, within in (
        ("balancing level of the lay-by", 0.02),
        ("its cut", 2.5),
        ("bank in the corner, a year later", 3.0),
    ):
        assert abs(rows[name]["found"] - rows[name]["truth"]) < within
    materials = [row for name, row in rows.items() if "under the lay-by" in name]
    assert sum(row["found"] for row in materials) == pytest.approx(sum(row["truth"] for row in materials), rel=1e-3)
    assert all(abs(row["found"] - row["truth"]) < 5.0 for row in materials)


def test_surfaces_are_combined_and_written(run, tmp_path):
    """Surface, steps, joins and picture; the surface is read back as it was written."""
    out = [tmp_path / name for name in ("both.xml", "steps.csv", "both.png", "joins.dxf")]
    words = [word for path in out[:3] for word in ("-o", path)]
    printed = run("combine", "clean.toml", CORNER, *words, "--join-lines", out[3], "--called", "both").stdout
    assert "both: what is used" in printed
    back = evrin.read_surface(out[0])
    assert back.name == "both"
    corner = works.corner_surface()
    x, y = corner.vertices[:, :2].T
    inside = np.ones(len(x), bool)
    inside[np.concatenate(corner.rim())] = False
    assert np.abs(back.height(x[inside], y[inside]) - corner.vertices[inside, 2]).max() < 1e-6
    assert out[1].read_text().startswith("join,chainage")
    lines = list(ezdxf.readfile(out[3]).modelspace().query("POLYLINE"))
    assert len(lines) == 1
    answer = json.loads(run("combine", "clean.toml", CORNER, "--json", "--rule", "lower").stdout)
    assert sum(row["area_used"] for row in answer["rows"]) == pytest.approx(answer["rows"][0]["area"])
    assert run("combine", "clean.toml", CORNER, "--band", "2", "--json").stdout.count("largest_step") == 1


def test_a_recipe_combines_and_its_steps_are_findings(demo, run):
    """Kept where nothing has changed; accepted or met by a band; within an area only there."""
    folder = demo[0]
    text = (folder / "clean.toml").read_text()
    table = f'\n[[combine]]\nname = "corner"\nfile = "{CORNER}"\nwhy = "shot again"\n'
    recipe = folder / "with-corner.toml"
    recipe.write_text(text + table)
    build = evrin.Recipe.read(recipe).build(keep=True)
    assert [each.name for each in build.combined] == ["corner"]
    (step,) = [finding for finding in build.findings if finding.code == "join-step"]
    assert step.is_open
    assert "corner: a step of 0.199 m" in step.message
    again = evrin.Recipe.read(recipe).build(keep=True)
    assert np.array_equal(again.surface.vertices, build.surface.vertices)
    assert again.combined == build.combined
    printed = run("build", "with-corner.toml", code=1).stdout
    assert "Combined: corner" in printed
    with pytest.raises(evrin.EvrinError, match="a recipe holds one height at a place"):
        build.freeze(folder / "frozen-with-corner")
    recipe.write_text(text + table + "band = 2.0\n")
    met = evrin.Recipe.read(recipe).build()
    assert not [finding for finding in met.findings if finding.code == "join-step"]
    frozen = evrin.Recipe.read(met.freeze(folder / "frozen-with-corner")[-1]).build()
    assert frozen.surface.plan_area == pytest.approx(met.surface.plan_area)
    recipe.write_text(text + table.replace(CORNER, "nowhere.xml"))
    assert "nowhere.xml" in run("build", "with-corner.toml", code=2).stderr
    recipe.write_text(text + table + 'band = 1.0\nrule = "higher"\n')
    assert 'band goes with rule = "newer"' in run("build", "with-corner.toml", code=2).stderr


def test_a_pad_is_built_balanced_and_written(run, tmp_path):
    """The balancing level is printed, the daylight line lies on the ground, and ground that ends is exit code 1."""
    out = [tmp_path / name for name in ("pad.xml", "pad.png", "earthwork.xml", "daylight.dxf")]
    words = ["-o", out[0], "-o", out[1], "--earthwork", out[2], "--daylight", out[3]]
    printed = run("pad", "clean.toml", "--outline", LAY_BY, "--balance", *words).stdout
    assert "balancing level: 43.765 m" in printed
    proposed, alone = evrin.read_surface(out[0]), evrin.read_surface(out[2])
    assert proposed.kind == "proposed"
    (line,) = ezdxf.readfile(out[3]).modelspace().query("POLYLINE")
    places = np.array([vertex.dxf.location.xyz for vertex in line.vertices])
    assert np.abs(proposed.height(*places[:, :2].T) - places[:, 2]).max() < 1e-3
    assert alone.plan_area < proposed.plan_area
    answer = json.loads(
        run("pad", "clean.toml", "--outline", LAY_BY, "--level", "43.6", "--json", "--cut", "50%").stdout
    )
    assert answer["rows"][0]["cut"] == pytest.approx(126.0, abs=6.0)
    assert answer["shift"] is None
    edge = tmp_path / "edge.csv"
    edge.write_text("line,easting,northing\n" + "".join(f"P,{x},{y}\n" for x, y in (
        (4190, 2830), (4208, 2830), (4208, 2845), (4190, 2845), (4190, 2830))))  # fmt: skip
    printed = run("pad", "clean.toml", "--outline", edge, "--level", "44", code=1)
    assert "the ground ends before the slope meets it" in printed.stderr


def test_layers_are_laid_measured_and_drawn(run, tmp_path):
    """Volumes by material add up; the tops are surfaces of their own."""
    tops = tmp_path / "tops"
    words = [
        "--along",
        "4133,2874 4156,2914",
        "-o",
        tmp_path / "section.png",
        "--down-to",
        "41",
        "-o",
        tmp_path / "v.csv",
    ]
    run("layers", "clean.toml", "--holes", HOLES, *words, "--tops", tops)
    assert sorted(path.name for path in tops.iterdir()) == [
        "top-of-alluvium.xml", "top-of-gravel.xml", "top-of-made-ground.xml"]  # fmt: skip
    answer = json.loads(
        run(
            "layers", "clean.toml", "--holes", HOLES, "--down-to", "41", "--up-to", "42.6", "--within", LAY_BY, "--json"
        ).stdout
    )
    volumes = {row["material"]: row["volume"] for row in answer["volumes"]}
    assert volumes.pop("all") == pytest.approx(sum(volumes.values()))
    assert [row["holes_ended"] for row in answer["rows"]] == [0, 0, 1]
    assert "a section needs a line" in run("layers", "clean.toml", "--holes", HOLES, "-o", "s.png", code=2).stderr


@pytest.mark.parametrize("value", REFUSED_BY_HAND)
@pytest.mark.parametrize(
    "words",
    [
        ("combine", "clean.toml", CORNER, "--band"),
        ("combine", "clean.toml", CORNER, "--across"),
        ("pad", "clean.toml", "--outline", LAY_BY, "--cut"),
        ("pad", "clean.toml", "--outline", LAY_BY, "--level"),
        ("pad", "clean.toml", "--outline", LAY_BY, "--balance", "--factor"),
        ("pad", "clean.toml", "--outline", LAY_BY, "--berm-width", "1", "--berm-every"),
        ("layers", "clean.toml", "--holes", HOLES, "--pinch"),
        ("layers", "clean.toml", "--holes", HOLES, "--down-to"),
    ],
)
def test_numbers_that_no_option_takes_are_refused(run, words, value):
    """With an error in words, and nothing lost; a level of minus one is one."""
    if value == "-1" and words[-1] in ("--level", "--down-to"):
        return
    printed = run(*words[:-1], f"{words[-1]}={value}", code=2).stderr
    assert "Traceback" not in printed
    assert printed.strip()


def texts_of(figure):
    """All that a sheet states."""
    every = list(figure.texts) + [text for axes in figure.axes for text in axes.texts]
    every += [text for legend in figure.legends for text in legend.get_texts()]
    return " | ".join(text.get_text() for text in every)


def test_a_balance_needs_no_level_and_a_combined_surface_says_that_it_is_one(tmp_path, run):
    """On a plane of 1 in 10, equal slopes balance at the height of the middle."""
    ground, outline = tmp_path / "ramp.xml", tmp_path / "yard.geojson"
    ramp = evrin.triangulate([[0, 0, 10], [90, 0, 19], [90, 90, 19], [0, 90, 10]], name="ramp")
    evrin.write(ground, ramp)
    ring = [[40, 40], [50, 40], [50, 50], [40, 50], [40, 40]]
    feature = {"type": "Feature", "properties": {}, "geometry": {"type": "Polygon", "coordinates": [ring]}}
    outline.write_text(json.dumps({"type": "FeatureCollection", "features": [feature]}))
    asked = ("pad", str(ground), "--outline", f"{outline},crs=local", "--balance", "--json")
    row = json.loads(run(*asked, code=0).stdout)["rows"][0]
    assert row["lowest"] == pytest.approx(14.5, abs=1e-2) and row["cut"] == pytest.approx(row["fill"], rel=1e-3)
    patch = evrin.triangulate([[30, 30, 15], [60, 30, 15], [60, 60, 15], [30, 60, 15]], name="patch")
    assert combine([ramp, patch]).surface.name == "ramp with patch"
    assert combine([ramp, patch], name="both").surface.name == "both"


def test_pictures_state_what_they_show(tmp_path):
    """Names, figures, offsets of holes; equal scales on plans."""
    old = evrin.triangulate([[0, 0, 1], [40, 0, 1], [40, 40, 2], [0, 40, 2]], name="old")
    new = evrin.triangulate([[20, 10, 2], [30, 10, 2], [30, 30, 2], [20, 30, 2]], name="new")
    sheet = combined_sheet(combine([old, new]))
    assert "1 old | 2 new" in texts_of(sheet)
    assert sheet.axes[0].get_aspect() == 1.0
    built = pad_to_ground(old, Pad.of([[10, 10], [30, 10], [30, 30], [10, 30]], 2.5, Slopes(1.0, 1.5), "yard"))
    described = texts_of(pad_sheet([built], old))
    assert "yard" in described
    assert f"{built.fill:,.1f}" in described
    table = tmp_path / "holes.csv"
    table.write_text(
        "hole,easting,northing,ground,material,depth\nA,10,12,1.3,clay,0\nA,10,12,1.3,gravel,2\nA,10,12,1.3,end,5\n"
    )
    layers = layers_under(old, read_boreholes(table)[0])
    section = layer_section_sheet(layers, [[2.0, 10.0], [38.0, 10.0]])
    assert "A\nprojected, 2.0 left" in texts_of(section)
    with pytest.raises(evrin.DataError, match="does not meet the surface"):
        layer_section_sheet(layers, [[200.0, 10.0], [238.0, 10.0]])
    assert "clay | gravel" in texts_of(section)
