"""Files of every format with something odd in them: by structure where there is one, and by bytes."""

from __future__ import annotations

import json
import re
import tempfile
import tomllib
from collections.abc import Callable
from functools import cache
from pathlib import Path
from typing import Any

import tomlkit
from lxml import etree
from numpy.random import Generator, default_rng

import evrin
from evrin.base.errors import EvrinError
from evrin.formats import look
from evrin.formats.door.intake import take_in
from evrin.recipe import append_entry, read_record
from evrin.recipe.handover.volume_record import series_of
from evrin.survey.file_inventory import inventory, record
from sites import BASE, lay_out

# As they are written in the file: what JSON cannot hold is put in afterwards.
ODD = (
    *(
        '""',
        '"x"',
        '" "',
        '"1"',
        '"nan"',
        '"-inf"',
        '"EPSG:99999999"',
        '"' + "a" * 9000 + '"',
        '"\\u0000"',
        '"é\\u2028"',
    ),
    *("0", "-1", "1", "3", "7.5", "1e308", "-1e-320", "1e999", "9" * 400, "9" * 6000, "-0.0", "2147483648", "1e18"),
    *("true", "null", "[]", "{}", "[[]]", "[null]", '[1, "x"]', '{"a": 1}', '{"type": "Point"}', "[1e300, 2, 3]"),
    *(
        "[" * 2000 + "]" * 2000,
        "[[0, 0, 1], [4, 0, 1]]",
        '{"name": {"name": []}}',
        '"2026-13-45"',
        '"../../x"',
        '"a.csv"',
    ),
)
WORDS = (
    *("", "x", "nan", "inf", "-inf", "1e308", "1e999", "-1", "0", "1", "7.5", "9" * 400, "9" * 6000, "-x", "-1.5", "é"),
    *("1/2/3", "-1//-1", "a" * 9000, "\x00", "\u2028", '"', "'", "<", "&", "true", "1 2 3", "1,2,3", "0x1f", "1e-320"),
    *("EPSG:99999999", "EOF", "SECTION", "ENDSEC", "LWPOLYLINE", "end_header"),
    *("2147483648", "-2147483649", "18446744073709551616"),
)  # fmt: skip
_CODES = (0, 1, 2, 5, 8, 10, 20, 30, 38, 42, 62, 66, 70, 71, 90, 100, 330, 1000, -1, 9999)
_HELD = re.compile(r'"@(\d+)@"')
_RAW = "@{}@"


@cache
def samples() -> dict[str, bytes]:
    """A sound file of each format, by name."""
    ground = evrin.triangulate(
        [[0, 0, 1], [8, 0, 1.5], [8, 8, 2], [0, 8, 1], [4, 3, 2]], [[[0, 0, 1], [4, 3, 2], [8, 8, 2]]], name="ground"
    )
    out: dict[str, bytes] = {}
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        suffixes = ("xml", "dxf", "ply", "obj", "stl", "geojson", "gpkg", "shp", "csv", "xyz", "pts")
        for suffix in suffixes:
            evrin.write(folder / f"a.{suffix}", ground)
        for suffix in ("asc", "tif"):
            evrin.write(folder / f"a.{suffix}", ground, cell=1.0)
        evrin.write(folder / "c.geojson", ground.contours(interval=0.25))
        evrin.write(folder / "c.dxf", ground.contours(interval=0.25))
        _write_clouds(folder)
        append_entry(folder / "r.jsonl", "heap", {"level": 0.0}, {}, "m", [{"area": "all", "net": 4.0}], "2026-05-12")
        lay_out(
            folder,
            base=RECIPE,
            limit__csv="line,x,y\nR,3999,2799\nR,4025,2799\nR,4025,2825\nR,3999,2825\nR,3999,2799\n",
        )
        (folder / "shots.csv").write_text("number,easting,northing,height,code\n1,0,0,1,A\n2,9,0,1,B\n3,9,9,2,A\n")
        for path in sorted(folder.iterdir()):
            out[path.name] = path.read_bytes() if path.is_file() else b""
    return out


