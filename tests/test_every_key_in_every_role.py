"""What each key of a source does to numbers, in every role that takes it, whatever its file's unit and order."""

import json
from itertools import product

import ezdxf
import numpy as np
import pytest

import evrin
from evrin import Frame, Recipe
from evrin.base.tolerances import FILE_METRES, METRES
from evrin.formats import Claim
from evrin.formats.door.intake import Transformation, take_in

# Unit of the site, unit of the file, and whether northings come first in it.
FRAMES = [("m", "m", False), ("m", "ft", True), ("ft", "m", True), ("ftUS", "mm", False), ("m", "ftUS", False)]
EAST, NORTH = 4100.0, 2870.0
SIDE = 6
XY = np.array([(EAST + 4.0 * i + 0.3 * (j % 3), NORTH + 4.0 * j) for j in range(SIDE) for i in range(SIDE)])


def plane(xy):
    """Ground that slopes both ways, unlike in each."""
    return 50.0 + 0.1 * (xy[:, 0] - EAST) - 0.05 * (xy[:, 1] - NORTH)


GROUND = np.column_stack((XY, plane(XY)))
LATTICE = np.arange(SIDE * SIDE).reshape(SIDE, SIDE)
FACES = [
    corners
    for j, i in product(range(SIDE - 1), repeat=2)
    for a, b, c, d in [(LATTICE[j, i], LATTICE[j, i + 1], LATTICE[j + 1, i + 1], LATTICE[j + 1, i])]
    for corners in ((a, b, c), (a, c, d))
]


def as_filed(xyz, site, unit, exchanged, height_unit=""):
    """Places of the site as a file in another unit and order has them."""
    factor, heights = METRES[site] / FILE_METRES[unit], METRES[site] / FILE_METRES[height_unit or unit]
    xyz = np.asarray(xyz) * (factor, factor, heights)
    return xyz[:, [1, 0, 2]] if exchanged else xyz


def written(folder, role, filed):
    """Write the lattice in a format of the role; return the file's name."""
    rows = filed.tolist()
    if role == "points":
        text = "".join(f"{k},{x!r},{y!r},{z!r},GL\n" for k, (x, y, z) in enumerate(rows, 1))
        name, text = "p.csv", "number,x,y,z,code\n" + text
    elif role in ("breaklines", "contours"):
        lines = [f"{k // SIDE},{x!r},{y!r},{z!r}\n" for k, (x, y, z) in enumerate(rows)]
        name, text = "l.csv", "line,x,y,z\n" + "".join(lines)
    elif role == "cloud":
        name, text = "c.xyz", "".join(f"{x!r} {y!r} {z!r}\n" for x, y, z in rows)
    elif role == "surface":
        # Whoever exchanges northing and easting turns every triangle over.
        places = "".join(f"v {x!r} {y!r} {z!r}\n" for x, y, z in rows)
        name, text = "s.obj", places + "".join(f"f {a + 1} {b + 1} {c + 1}\n" for a, b, c in FACES)
    else:
        edges = {tuple(sorted(pair)) for a, b, c in FACES for pair in ((a, b), (b, c), (c, a))}
        features = [
            {
                "type": "Feature",
                "properties": {},
                "geometry": {"type": "LineString", "coordinates": [rows[a], rows[b]]},
            }
            for a, b in sorted(edges)
        ]
        name, text = "e.geojson", json.dumps({"type": "FeatureCollection", "features": features}, default=float)
    (folder / name).write_text(text)
    return name


def built(folder, role, name, frame, keys="", more=""):
    site, unit, exchanged = frame
    columns = 'columns = "xyz"\n' if role == "cloud" else ""
    exchange = "exchanged = true\n" if exchanged else ""
    (folder / "site.toml").write_text(
        f'[site]\nunits = "{site}"\n[[source]]\nfile = "{name}"\nrole = "{role}"\nunits = "{unit}"\n'
        f"{exchange}{columns}{keys}\n{more}"
    )
    return Recipe.read(folder / "site.toml").build()


