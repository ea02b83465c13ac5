"""Sixty folders as colleagues send them, made by this script: each with what its draft has to come to.

The ground is one and the same, `truth`, at the made-up site; files differ in format, unit, system, order and faults.
"""

import warnings

import ezdxf
import laspy
import numpy as np
import pyogrio
import rasterio
import shapely

import evrin
from evrin.formats.door.reference_systems import transformed_places

RNG = np.random.default_rng(11)
EAST, NORTH = 604_000.0, 5_702_800.0


def truth(x, y):
    return 41.0 + 0.03 * x + 0.6 * np.sin(x / 20.0) + 0.02 * y


def spread(count, seed=1, width=100.0, depth=80.0):
    rng = np.random.default_rng(seed)
    edge = [(0, 0), (width, 0), (width, depth), (0, depth)]
    xy = np.vstack((edge, rng.uniform((0, 0), (width, depth), (count, 2)))).round(3)
    return np.column_stack((xy, truth(*xy.T).round(3)))


LOCAL, GRID = np.array([4000.0, 2800.0, 0.0]), np.array([EAST, NORTH, 0.0])
SHOTS = spread(160) + LOCAL
ROWS = [(k, y, x, z, "GRASS") for k, (x, y, z) in enumerate(SHOTS.tolist(), 1)]
RING = np.array([(-1, -1), (101, -1), (101, 81), (-1, 81), (-1, -1)]) + LOCAL[:2]
LINE = np.array([(10.0, 40), (35, 42), (60, 41), (90, 44)])
LINE = np.column_stack((LINE, truth(*LINE.T))) + LOCAL


def text(head="", row="{0},{1:.3f},{2:.3f},{3:.3f},{4}\n", rows=ROWS, name="day.csv", encoding="utf-8", change=str):
    return lambda folder: (folder / name).write_bytes(
        change(head + "".join(row.format(*each) for each in rows)).encode(encoding)
    )


def comma(text):
    return text.replace(".", ",")


def drawing(fill, units=6, name="site.dxf"):
    def made(folder):
        document = ezdxf.new("R2010")
        document.units = units
        fill(document, document.modelspace())
        document.saveas(folder / name)

    return made


def blocks_with(height, tag="H"):
    def fill(document, space):
        document.blocks.new("SPOT").add_circle((0, 0), 0.3)
        for x, y, z in SHOTS.tolist():
            insert = space.add_blockref("SPOT", (x, y, z if height == "own" else 0.0))
            if height == "attribute":
                insert.add_attrib(tag, f"{z:.2f}", (x, y))
            if height == "text":
                space.add_text(f"{z:.2f}").set_placement((x + 0.4, y + 0.4))

    return fill


def nested(document, space):
    inner = document.blocks.new("PART")
    for place in (SHOTS - LOCAL).tolist():
        inner.add_point(place)
    document.blocks.new("WHOLE").add_blockref("PART", (0, 0, 0))
    space.add_blockref("WHOLE", (4000, 2800, 0))


def contours(levelled):
    lines = []
    field = evrin.triangulate(SHOTS)
    for line in field.contours(0.5):
        z = np.full(len(line.points), line.level if levelled else 0.0)
        lines.append(np.column_stack((line.points, z)))
    return lines


def surface(name="ground", units="m", crs="local", places=SHOTS, lines=()):
    made = evrin.triangulate(places, name=name)
    return made.renamed(units=units, crs=crs).with_lines(tuple(lines))


def handed(path, made):
    """Written by somebody else, as far as this machine knows."""
    evrin.write(path, made)
    path.write_bytes(path.read_bytes())


def written(file, **named):
    return lambda folder: handed(folder / file, surface(**named))


def grid(height_factor=1.0, **how):
    def made(folder):
        x, y = np.meshgrid(np.arange(0.5, 100), np.arange(79.5, 0, -1.0))
        z = truth(x, y) * height_factor
        shape = rasterio.transform.Affine(1, 0, EAST, 0, -1, NORTH + 80)
        given = {"crs": "EPSG:25832", "dtype": "float64", **{k: how[k] for k in ("crs", "dtype", "nodata") if k in how}}
        with rasterio.open(folder / "dem.tif", "w", "GTiff", 100, 80, 1, transform=shape, **given) as out:
            if "scale" in how:
                z, out.scales, out.offsets = (z - 40) / how["scale"], (how["scale"],), (40.0,)
            if "unit" in how:
                out.units = (how["unit"],)
            out.write(z.astype(given["dtype"]), 1)

    return made