RECIPE = (
    BASE
    + """
[trim]
longest_edge = 40.0
[[boundary]]
file = "limit.csv"
[[weed]]
spacing = 0.5
[[edit]]
do = "raise"
at = [4.0, 4.0]
by = 0.1
why = "seen"
[check]
height_tolerance = 0.03
"""
)


def _write_clouds(folder: Path) -> None:
    import laspy
    import numpy as np

    header = laspy.LasHeader(point_format=6, version="1.4")
    header.scales = np.full(3, 0.001)
    cloud = laspy.LasData(header)
    cloud.x, cloud.y, cloud.z = np.array([[0, 0, 1], [5, 0, 1], [5, 5, 2], [0, 5, 2.0]]).T
    for name in ("a.las", "a.laz"):
        cloud.write(folder / name)


def _some_nodes(value: Any, path: tuple[Any, ...] = ()) -> list[tuple[Any, ...]]:
    inner = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
    return [path, *(each for key, item in inner for each in _some_nodes(item, (*path, key)))]


def _exchanged(document: Any, rng: Generator) -> Any:
    """A document with one to three of its values exchanged for odd ones, left out, or there twice."""
    for _ in range(int(rng.integers(1, 4))):
        nodes = [path for path in _some_nodes(document) if path]
        if not nodes:
            return document
        path = nodes[int(rng.integers(len(nodes)))]
        parent = document
        for key in path[:-1]:
            parent = parent[key]
        what = rng.random()
        if what < 0.75:
            parent[path[-1]] = _RAW.format(int(rng.integers(len(ODD))))
        elif what < 0.9 or isinstance(parent, dict):
            del parent[path[-1]]
        else:
            parent.append(parent[path[-1]])
    return document


def _with_odd(text: str) -> str:
    return _HELD.sub(lambda found: ODD[int(found[1])], text)


def odd_json(content: bytes, rng: Generator) -> bytes:
    """JSON with values exchanged."""
    return _with_odd(json.dumps(_exchanged(json.loads(content), rng))).encode("utf-8", "surrogatepass")


def odd_toml(content: bytes, rng: Generator) -> bytes:
    """TOML with values exchanged."""
    return _with_odd(tomlkit.dumps(_exchanged(tomllib.loads(content.decode()), rng))).encode()


def odd_xml(content: bytes, rng: Generator) -> bytes:
    """XML with texts, attributes and names exchanged, elements left out, doubled or moved."""
    root = etree.fromstring(content)
    for _ in range(int(rng.integers(1, 4))):
        elements = [each for each in root.iter() if isinstance(each.tag, str)]
        one = elements[int(rng.integers(len(elements)))]
        word = _without_controls(WORDS[int(rng.integers(len(WORDS)))])
        what = int(rng.integers(7))
        if what == 0 or not one.attrib:
            one.text = word
        elif what == 1:
            one.set(sorted(one.attrib)[int(rng.integers(len(one.attrib)))], word)
        elif what == 2:
            del one.attrib[sorted(one.attrib)[int(rng.integers(len(one.attrib)))]]
        elif what == 3 and one is not root:
            one.getparent().remove(one)
        elif what == 4:
            one.append(etree.fromstring(etree.tostring(one)))
        elif what == 5:
            one.tag = elements[int(rng.integers(len(elements)))].tag
        else:
            one.text = (one.text or "") + " " + word
    written = etree.tostring(root)
    # A prefix that is not declared cannot be made by the package.
    return written.replace(b"<P ", b"<y:P ", 1) if rng.random() < 0.05 else written


def _without_controls(word: str) -> str:
    return "".join(sign for sign in word if sign >= " ")