ROLES = ("points", "breaklines", "contours", "cloud", "surface", "edges")
HEIGHTS = {
    "": lambda z: z,
    "raise_by = 0.5": lambda z: z + 0.5,
    "scale_heights = 2.0": lambda z: 2.0 * z,
    "raise_by = -3.0\nscale_heights = 0.5": lambda z: 0.5 * z - 3.0,
    "heights = { level = 12.0 }": lambda z: np.full_like(z, 12.0),
    'height_units = "cm"': lambda z: z,
}
LEVELLED = ("points", "breaklines", "contours")


@pytest.mark.parametrize("frame", FRAMES, ids=str)
@pytest.mark.parametrize(
    ("role", "keys"), [(r, k) for r, k in product(ROLES, HEIGHTS) if "level" not in k or r in LEVELLED]
)
def test_heights_of_a_source_are_what_its_keys_make_of_them(tmp_path, frame, role, keys):
    name = written(tmp_path, role, as_filed(GROUND, *frame, "cm" if "height_units" in keys else ""))
    surface = built(tmp_path, role, name, frame, keys).surface
    assert len(surface.vertices) == len(GROUND)
    order = np.lexsort(surface.vertices[:, :2].round(3).T)
    expected = GROUND[np.lexsort(GROUND[:, :2].round(3).T)]
    assert np.abs(surface.vertices[order, :2] - expected[:, :2]).max() < 1e-6
    assert np.abs(surface.vertices[order, 2] - HEIGHTS[keys](expected[:, 2])).max() < 1e-6
    a, b, c = (surface.vertices[surface.triangles[:, k], :2] for k in range(3))
    assert ((b - a)[:, 0] * (c - a)[:, 1] > (b - a)[:, 1] * (c - a)[:, 0]).all()
    if role == "surface":
        assert len(surface.triangles) == len(FACES)


EASTERN = [EAST + 7.0, NORTH - 1.0, EAST + 30.0, NORTH + 30.0]
SELECTED = {
    f"window = {EASTERN}": XY[:, 0] > EAST + 7.0,
    f"polygon = [[{EAST - 1}, {NORTH - 1.5}], [{EAST + 9}, {NORTH - 1.5}], [{EAST + 9}, {NORTH + 8.5}]]": (
        (XY[:, 0] < EAST + 9) & (XY[:, 1] - NORTH < XY[:, 0] - EAST - 0.5)
    ),
    "heights = [50.2, 51.1]": (GROUND[:, 2] >= 50.2) & (GROUND[:, 2] <= 51.1),
}


@pytest.mark.parametrize("frame", FRAMES, ids=str)
@pytest.mark.parametrize(
    ("role", "key", "criterion"),
    list(product(("points", "cloud"), ("keep", "leave_out"), SELECTED)),
    ids=lambda v: v[:9],
)
def test_areas_and_heights_that_select_are_the_sites(tmp_path, frame, role, key, criterion):
    name = written(tmp_path, role, as_filed(GROUND, *frame))
    build = built(tmp_path, role, name, frame, f"{key} = {{ {criterion} }}")
    kept = SELECTED[criterion] if key == "keep" else ~SELECTED[criterion]
    assert 3 <= kept.sum() < len(XY) and len(build.surface.vertices) == kept.sum()
    nearest = np.abs(build.surface.vertices[:, None, :2] - XY[kept][None]).max(axis=2).min(axis=0)
    assert nearest.max() < 1e-6


@pytest.mark.parametrize("frame", FRAMES, ids=str)
def test_an_area_in_a_file_of_its_own_unit_selects(tmp_path, frame):
    site, unit, exchanged = frame
    ring = [
        [EASTERN[0], NORTH - 1, 0],
        [EASTERN[2], NORTH - 1, 0],
        [EASTERN[2], NORTH + 30, 0],
        [EASTERN[0], NORTH + 30, 0],
    ]
    rows = as_filed([*ring, ring[0]], site, unit, exchanged).tolist()
    (tmp_path / "r.csv").write_text("line,x,y\n" + "".join(f"r,{x!r},{y!r}\n" for x, y, _ in rows))
    name = written(tmp_path, "points", as_filed(GROUND, site, "m", False))
    within = f'keep = {{ within = {{ file = "r.csv", units = "{unit}", exchanged = {str(exchanged).lower()} }} }}'
    build = built(tmp_path, "points", name, (site, "m", False), within)
    assert len(build.surface.vertices) == SELECTED[f"window = {EASTERN}"].sum()
    limit = f'[[boundary]]\nfile = "r.csv"\nunits = "{unit}"\nexchanged = {str(exchanged).lower()}\neffect = "keep"\n'
    clipped = built(tmp_path, "points", name, (site, "m", False), more=limit).surface
    assert clipped.vertices[:, 0].min() == pytest.approx(EASTERN[0], abs=1e-6)