def cloud(classes, count=12_000, width=100.0, depth=80.0, objects=True):
    def made(folder):
        rng = np.random.default_rng(4)
        x, y = rng.uniform(0, width, count), rng.uniform(0, depth, count)
        roof = objects & (np.abs(x - 50) < 9) & (np.abs(y - 40) < 9)
        header = laspy.LasHeader(point_format=1, version="1.2")
        header.offsets, header.scales = [4000, 2800, 0], [0.001] * 3
        las = laspy.LasData(header)
        las.x, las.y, las.z = x + 4000, y + 2800, truth(x, y) + 6.0 * roof
        las.classification = np.where(roof, 6, 2).astype(np.uint8) * classes
        las.write(folder / "flight.las")

    return made


def vectors(file, shapes, fields=None, crs=None):
    def made(folder):
        given = {key: np.array(values, object) for key, values in (fields or {"name": ["a"] * len(shapes)}).items()}
        kind = shapes[0].geom_type + (" Z" if shapes[0].has_z else "")
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            pyogrio.raw.write(
                folder / file,
                shapely.to_wkb(np.array(shapes)),
                [*given.values()],
                [*given],
                geometry_type=kind,
                crs=crs,
            )

    return made


def several(*parts):
    return lambda folder: [part(folder) for part in parts] and None


def changed(rows, every, height):
    return [(n, y, x, height if n % every == 0 else z, code) for n, y, x, z, code in rows]


HEAD = "Point,Northing,Easting,Height,Code\n"
DAY = text(HEAD)
FEET = [(n, y / 0.3048, x / 0.3048, z / 0.3048, code) for n, y, x, z, code in ROWS]
HALVES = np.vstack((SHOTS[SHOTS[:, 0] < 4020], SHOTS[SHOTS[:, 0] > 4080]))
DEGREES = transformed_places(SHOTS - LOCAL + GRID, "EPSG:25832", "EPSG:4326")
OBJ = "".join(f"v {x!r} {z!r} {-y!r}\n" for x, y, z in surface().vertices.tolist()) + "".join(
    f"f {a} {b} {c}\n" for a, b, c in (surface().triangles + 1).tolist()
)
UTM = [(n, y - 2800 + NORTH, x - 4000 + EAST, z, code) for n, y, x, z, code in ROWS]
POLYGON = shapely.Polygon(RING)