def odd_groups(content: bytes, rng: Generator) -> bytes:
    """A drawing with values and codes of groups exchanged, groups left out or doubled."""
    rows = content.decode("utf-8", "replace").split("\n")
    for _ in range(int(rng.integers(1, 6))):
        at = 2 * int(rng.integers(len(rows) // 2))
        what = rng.random()
        if what < 0.6:
            rows[at + 1] = WORDS[int(rng.integers(len(WORDS)))]
        elif what < 0.8:
            rows[at] = str(
                rng.choice([0, 1, 2, 5, 8, 10, 20, 30, 38, 42, 62, 66, 70, 71, 90, 100, 330, 1000, -1, 9999])
            )
        elif what < 0.9:
            del rows[at : at + 2]
        else:
            rows[at:at] = rows[at : at + 2]
    return "\n".join(rows).encode("utf-8", "surrogatepass")


def odd_words(content: bytes, rng: Generator) -> bytes:
    """A text with words exchanged, rows left out, doubled or in another place."""
    rows = content.decode("utf-8", "replace").split("\n")
    for _ in range(int(rng.integers(1, 5))):
        at, other = (int(k) for k in rng.integers(len(rows), size=2))
        words = re.split(r"([,; \t]+)", rows[at])
        words[2 * int(rng.integers((len(words) + 1) // 2))] = WORDS[int(rng.integers(len(WORDS)))]
        match int(rng.integers(6)):
            case 0:
                del rows[at]
            case 1:
                rows.insert(other, rows[at])
            case _:
                rows[at] = "".join(words)
        rows = rows or [""]
    return "\n".join(rows).encode("utf-8", "surrogatepass")


def odd_bytes(content: bytes, rng: Generator) -> bytes:
    """A file with bytes changed, cut, put in or doubled."""
    out = bytearray(content)
    for _ in range(int(rng.integers(1, 6))):
        at = int(rng.integers(max(len(out), 1)))
        size = int(rng.integers(1, 20))
        match int(rng.integers(6)):
            case 0:
                del out[at : at + size]
            case 1:
                out[at:at] = bytes(rng.integers(0, 256, size, "uint8"))
            case 2:
                out[at : at + size] = bytes(len(out[at : at + size]))
            case 3 if rng.random() < 0.3:
                del out[at:]
            case _:
                out[at : at + 1] = bytes(rng.integers(0, 256, 1, "uint8"))
    return bytes(out)


_WAYS: dict[str, Callable[[bytes, Generator], bytes]] = {
    ".geojson": odd_json, ".jsonl": odd_json, ".toml": odd_toml, ".xml": odd_xml, ".dxf": odd_groups,
    **dict.fromkeys((".obj", ".ply", ".stl", ".csv", ".xyz", ".pts", ".asc"), odd_words),
}  # fmt: skip
STRUCTURE = tuple(
    f"a.{suffix}" for suffix in ("asc", "csv", "dxf", "geojson", "obj", "ply", "pts", "stl", "xml", "xyz")
)
STRUCTURE += ("c.dxf", "c.geojson", "r.jsonl", "shots.csv", "site.toml")
BYTES = (*STRUCTURE, "a.gpkg", "a.las", "a.laz", "a.shp", "a.tif")
KINDS = (*(f"{name} by structure" for name in STRUCTURE), *(f"{name} by bytes" for name in BYTES))


def judge(kind: str, seed: int) -> list[str]:
    """Return what comes of an odd file other than what it holds or an error of Evrin's own."""
    name, _, way = kind.partition(" by ")
    rng = default_rng([KINDS.index(kind), seed])
    suffix = Path(name).suffix
    change = odd_bytes if way == "bytes" else _WAYS[suffix]
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        for other, content in samples().items():
            if Path(other).stem == Path(name).stem or suffix == ".toml":
                (folder / other).write_bytes(content)
        (folder / name).write_bytes(change(samples()[name], rng))
        try:
            _read(folder / name)
        except EvrinError as error:
            return [] if str(error).strip() else ["an error without words"]
        except Exception as error:
            import traceback

            last = traceback.extract_tb(error.__traceback__)[-1]
            return [f"{type(error).__name__} in {Path(last.filename).name} {last.lineno}: {error}"[:200]]
    return []


def _read(path: Path) -> None:
    if path.suffix == ".toml":
        evrin.Recipe.read(path).build(keep=False)
    elif path.suffix == ".jsonl":
        entries, _ = read_record(path)
        series_of(entries)
    else:
        record(inventory(look(path)))
        take_in(path, evrin.Frame())