def lettered(folder, filed, texts, at):
    """A drawing with points without height, and a text at each of some places."""
    drawing = ezdxf.new()
    space = drawing.modelspace()
    for x, y, _ in filed.tolist():
        space.add_point((x, y, 0.0))
    for text, (x, y, _) in zip(texts, at.tolist(), strict=True):
        space.add_text(text, height=0.1).set_placement((x, y))
    drawing.saveas(folder / "d.dxf")
    return "d.dxf"


@pytest.mark.parametrize("frame", FRAMES, ids=str)
@pytest.mark.parametrize("height_unit", ["", "ft"])
@pytest.mark.parametrize("keys", ["", "raise_by = 0.5\nscale_heights = 2.0"])
@pytest.mark.parametrize("how", ["text", "text nearby"])
def test_heights_from_texts_are_in_the_files_unit_and_raised_like_all_others(tmp_path, frame, height_unit, keys, how):
    filed = as_filed(GROUND, *frame, height_unit)
    beside = as_filed(GROUND + (0.2, 0.1, 0.0), *frame, height_unit)
    name = lettered(tmp_path, filed, [repr(z) for z in filed[:, 2].tolist()], filed if how == "text" else beside)
    own = f'height_units = "{height_unit}"\n' if height_unit else ""
    surface = built(tmp_path, "points", name, frame, f'{own}heights = "{how}"\n{keys}').surface
    expected = plane(surface.vertices[:, :2]) * (2.0 if keys else 1.0) + (0.5 if keys else 0.0)
    assert len(surface.vertices) == len(GROUND) and np.abs(surface.vertices[:, 2] - expected).max() < 1e-6


@pytest.mark.parametrize("frame", FRAMES, ids=str)
@pytest.mark.parametrize("role", ["points", "breaklines", "contours"])
@pytest.mark.parametrize("height_unit", ["", "ft"])
def test_heights_from_an_attribute_are_in_the_files_unit_and_raised_like_all_others(tmp_path, frame, role, height_unit):
    level = 50.0 + np.arange(SIDE * SIDE) // (1 if role == "points" else SIDE)
    filed = as_filed(np.column_stack((XY, level)), *frame, height_unit)
    shape = "Point" if role == "points" else "LineString"
    rows = filed if role == "points" else filed.reshape(SIDE, SIDE, 3)
    features = [
        {
            "type": "Feature",
            "properties": {"elev": float(np.ravel(row)[2])},
            "geometry": {"type": shape, "coordinates": row[..., :2].tolist()},
        }
        for row in rows
    ]
    (tmp_path / "a.geojson").write_text(json.dumps({"type": "FeatureCollection", "features": features}))
    own = f'height_units = "{height_unit}"\n' if height_unit else ""
    keys = f'{own}heights = {{ attribute = "elev" }}\nraise_by = 0.25'
    surface = built(tmp_path, role, "a.geojson", frame, keys).surface
    order = np.lexsort(surface.vertices[:, :2].round(3).T)
    expected = level[np.lexsort(XY.round(3).T)] + 0.25
    assert np.abs(surface.vertices[order, 2] - expected).max() < 1e-6


# What is set by a number of the site stays that, whatever the file's unit.
SET = {
    "set_height = [{ number = '8', to = 61.5 }]": ("points", 7),
    f"set_height = [{{ at = [{XY[9, 0]}, {XY[9, 1]}], to = 61.5 }}]": ("points", 9),
}


@pytest.mark.parametrize("frame", FRAMES, ids=str)
@pytest.mark.parametrize("keys", SET, ids=lambda text: text[16:22])
def test_a_height_that_is_set_is_the_sites(tmp_path, frame, keys):
    role, row = SET[keys]
    name = written(tmp_path, role, as_filed(GROUND, *frame))
    surface = built(tmp_path, role, name, frame, f"raise_by = 2.0\n{keys}").surface
    expected = plane(surface.vertices[:, :2]) + 2.0
    changed = np.flatnonzero(np.abs(surface.vertices[:, 2] - expected) > 1e-6)
    (only,) = changed
    assert np.abs(surface.vertices[only] - (*XY[row], 61.5)).max() < 1e-6