# By name: what writes the files; "asks" where a person has to decide, and the surface may be open or not there.
FOLDERS = {
    "plain": DAY,
    "no header": text(),
    "units in the header": text("Pt,Northing (m),Easting (m),Elev (m),Code\n"),
    "feet in the header": text("pt,northing_ft,easting_ft,elev_ft,code\n", rows=FEET),
    "german": text("Nr;Hochwert;Rechtswert;Höhe;Bemerkung\n", "{0};{1:.3f};{2:.3f};{3:.3f};{4}\n", change=comma),
    "gauss": text("PNR;R;H;Z\n", "{0};{2:.3f};{1:.3f};{3:.3f}\n"),
    "french": text("N°\tEst\tNord\tAltitude\n", "{0}\t{2:.3f}\t{1:.3f}\t{3:.3f}\n", encoding="cp1252"),
    "spanish": text("Punto|Norte|Este|Cota\n", "{0}|{1:.3f}|{2:.3f}|{3:.3f}\n"),
    "job block": text("Job: weir\nScale,1.0\nCrew: A, B\n\n" + HEAD),
    "comments": text("// a\n; b\n* c\n# d\n" + HEAD),
    "utf-16": text(HEAD, encoding="utf-16"),
    "thousands": text(HEAD, '{0},"{1:,.3f}","{2:,.3f}",{3:.3f},{4}\n'),
    "quoted commas": text(HEAD, '{0},"{1:.3f}","{2:.3f}","{3:.3f}",{4}\n', change=comma),
    "units behind": text(HEAD, "{0},{1:.3f} m,{2:.3f} m,RL {3:.3f},{4}\n"),
    "pages": text(
        "", rows=ROWS, change=lambda t: HEAD + t.replace("\n50,", f"\n{HEAD}50,").replace("\n9,", f"\n{HEAD}9,")
    ),
    "utm without header": text(rows=UTM, row="{0},{2:.3f},{1:.3f},{3:.3f},{4}\n"),
    "a few zeros": text(HEAD, rows=changed(ROWS, 20, 0.0)),
    "half zeros": text(HEAD, rows=changed(ROWS, 2, 0.0)),
    "a third no data": text(HEAD, rows=changed(ROWS, 3, -9999.0)),
    "a placeholder": text(HEAD, rows=changed(ROWS, 4, 100.0)),
    "all zero": text(HEAD, rows=changed(ROWS, 1, 0.0)),
    "exchanged beside": several(DAY, text(row="{1:.3f},{2:.3f},{3:.3f}\n", rows=ROWS[::3], name="more.xyz")),
    "feet beside metres": several(DAY, text(HEAD, rows=FEET[::3], name="more.csv")),
    "check points": several(DAY, text(HEAD, rows=ROWS[::16], name="check.csv")),
    "drawing of points": drawing(lambda d, s: [s.add_point(p) for p in SHOTS.tolist()]),
    "blocks": drawing(blocks_with("own")),
    "blocks with attributes": drawing(blocks_with("attribute")),
    "blocks beside texts": drawing(blocks_with("text")),
    "texts alone": drawing(lambda d, s: [s.add_text(f"{z:.3f}").set_placement((x, y)) for x, y, z in SHOTS.tolist()]),
    "points in blocks": drawing(nested),
    "drawing in millimetres": drawing(lambda d, s: [s.add_point(p) for p in (SHOTS * 1000).tolist()], 4),
    "inches by mistake": drawing(lambda d, s: [s.add_point(p) for p in SHOTS.tolist()], 1),
    "drawing and shots": several(DAY, drawing(lambda d, s: s.add_polyline3d(LINE.tolist()), 4)),
    "contours": drawing(lambda d, s: [s.add_polyline3d(c.tolist()) for c in contours(True)]),
    "contours without levels": drawing(
        lambda d, s: [s.add_lwpolyline(c[:, :2].tolist(), dxfattribs={"layer": "CONTOUR"}) for c in contours(False)]
    ),
    "faces": written("ground.dxf"),
    "loose edges": drawing(lambda d, s: [s.add_line(*surface().vertices[e].tolist()) for e in surface().edges]),
    "landxml": written("ground.xml"),
    "landxml in feet": lambda folder: handed(folder / "g.xml", surface().transform(evrin.Frame("ft"))),
    "landxml and a breakline": several(
        written("ground.xml"),
        lambda folder: (folder / "top.csv").write_text(
            "line,x,y,z\n" + "".join(f"T,{x},{y},{z}\n" for x, y, z in LINE.tolist())
        ),
    ),
    "two surfaces": several(written("a.xml"), written("b.xml", name="other")),
    "ply": written("ground.ply"),
    "stl": written("ground.stl"),
    "obj with y up": lambda folder: (folder / "model.obj").write_text(OBJ),
    "closed obj": lambda folder: (folder / "solid.obj").write_text(closed()),
    "geotiff": grid(),
    "geotiff scaled": grid(dtype="int16", scale=0.001),
    "geotiff heights in feet": grid(1 / 0.3048, unit="foot"),
    "geotiff of a compound system": grid(3937 / 1200, crs="EPSG:25832+6360"),
    "ascii grid": lambda folder: handed(folder / "dem.asc", surface().gridded(2.0)),
    "cloud with classes": cloud(1),
    "cloud without classes": cloud(0),
    "narrow cloud": cloud(0, 4000, 0.8, 80.0, False),
    "cloud and shots": several(cloud(1), DAY),
    "polygon and shots": several(DAY, vectors("area.gpkg", [POLYGON])),
    "building and shots": several(DAY, vectors("building.gpkg", [shapely.box(4030, 2830, 4040, 2840)])),
    "polygon alone": vectors("area.geojson", [POLYGON]),
    "lines with levels": vectors(
        "lines.gpkg",
        [shapely.LineString(c[:, :2]) for c in contours(True)],
        {"elev": [float(c[0, 2]) for c in contours(True)]},
    ),
    "points in degrees": vectors("points.geojson", [shapely.Point(*p) for p in DEGREES.tolist()], crs="EPSG:4326"),
    "voids": text(HEAD, rows=[(k, y, x, z, "G") for k, (x, y, z) in enumerate(HALVES.tolist(), 1)]),
}
ASKS = {"all zero", "contours without levels", "polygon alone"}


def closed():
    """A solid: the ground, a floor below it, and walls between."""
    ground = surface()
    count = len(ground.vertices)
    places = np.vstack((ground.vertices, ground.vertices * (1, 1, 0) + (0, 0, 30)))
    (rim,) = ground.rim()
    following = np.roll(rim, -1)
    walls = np.vstack(
        (np.column_stack((rim, rim + count, following)), np.column_stack((following, rim + count, following + count)))
    )
    faces = np.vstack((ground.triangles, ground.triangles[:, ::-1] + count, walls)) + 1
    return "".join(f"v {x!r} {y!r} {z!r}\n" for x, y, z in places.tolist()) + "".join(
        f"f {a} {b} {c}\n" for a, b, c in faces.tolist()
    )
