"""Every file comes in by one door: units, reference systems, axes and units of heights of whatever table or option."""

import json

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import evrin
from evrin import DataError, Frame, Recipe
from evrin.base.tolerances import METRES, Length
from evrin.formats import Claim
from evrin.formats.door.reference_systems import transformed_places
from sites import grid_field, lay_out

SYSTEM, OTHER = "EPSG:25832", "EPSG:25833"
EAST, NORTH = 604_000.0, 5_702_800.0
SHAPES = {
    "limit": [(3, 3), (62, 2), (63, 61), (2, 63)],
    "pond": [(22, 22), (33, 22), (33, 34), (22, 33)],
    "road": [(5, 48), (30, 50), (58, 46)],
}
TABLES = {
    "limit": '[[boundary]]\nfile = "limit.csv"\neffect = "keep"\n',
    "pond": '[[flat]]\nfile = "pond.csv"\nlevel = {level}\n',
    "road": '[[along]]\nfile = "road.csv"\nwithin = {within}\n',
    "check": '[[check_points]]\nfile = "check.csv"\n',
    "other": '[[source]]\nfile = "other.xml"\nrole = "surface"\n',
}
RNG = np.random.default_rng(7)
FIELD = np.column_stack((RNG.uniform(0, 65, (300, 2)), np.zeros(300)))
FIELD[:, 2] = 40 + 0.04 * FIELD[:, 0] + np.sin(FIELD[:, 1] / 9.0)
CHECKED = np.array([[12.5, 14.0, 41.3], [44.0, 18.5, 42.4], [50.0, 52.0, 41.8]])
OTHER_GROUND = np.array([[70.0, 5, 43], [90, 6, 43.5], [88, 30, 44], [71, 28, 42.8]])


def stated(places, units="m", height_units="m", crs=SYSTEM, exchanged=False):
    """Places (n, 3) of the site in the terms of a file, and the keys that state them."""
    xyz = np.array(places, float)
    keys = ""
    if crs != SYSTEM:
        xyz = transformed_places(xyz, SYSTEM, crs)
        keys += f'crs = "{crs}"\n'
    else:
        xyz[:, :2] /= METRES[units]
        keys += f'units = "{units}"\n' if units != "m" else ""
    xyz[:, 2] /= METRES[height_units]
    keys += f'height_units = "{height_units}"\n' if height_units != "m" or units != "m" else ""
    if exchanged:
        xyz, keys = xyz[:, [1, 0, 2]], keys + "exchanged = true\n"
    return xyz, keys


def moved(places):
    xyz = np.array([[*place, 0.0][:3] for place in places], float)
    return xyz + (EAST, NORTH, 0.0)


def rows(xyz, name=""):
    head = "line,easting,northing,height\n" if name else "easting,northing,height\n"
    return head + "".join(f"{name + ',' if name else ''}{x!r},{y!r},{z!r}\n" for x, y, z in xyz.tolist())


def site(folder, how):
    """Lay out a site whose files are each in the terms that *how* gives for it."""
    folder.mkdir()
    text = f'[site]\ncrs = "{SYSTEM}"\n[[source]]\nfile = "field.csv"\nrole = "points"\n'
    (folder / "field.csv").write_text(rows(moved(FIELD)))
    for name, table in TABLES.items():
        places = {"check": CHECKED, "other": OTHER_GROUND}.get(name, SHAPES.get(name))
        xyz, keys = stated(moved(places), **how.get(name, {}))
        if name == "other":
            evrin.write(folder / "other.xml", evrin.triangulate(xyz, name="other"))
            keys = keys or 'units = "m"\n'
        else:
            closed = np.vstack((xyz, xyz[:1])) if name in ("limit", "pond") else xyz
            (folder / f"{name}.csv").write_text(rows(closed, "" if name == "check" else name))
        text += table.format(level=41.2, within=8.0) + keys
    (folder / "site.toml").write_text(text)
    return Recipe.read(folder / "site.toml").build()


HOW = st.one_of(
    st.fixed_dictionaries({"units": st.sampled_from(["ft", "ftUS"]), "height_units": st.sampled_from(["m", "ft"])}),
    st.fixed_dictionaries(
        {"crs": st.sampled_from(["EPSG:4326", OTHER]), "height_units": st.sampled_from(["m", "ftUS"])}
    ),
    st.just({"exchanged": True}),
)