def test_a_cell_of_a_grid_is_known_by_its_number_from_the_south_west(tmp_path):
    (tmp_path / "g.asc").write_text("ncols 3\nnrows 2\nxllcorner 0\nyllcorner 0\ncellsize 1\n4 5 6\n1 2 3\n")
    (tmp_path / "site.toml").write_text('[[source]]\nfile = "g.asc"\nrole = "grid"\n')
    surface = Recipe.read(tmp_path / "site.toml").build().surface
    known = [surface.provenance.describe(v) for v in range(6)]
    assert known == [f"g.asc cell {z:.0f}" for z in surface.vertices[:, 2]]


@pytest.mark.parametrize("role", ["breaklines", "contours"])
def test_a_line_laid_on_the_surface_gives_up_heights_of_its_own(tmp_path, role):
    frame = ("m", "m", False)
    points = written(tmp_path, "points", as_filed(GROUND, *frame))
    (tmp_path / "high.csv").write_text(f"line,x,y,z\nh,{EAST + 3},{NORTH + 9},99\nh,{EAST + 14},{NORTH + 9.5},99\n")
    more = f'[[source]]\nfile = "high.csv"\nrole = "{role}"\nheights = "surface"\n'
    surface = built(tmp_path, "points", points, frame, more=more).surface
    assert len(surface.lines) == 1 and np.abs(surface.vertices[:, 2] - plane(surface.vertices[:, :2])).max() < 1e-6


def test_a_surface_whose_coordinates_are_exchanged_keeps_its_lines_on_its_edges():
    bank = [XY[[7, 14, 21, 28]], GROUND[[4, 10]]]
    given = evrin.triangulate(
        GROUND[:, [1, 0, 2]], breaklines=[line[:, [1, 0, *range(2, line.shape[1])]] for line in bank]
    )
    turned = Transformation(exchanged=True).surface(given, Frame("m"))
    drawn = set()
    for row, side in np.argwhere(turned.edge_lines >= 0).tolist():
        ends = turned.vertices[turned.triangles[row, [side, (side + 1) % 3]], :2].tolist()
        drawn.add((*sorted(map(tuple, ends)), int(turned.edge_lines[row, side])))
    expected = {
        (*sorted(map(tuple, line[k : k + 2, :2].tolist())), number)
        for number, line in enumerate(bank)
        for k in range(len(line) - 1)
    }
    assert drawn == expected and (turned.triangle_areas > 0.0).all()


LANDXML = """<?xml version="1.0"?>
<LandXML xmlns="http://www.landxml.org/schema/LandXML-1.2" version="1.2" date="2026-03-01"
 time="08:00:00"><Units>{units}</Units><Surfaces><Surface name="s"><Definition surfType="TIN"><Pnts>
<P id="1">0 0 10</P><P id="2">0 10 10</P><P id="3">10 0 20</P></Pnts><Faces><F>1 2 3</F></Faces></Definition>
</Surface></Surfaces></LandXML>"""
METRIC = '<Metric linearUnit="meter" elevationUnit="feet" areaUnit="squareMeter" volumeUnit="cubicMeter"/>'


@pytest.mark.parametrize(
    ("claim", "plan", "heights"),
    [
        (Claim(), 1.0, 0.3048),
        (Claim(units="ft"), 0.3048, 0.3048),
        (Claim(units="cm"), 0.01, 0.01),
        (Claim(height_units="m"), 1.0, 1.0),
        (Claim(units="ft", height_units="m"), 0.3048, 1.0),
    ],
    ids=str,
)
def test_what_is_stated_of_a_file_beats_what_it_states_itself(tmp_path, claim, plan, heights):
    (tmp_path / "s.xml").write_text(LANDXML.format(units=METRIC))
    (surface,) = take_in(tmp_path / "s.xml", Frame("m"), claim).contents.surfaces
    extent = np.ptp(surface.vertices, axis=0)
    assert extent == pytest.approx([10.0 * plan, 10.0 * plan, 10.0 * heights])
    assert surface.vertices[:, 2].max() == pytest.approx(20.0 * heights)
