"""Whatever is done to a file: what comes back is whole, or a clear error within bounded time and memory."""

import os
import resource
import signal
from pathlib import Path

import ezdxf
import laspy
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import evrin
from evrin.base.errors import EvrinError
from evrin.formats import How, read
from test_every_format_comes_back import sample

# A reader's own log may stumble over bytes that are no text.
pytestmark = pytest.mark.filterwarnings("ignore::pytest.PytestUnraisableExceptionWarning")
SECONDS, MEGABYTES = 20, 900


@pytest.fixture(scope="module", autouse=True)
def bounded():
    """Hold this module to some gigabytes beyond what it begins with, and stop whatever takes too long."""
    pages = int(Path("/proc/self/statm").read_text().split()[0])
    before = resource.getrlimit(resource.RLIMIT_AS)
    resource.setrlimit(resource.RLIMIT_AS, (pages * resource.getpagesize() + 3_000_000_000, before[1]))
    signal.signal(signal.SIGALRM, _too_long)
    yield
    resource.setrlimit(resource.RLIMIT_AS, before)
    signal.signal(signal.SIGALRM, signal.SIG_DFL)


def _too_long(number, frame):
    raise SystemExit(f"a broken file took more than {SECONDS} seconds")


@pytest.fixture(scope="module")
def whole(tmp_path_factory):
    """One sound file of each format, by extension."""
    folder = tmp_path_factory.mktemp("whole")
    surface = sample()
    for suffix in (".xml", ".dxf", ".ply", ".obj", ".stl", ".gpkg", ".shp", ".geojson", ".csv"):
        evrin.write(folder / f"g{suffix}", surface)
    for suffix in (".tif", ".asc"):
        evrin.write(folder / f"g{suffix}", surface, cell=2.0)
    header = laspy.LasHeader(point_format=6, version="1.4")
    cloud = laspy.LasData(header)
    cloud.x, cloud.y, cloud.z = surface.vertices.T - surface.vertices.min(axis=0)[:, None]
    for suffix in (".las", ".laz"):
        cloud.write(folder / f"g{suffix}")
    rich = ezdxf.new("R2010")
    space = rich.modelspace()
    rich.blocks.new("SPOT").add_attdef("H", (0, 0))
    space.add_blockref("SPOT", (1, 2, 3)).add_auto_attribs({"H": "41"})
    space.add_lwpolyline([(0, 0, 0, 0, 0.5), (5, 5)])
    space.add_spline([(0, 0, 1), (5, 5, 2), (10, 0, 3)])
    space.add_mtext("43.1")
    rich.saveas(folder / "rich.dxf")
    rich.saveas(folder / "binary.dxf", fmt="bin")
    return {path.name: path.read_bytes() for path in sorted(folder.iterdir())}


NAMES = ["g.xml", "g.dxf", "rich.dxf", "binary.dxf", "g.ply", "g.obj", "g.stl", "g.gpkg", "g.shp", "g.geojson", "g.csv"]
NAMES += ["g.tif", "g.asc", "g.las", "g.laz"]


def opened(path):
    """Read a file; only a clear error that names it may come instead."""
    signal.alarm(SECONDS)
    try:
        contents = read(path, How(guess=True))
        assert len(contents.points.xyz) == len(contents.points.shots)
        assert not contents.is_empty or contents.refused
        assert np.isfinite(contents.points.xyz[:, :2]).all()
        for surface in contents.surfaces:
            assert surface.triangles.max() < len(surface.vertices) and np.isfinite(surface.vertices).all()
    except EvrinError as error:
        assert path.name in str(error) and len(str(error)) < 2000
    finally:
        signal.alarm(0)


@pytest.mark.parametrize("name", NAMES)
@settings(max_examples=int(os.environ.get("EVRIN_EXAMPLES", "25")))
@given(data=st.data())
def test_mutated_files_are_read_whole_or_refused_clearly(tmp_path_factory, whole, name, data):
    content = bytearray(whole[name])
    for _ in range(data.draw(st.integers(1, 5), label="changes")):
        at = data.draw(st.integers(0, len(content)), label="at")
        kind = data.draw(st.sampled_from(["bytes", "cut", "repeat", "digit", "zero"]), label="kind")
        if kind == "bytes":
            content[at : at + data.draw(st.integers(0, 30))] = data.draw(st.binary(max_size=8))
        elif kind == "cut":
            del content[at : at + data.draw(st.integers(1, 400))]
        elif kind == "repeat":
            content[at:at] = content[at : at + 60] * 3
        elif kind == "digit":
            content[at : at + 1] = data.draw(st.sampled_from([b"9e400", b"-", b"nan", b"\xff", b"99999999999"]))
        else:
            content[at : at + 8] = bytes(min(8, len(content) - at))
    path = tmp_path_factory.mktemp("mutated") / name
    path.write_bytes(bytes(content))
    opened(path)


