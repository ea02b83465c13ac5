"""Units of plan and of heights come from definitions, keys, bands and headers, each by itself; used or asked about."""

import struct

import ezdxf
import laspy
import numpy as np
import pyproj
import pytest
import rasterio
from hypothesis import given, settings
from hypothesis import strategies as st

import evrin
from evrin import DataError, Recipe
from evrin.base.tolerances import FILE_METRES, METRES
from evrin.formats import look
from evrin.formats.door.reference_systems import is_same_system, stated_system, system_in
from evrin.recipe.document.draft import draft
from evrin.surface.frame import system_name
from evrin.survey import inventory
from evrin.survey.mismatch import Extent, Located, mismatches
from sites import lay_out

OWN = pyproj.CRS.from_proj4(
    "+proj=tmerc +lat_0=51 +lon_0=9.1 +k=1 +x_0=500000 +y_0=0 +ellps=GRS80 +units=us-ft"
).to_wkt()
RNG = np.random.default_rng(8)
PLACES = np.column_stack((RNG.uniform(0, 20, (300, 2)) + (500_000, 5_700_000), RNG.uniform(40, 41, 300)))


@pytest.mark.parametrize(
    ("definition", "stated"),
    [
        ("EPSG:25832", ("EPSG:25832", "m", "")),
        ("EPSG:25832+5783", ("EPSG:25832", "m", "m")),
        ("EPSG:25832+6360", ("EPSG:25832", "m", "ftUS")),
        ("EPSG:2225", ("EPSG:2225", "ftUS", "")),
        ("EPSG:4979", ("EPSG:4326", "degrees", "m")),
        ("EPSG:6360", ("", "", "ftUS")),
    ],
)
def test_a_definition_states_plan_and_heights_each_by_itself(definition, stated):
    assert (found := system_in(definition)) and (found.crs, found.units, found.height_units) == stated


def test_a_system_without_a_number_keeps_its_definition_and_its_unit():
    stated = system_in(OWN)
    assert (
        stated.units == "ftUS"
        and stated.crs.startswith("PROJCRS")
        and system_name(stated.crs) == '"unknown" (no EPSG number)'
    )
    assert is_same_system(stated.crs, OWN) and not is_same_system(stated.crs, "EPSG:25832")
    with pytest.raises(DataError, match="unsupported"):
        stated_system(pyproj.CRS.from_proj4("+proj=tmerc +lat_0=51 +lon_0=9 +ellps=GRS80 +to_meter=0.9144"))


def grid(path, crs, z, dtype="float64", bands=1, **how):
    z = np.asarray(z, dtype).reshape(20, 20)
    shape = rasterio.transform.Affine(1, 0, 500_000, 0, -1, 5_700_020)
    with rasterio.open(path, "w", "GTiff", 20, 20, bands, crs, shape, dtype) as out:
        for band in range(bands):
            out.write(z, band + 1)
        for key, value in how.items():
            setattr(out, key, (value,) * bands)


HEIGHTS = np.linspace(40.0, 41.0, 400)


@pytest.mark.parametrize(
    ("crs", "z", "how"),
    [
        ("EPSG:25832+6360", HEIGHTS / METRES["ftUS"], {}),
        ("EPSG:25832", HEIGHTS / 0.3048, {"units": "foot"}),
        ("EPSG:25832", HEIGHTS * 100, {"units": "centimetre"}),
        ("EPSG:25832", (HEIGHTS - 40) * 1000, {"scales": 0.001, "offsets": 40.0, "dtype": "int16"}),
    ],
)
def test_a_grid_comes_in_at_its_true_heights_whatever_states_their_unit(tmp_path, crs, z, how):
    grid(tmp_path / "dem.tif", crs, z, **how)
    base = '[site]\ncrs = "EPSG:25832"\n[[source]]\nfile = "dem.tif"\nrole = "grid"\n'
    build = Recipe.read(lay_out(tmp_path, base=base)).build()
    low, high = build.surface.vertices[:, 2].min(), build.surface.vertices[:, 2].max()
    assert (low, high) == (pytest.approx(40.0, abs=1e-3), pytest.approx(41.0, abs=1e-3))
    surface = evrin.read_surface(tmp_path / "dem.tif")
    assert surface.vertices[:, 2].max() == pytest.approx(41.0, abs=1e-3) and surface.crs == "EPSG:25832"