@pytest.mark.slow
@settings(max_examples=12)
@given(st.dictionaries(st.sampled_from(sorted(TABLES)), HOW, min_size=1))
def test_files_in_other_units_or_systems_give_the_same_surface_to_a_millimetre(tmp_path_factory, how):
    folder = tmp_path_factory.mktemp("door")
    plain, mixed = site(folder / "plain", {}), site(folder / "mixed", how)
    assert np.array_equal(plain.surface.triangles, mixed.surface.triangles)
    assert np.abs(plain.surface.vertices - mixed.surface.vertices).max() < 1e-3
    assert [f.code for f in plain.findings] == [f.code for f in mixed.findings]
    one, other = (build.checked[0][1].table["deviation"].to_numpy() for build in (plain, mixed))
    assert np.abs(one - other).max() < 1e-3


RING = "line,x,y\nr,4002,2802\nr,4030,2802\nr,4030,2830\nr,4002,2830\nr,4002,2802\n"
IN_FEET = "\n".join(
    [RING.split("\n")[0]]
    + [",".join([n, *(f"{float(v) / 0.3048:.6f}" for v in c)]) for n, *c in (r.split(",") for r in RING.split()[1:])]
)
FIELD_TEXT = grid_field(8)


@pytest.mark.parametrize(
    ("table", "ring", "fix"),
    [
        ('[[boundary]]\nfile = "r.csv"\neffect = "keep"\n', IN_FEET, 'units = "ft"'),
        ('[[boundary]]\nfile = "r.csv"\neffect = "keep"\n', RING.replace("4002", "9.5").replace("4030", "9.6"), "crs"),
    ],
)
def test_a_boundary_away_from_the_site_stops_the_build_with_the_fix(tmp_path, table, ring, fix):
    ring = ring.replace("2802", "51.1").replace("2830", "51.2") if "9.5" in ring else ring
    path = lay_out(tmp_path, table, field=FIELD_TEXT, r__csv=ring)
    with pytest.raises(DataError, match=r"no boundary to keep is where the data is") as raised:
        Recipe.read(path).build()
    assert fix in str(raised.value)


def test_other_files_away_from_the_site_are_findings_with_the_fix(tmp_path):
    flat = '[[flat]]\nfile = "r.csv"\nlevel = 40.0\n'
    (found,) = [
        f
        for f in Recipe.read(lay_out(tmp_path, flat, field=FIELD_TEXT, r__csv=IN_FEET)).build().findings
        if f.code.startswith("sources-")
    ]
    assert found.code == "sources-feet-beside-metres" and 'units = "ft"' in found.fix and "r.csv" in found.message


@pytest.mark.parametrize("key", ['units = "ft"', 'height_units = "ft"'])
def test_levels_of_a_flat_in_the_files_own_unit(tmp_path, key):
    text = "line,x,y,z\n" + "".join(f"{row},131.2336\n" for row in RING.split()[1:])
    if key.startswith("units"):
        text = "line,x,y,z\n" + "".join(f"{row},131.2336\n" for row in IN_FEET.split()[1:])
    flat = f'[[flat]]\nfile = "r.csv"\n{key}\n'
    build = Recipe.read(lay_out(tmp_path, flat, field=FIELD_TEXT, r__csv=text)).build()
    assert float(build.surface.height(4016, 2816)) == pytest.approx(40.0, abs=1e-4)


GEOJSON = '{"type":"Polygon","coordinates":[[[9.5,51.1],[9.6,51.1],[9.6,51.2],[9.5,51.1]]]%s}'


@pytest.mark.parametrize("crs", ["", ',"crs":{"type":"name","properties":{"name":"EPSG:4326"}}'])
def test_a_file_in_degrees_cannot_be_used_on_a_local_site(tmp_path, crs):
    table = '[[boundary]]\nfile = "r.geojson"\neffect = "keep"\n'
    path = lay_out(tmp_path, table, field=FIELD_TEXT, r__geojson=GEOJSON % crs)
    with pytest.raises(DataError, match="EPSG:4326, and the site is local"):
        Recipe.read(path).build()


def test_a_system_that_a_local_site_does_not_have_is_a_finding(tmp_path):
    ring = GEOJSON.replace("9.5", "4002").replace("9.6", "4030").replace("51.1", "2802").replace("51.2", "2830")
    ring %= ',"crs":{"type":"name","properties":{"name":"EPSG:25832"}}'
    table = '[[boundary]]\nfile = "r.geojson"\neffect = "keep"\n'
    found = Recipe.read(lay_out(tmp_path, table, field=FIELD_TEXT, r__geojson=ring)).build().findings
    assert {f.code for f in found if f.is_open} == {"system-differs", "boundary-takes-most"}
    stated_local = table + 'crs = "local"\n'
    (tmp_path / "site.toml").write_text((tmp_path / "site.toml").read_text().replace(table, stated_local))
    assert "system-differs" not in {f.code for f in Recipe.read(tmp_path / "site.toml").build().findings}