@pytest.mark.parametrize("name", NAMES)
def test_truncated_files_are_refused(tmp_path, whole, name):
    """Half a file never passes for a whole one, unless its rows are complete."""
    text = whole[name]
    path = tmp_path / name
    for part in (0.0, 0.3, 0.6, 0.97):
        path.write_bytes(text[: int(len(text) * part)])
        opened(path)
        if name in ("g.csv", "g.obj", "g.shp"):
            continue
        with pytest.raises(EvrinError):
            read(path)
            # A compressed raster may still give every cell where only its closing bytes are removed.
            if part == 0.97 and name in ("g.tif", "g.gpkg"):
                raise EvrinError("nothing of the content was lost")


@pytest.mark.parametrize("name", NAMES)
def test_the_wrong_extension_does_not_matter_where_the_content_shows_what_it_is(tmp_path, whole, name):
    path = tmp_path / "strange.qqq"
    path.write_bytes(whole[name])
    if name in ("g.csv",):
        with pytest.raises(EvrinError, match="unrecognised format"):
            read(path)
    elif name != "g.shp":
        assert not read(path).is_empty
    path = tmp_path / "wrong.laz"
    path.write_bytes(b"x,y,z\n1,2,3\n")
    with pytest.raises(EvrinError, match="content does not match the extension, that of LAS or LAZ"):
        read(path)


BOMBS = {
    "lol.xml": b"<?xml version='1.0'?><!DOCTYPE l [<!ENTITY a 'aaaaaaaaaa'>"
    + b"".join(b"<!ENTITY %c '%s'>" % (98 + k, b"&%c;" % (97 + k) * 10) for k in range(9))
    + b"]><LandXML><CgPoints><CgPoint name='1'>&j;</CgPoint></CgPoints></LandXML>",
    "deep.xml": b"<LandXML>" + b"<a>" * 200_000,
    "deep.geojson": b'{"type":' * 100_000,
    "brackets.geojson": b'{"type": "LineString", "coordinates": ' + b"[" * 200_000,
    "entity.xml": b"<!DOCTYPE l [<!ENTITY x SYSTEM 'file:///etc/passwd'>]><LandXML><P>&x;</P></LandXML>",
    "huge.ply": b"ply\nformat binary_little_endian 1.0\nelement vertex 4000000000\nproperty double x\nend_header\n\0\0",
    "huge.asc": b"ncols 900000\nnrows 900000\nxllcorner 0\nyllcorner 0\ncellsize 1\n1 2 3\n",
    "packed.csv": b"PK\x03\x04" + b"\0" * 100,
    "nothing.dxf": b"  0\nSECTION\n  2\nENTITIES\n  0\nENDSEC\n  0\nEOF\n",
    "numbers.csv": b"1,1e999,2,3\n2,1e300,-1e300,5\n3,nan,inf,4\n4," + b"9" * 5000 + b",1,2\n",
    "not-utf8.csv": b"\xff\xfe\x00\xd8\x00",
    "latin.csv": b"1,2,3,4,h\xf6he\n\xe9,\xe8\n",
    "blank.obj": b"   \n\n",
}


@pytest.mark.parametrize("name", BOMBS)
def test_bombs_are_refused_in_bounded_time_and_memory(tmp_path, name):
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    path = tmp_path / name
    path.write_bytes(BOMBS[name])
    opened(path)
    assert resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before < MEGABYTES * 1024


def test_a_raster_that_unpacks_to_far_more_than_its_size_is_refused(tmp_path):
    import rasterio

    path = tmp_path / "bomb.tif"
    shape = rasterio.transform.Affine(1.0, 0.0, 4000.0, 0.0, -1.0, 2900.0)
    options = {"count": 1, "dtype": "uint8", "transform": shape, "compress": "deflate", "sparse_ok": True}
    with rasterio.open(path, "w", driver="GTiff", width=60_000, height=60_000, tiled=True, **options):
        pass
    assert path.stat().st_size < 3_000_000
    with pytest.raises(EvrinError, match="60,000 by 60,000 cells are too many"):
        read(path)


def test_a_cloud_whose_header_claims_more_points_than_there_are_is_refused(tmp_path, whole):
    content = bytearray(whole["g.las"])
    content[247:255] = (4_000_000_000).to_bytes(8, "little")
    (tmp_path / "c.las").write_bytes(bytes(content))
    with pytest.raises(EvrinError, match=r"c\.las"):
        read(tmp_path / "c.las")


def test_thousands_of_bad_rows_are_counted_and_a_few_shown(tmp_path):
    from evrin.recipe import Recipe
    from evrin.survey.file_inventory import inventory

    rows = [f"{k},2800,{4000 + k % 50},{41 if k % 3 else 'none'},X" for k in range(1, 9001)]
    rows = [row.replace(",2800,", f",{2800 + k % 97},") for k, row in enumerate(rows)]
    (tmp_path / "p.csv").write_text("\n".join(rows))
    (output,) = (text for text in inventory(read(tmp_path / "p.csv", How("PNEZD"))).looks_wrong if "cannot" in text)
    assert output.startswith("3,000 items cannot be used") and output.endswith("and 2,996 more") and len(output) < 400
    (tmp_path / "site.toml").write_text('[[source]]\nfile = "p.csv"\nrole = "points"\ncolumns = "PNEZD"\n')
    (finding,) = (f for f in Recipe.read(tmp_path / "site.toml").build().findings if f.code == "refused-rows")
    assert "3,000 items" in finding.message and "2,997 more" in finding.message