@pytest.mark.parametrize("dtype", ["uint8", "uint16"])
def test_a_picture_of_three_bands_is_not_a_grid_of_heights(tmp_path, dtype):
    with rasterio.open(
        tmp_path / "a.tif", "w", "GTiff", 20, 20, 3, "EPSG:25832", rasterio.transform.Affine(1, 0, 0, 0, -1, 20), dtype
    ) as out:
        out.colorinterp = [rasterio.enums.ColorInterp[name] for name in ("red", "green", "blue")]
        out.write(np.ones((3, 20, 20), dtype))
    with pytest.raises(DataError, match="a picture of 3 bands"):
        look(tmp_path / "a.tif")


def cloud(path, wkt="", keys=(), doubles=()):
    header = laspy.LasHeader(point_format=6 if wkt else 1, version="1.4" if wkt else "1.2")
    header.scales, header.offsets = [0.001] * 3, PLACES.min(axis=0).round()
    if wkt:
        header.vlrs.append(laspy.vlrs.known.WktCoordinateSystemVlr(wkt))
        header.global_encoding.wkt = True
    if keys:
        rows = [struct.pack("<4H", *key) for key in keys]
        content = struct.pack("<4H", 1, 1, 0, len(keys)) + b"".join(rows)
        header.vlrs.append(laspy.VLR("LASF_Projection", 34735, "", content))
        header.vlrs.append(laspy.VLR("LASF_Projection", 34736, "", struct.pack(f"<{len(doubles)}d", *doubles)))
    las = laspy.LasData(header)
    las.x, las.y = PLACES[:, 0], PLACES[:, 1]
    las.z = PLACES[:, 2] / METRES["ftUS"]
    las.classification = np.full(len(PLACES), 2, np.uint8)
    las.write(path)


LISTED = [(1024, 0, 1, 1), (3072, 0, 1, 25832)]
DEFINED = [
    (1024, 0, 1, 1),
    (2048, 0, 1, 4258),
    (3072, 0, 1, 32767),
    (3074, 0, 1, 32767),
    (3075, 0, 1, 1),
    (3076, 0, 1, 9001),
]
DEFINED += [(key, 34736, 1, k) for k, key in enumerate((3080, 3081, 3082, 3083, 3092))]


@pytest.mark.parametrize(
    ("how", "crs"),
    [
        ({"wkt": pyproj.CRS("EPSG:25832+6360").to_wkt("WKT1_GDAL")}, "EPSG:25832"),
        ({"keys": [*LISTED, (4096, 0, 1, 6360)], "doubles": [0.0]}, "EPSG:25832"),
        ({"keys": [*LISTED, (4099, 0, 1, 9003)], "doubles": [0.0]}, "EPSG:25832"),
        ({"keys": [*DEFINED, (4099, 0, 1, 9003)], "doubles": [9.1, 51.0, 500000.0, 5700000.0, 1.0]}, "PROJCRS"),
    ],
)
def test_a_cloud_states_its_system_and_heights_by_definition_or_by_keys(tmp_path, how, crs):
    cloud(tmp_path / "a.las", **how)
    seen = look(tmp_path / "a.las")
    assert (seen.stated.units, seen.stated.height_units) == ("m", "ftUS") and seen.stated.crs.startswith(crs)
    made = draft([tmp_path / "a.las"], tmp_path / "site.toml")
    (tmp_path / "site.toml").write_text(made.text, encoding="utf-8")
    build = Recipe.read(tmp_path / "site.toml").build()
    assert build.surface.crs.startswith(crs) and build.surface.vertices[:, 2].max() < 41.1
    assert not [f for f in build.open_findings if "units" in f.code or "system" in f.code]


@pytest.mark.parametrize("suffix", [".gpkg", ".tif", ".xml"])
def test_a_system_without_a_number_is_written_and_comes_back(tmp_path, suffix):
    crs = system_in(OWN).crs
    field = evrin.triangulate(PLACES, name="field").renamed(crs=crs, units="ftUS")
    made = field.gridded(2.0) if suffix == ".tif" else field
    evrin.write(tmp_path / f"a{suffix}", made)
    back = look(tmp_path / f"a{suffix}")
    assert is_same_system(back.stated.crs, crs) and back.stated.units == "ftUS"