def test_surfaces_in_unlike_frames_are_never_compared_unasked(tmp_path):
    metres = evrin.triangulate([[0, 0, 1], [4, 0, 1], [4, 4, 2], [0, 4, 2]], name="a")
    feet = metres.transform(Frame("ft"))
    for compare in (
        lambda: metres.difference(feet),
        lambda: metres.profile([(0, 1), (4, 1)]).area_between(feet.profile([(0, 1), (4, 1)])),
        lambda: (
            metres.sections([(0, 1), (4, 1)], 1.0, left=1, right=1)
            and evrin.analysis.cross_sections({"a": metres, "b": feet}, [(0, 1), (4, 1)], 1.0, left=1, right=1)
        ),
    ):
        with pytest.raises(DataError, match=r"international feet.*--convert"):
            compare()
    back = feet.transform(Frame("m"))
    assert np.abs(back.vertices - metres.vertices).max() < 1e-12 and metres.difference(back).rms < 1e-12
    with pytest.raises(DataError, match="no way is known"):
        metres.transform(Frame("m", SYSTEM))


def test_options_take_files_in_other_units(run, demo, tmp_path):
    points = [row.split(",") for row in (demo[0] / "field" / "check.csv").read_text().split()]
    feet = [[row[0], *(f"{float(value) / 0.3048:.6f}" for value in row[1:4]), *row[4:]] for row in points]
    path = tmp_path / "feet, of the crew.csv"
    path.write_text("\n".join(map(",".join, feet)) + "\n")
    plain = run("height", "ground.xml", "--points", "field/check.csv,columns=PNEZD", "--json").stdout
    plain = json.loads(plain)
    off = run("height", "ground.xml", "--points", f"{path}", "--columns", "PNEZD", code=1)
    assert "off surface" in off.stdout and "does not overlap" in off.stderr and 'units = "ft"' in off.stderr
    link = tmp_path / "feet.csv"
    link.write_text(path.read_text())
    answer = json.loads(run("height", "ground.xml", "--points", f"{link},columns=PNEZD,units=ft", "--json").stdout)
    assert answer["figures"]["rmse"] == pytest.approx(plain["figures"]["rmse"], abs=1e-6)
    assert "is not known after a file name" in run("profile", "ground.xml", "--along", "x.csv,unit=ft", code=2).stderr
    output = run("profile", "clean.toml", "ground.xml,units=ft", "--along", "4060,2905 4100,2850", code=2).stderr
    assert "They cannot be compared" in output and "--convert" in output


@pytest.mark.parametrize("text", ["a.csv,units=ell", "a.csv,exchanged=1", "a.csv,", "a.csv,crs="])
def test_what_is_not_known_of_a_file_is_refused(text):
    with pytest.raises(DataError, match=r"is not known|must be one of"):
        Claim.parsed(text)


def test_default_lengths_are_metres_on_a_site_in_feet_and_given_ones_are_feet(tmp_path):
    base = '[site]\nunits = "ft"\n[[source]]\nfile = "day1.csv"\nrole = "points"\ncolumns = "PNEZD"\n'
    field = "1,0,0,10,A\n2,0,50,10,A\n3,50,50,10,A\n4,50,0,10,A\n"
    path = lay_out(tmp_path, base=base + "[check]\nedit_reach = 7.0\n", field=field)
    check = Recipe.read(path).tables.check
    assert check.height_tolerance == pytest.approx(0.02 / 0.3048) and check.edit_reach == 7.0
    assert check.accept_reach == pytest.approx(1.0 / 0.3048)
    assert Length(1.0, "").in_units("ftUS") == pytest.approx(3937 / 1200)


def test_a_build_in_feet_is_the_build_in_metres_scaled(tmp_path):
    metres = [[float(v) for v in row.split(",")[1:4]] for row in FIELD_TEXT.split()]
    feet = "".join(f"{k},{n / 0.3048!r},{e / 0.3048!r},{z / 0.3048!r},G\n" for k, (n, e, z) in enumerate(metres, 1))
    base = '[[source]]\nfile = "day1.csv"\nrole = "points"\ncolumns = "PNEZD"\n[busts]\n'
    one = Recipe.read(lay_out(tmp_path, base=base, field=FIELD_TEXT)).build()
    other = Recipe.read(lay_out(tmp_path, base='[site]\nunits = "ft"\n' + base, field=feet)).build()
    assert np.abs(one.surface.vertices - 0.3048 * other.surface.vertices).max() < 1e-6
    assert [f.code for f in one.findings] == [f.code for f in other.findings]