@settings(max_examples=12)
@given(st.sampled_from(sorted(set(FILE_METRES) - {"m"})), st.booleans())
def test_what_a_drawing_states_is_asked_about_and_following_the_fix_makes_it_right(tmp_path_factory, unit, is_right):
    folder = tmp_path_factory.mktemp("drawn")
    document = ezdxf.new()
    document.units = {"in": 1, "ft": 2, "mm": 4, "cm": 5, "km": 7, "dm": 14, "ftUS": 21}[unit]
    factor = 1.0 / FILE_METRES[unit] if is_right else 1.0
    for x, y, z in (PLACES[:60] - (496_000, 5_697_200, 0)).tolist():
        document.modelspace().add_point((x * factor, y * factor, z * factor))
    document.saveas(folder / "plan.dxf")
    base = '[[source]]\nfile = "plan.dxf"\nrole = "points"\n'
    (asked,) = [f for f in Recipe.read(lay_out(folder, base=base)).build().open_findings if f.code == "units-differ"]
    stated = unit if is_right else "m"
    assert f'units = "{unit}"' in asked.fix and 'units = "m"' in asked.fix and "plan.dxf" in asked.message
    right = Recipe.read(lay_out(folder, base=f'{base}units = "{stated}"\n')).build()
    assert not right.open_findings and right.surface.vertices[:, 2].max() == pytest.approx(
        PLACES[:60, 2].max(), abs=1e-6
    )


def test_the_file_that_states_nothing_is_reported_not_the_one_that_declares(tmp_path):
    metres = evrin.triangulate(PLACES[:40] - (496_000, 5_697_200, 0), name="declared")
    evrin.write(tmp_path / "declared.xml", metres)
    feet = (PLACES - (496_000, 5_697_200, 0)) / 0.3048
    rows = "x,y,z\n" + "".join(f"{x},{y},{z}\n" for x, y, z in feet.tolist())
    tables = '[[source]]\nfile = "silent.csv"\nrole = "points"\n{}[[source]]\nfile = "declared.xml"\nrole = "surface"\n'
    path = lay_out(tmp_path, base=tables.format(""), silent__csv=rows)
    (found,) = [f for f in Recipe.read(path).build().open_findings if f.code.startswith("sources-")]
    assert found.message.startswith("silent.csv") and 'units = "ft" for silent.csv' in found.fix
    path.write_text(tables.format('units = "ft"\n'))
    assert not [f for f in Recipe.read(path).build().open_findings if f.code.startswith("sources-")]


def located(*boxes):
    return [
        Located(str(k), Extent(np.array(low, float), np.array(high, float)), 100 - k)
        for k, (low, high) in enumerate(boxes)
    ]


@pytest.mark.parametrize(
    ("boxes", "kinds"),
    [
        ([((10, 10, 40), (11.5, 11.2, 40.4))], []),
        ([((9.123, 51.2, 40), (9.125, 51.202, 46))], ["degrees"]),
        ([((0, 0, 40), (90, 80, 44)), ((130, 10, 40), (170, 60, 44))], ["apart"]),
        ([((4000, 2800, 40), (4100, 2880, 44)), ((13123, 9186, 40), (13451, 9449, 44))], ["feet-beside-metres"]),
    ],
)
def test_small_drawings_are_not_degrees_and_lines_near_the_origin_are_not_feet(boxes, kinds):
    assert [each.kind for each in mismatches(located(*boxes))] == kinds


def test_declared_degrees_are_believed_at_any_extent(tmp_path):
    rows = [
        f'{{"type":"Feature","properties":{{}},"geometry":{{"type":"Point","coordinates":[{x},{y},40]}}}}'
        for x, y in ((9, 51), (12, 51), (12, 54))
    ]
    text = '{"type":"FeatureCollection","features":[' + ",".join(rows) + "]}"
    (tmp_path / "a.geojson").write_text(text)
    seen = look(tmp_path / "a.geojson")
    assert seen.stated.units == "degrees" and not inventory(seen).looks_wrong
    made = draft([tmp_path / "a.geojson"], tmp_path / "site.toml")
    assert 'crs   = "EPSG:32632"' in made.text or 'crs   = "EPSG:32633"' in made.text
