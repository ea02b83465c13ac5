"""PLY, OBJ and STL: triangles as given, read through a mesh package and written here to the last digit.

A binary STL holds 32-bit numbers, too few for survey coordinates, so STL is written as text. Notes on name, kind,
colour, units and reference system are in comments, where the format has a place for them.
"""

from __future__ import annotations

import io
import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np

from evrin.base.errors import DataError
from evrin.base.files import in_utf8, read_bytes, read_text, whole_file, whole_text_file
from evrin.base.wording import counted, escaped, one_line, unescaped
from evrin.formats.door.format_registry import Format, How, begins_with, package, register
from evrin.formats.surfaces.obj_parts import parts_of
from evrin.making.shared_vertices import welded
from evrin.surface.frame import Stated
from evrin.surface.provenance import Shots, repeated
from evrin.surface.surface import Surface
from evrin.surface.validity.covering_sheets import covered
from evrin.survey.contents import POINT, Column, Contents, Points, Refusal

_CHUNK = 100_000
_LARGEST = 1e12
_KEYS = ("name", "description", "kind", "colour", "units", "crs")
_STATED = re.compile(rb"^(?:comment|#) (name|description|kind|colour|units|crs): (.*?)\r?$", re.MULTILINE)
_UNITS = ("m", "ft", "ftUS")
# Words that end or begin something in one of the formats, wherever they are.
_SOLID = re.compile(
    rb"^[ \t]*solid\b[ \t]*([^\r\n]*)\r?$(.*?)^[ \t]*endsolid\b[^\r\n]*\r?$", re.MULTILINE | re.DOTALL | re.I
)
_WORDS = ("end_header", "element", "format", "property", "solid", "facet", "vertex", "loop", "outer")


def read(path: Path, how: How) -> Contents:
    """Read faces as a surface, or points where there is no face.

    Raises
    ------
    DataError
        Where there is neither, or the file is broken or cut short.
    """
    data = read_bytes(path)
    kind = _kind(path, in_utf8(data[:4096]), len(data))
    _check_claims(path, kind, data)
    # The package would guess at the encoding of texts; here it has been settled.
    text = "" if kind in ("ply", "stl") else read_text(path)[0]
    head = text[:4096].encode() if text else data[:4096]
    stated = {key.decode(): unescaped(value.decode("utf-8", "replace")) for key, value in _STATED.findall(head)}
    units = stated.get("units", "") if stated.get("units") in _UNITS else ""
    named = {key: stated[key] for key in ("description", "kind", "colour", "crs") if key in stated}
    whole = stated.get("name") or _solid_name(head) or path.stem
    meshes = _Meshes(path, units or "m", named)
    for name, part in _parts(kind, text, data):
        meshes.add(_loaded(path, kind, io.BytesIO(part), data), ("name" in stated and whole) or name or whole)
    cloud = Points.joined(meshes.points) if meshes.points else Points.none()
    if not meshes.surfaces and not len(cloud):
        raise DataError(f"{path}: there is neither a face nor a point in it")
    form = f"{kind.upper()}, {'a surface' if meshes.surfaces else 'points'}"
    crs = stated.get("crs", "") if stated.get("crs") != "local" else ""
    surfaces, notes = tuple(meshes.surfaces), tuple(meshes.notes)
    is_y_up = bool(surfaces) and meshes.is_y_up
    return Contents(
        path.name,
        form,
        cloud,
        surfaces=surfaces,
        refused=cloud.refused,
        notes=notes,
        stated=Stated(units, crs=crs),
        is_loose=True,
        is_y_up=is_y_up,
    )


def _loaded(path: Path, kind: str, stream: io.BytesIO, data: bytes) -> list[Any]:
    trimesh = package("trimesh")
    loaded = trimesh.load(stream, file_type=kind, process=False, maintain_order=True, force=None, skip_materials=True)
    _check_counts(path, kind, data, loaded)
    return list(loaded.dump()) if isinstance(loaded, trimesh.Scene) else [loaded]


class _Meshes:
    """The surfaces and points of a file so far."""

    def __init__(self, path: Path, units: str, named: dict[str, str]) -> None:
        self.path, self.units, self.named = path, units, named
        self.surfaces: list[Surface] = []
        self.points: list[Points] = []
        self.notes: list[str] = []
        self._along = np.zeros(3)

    @property
    def is_y_up(self) -> bool:
        """Whether its faces look along the second axis more than along the third, and cover places more than once."""
        looks = self._along[1] > 2.0 * self._along[2] and self._along[1] > self._along[0]
        return bool(looks and any(covered(surface)[0].any() for surface in self.surfaces))

    def add(self, parts: list[Any], name: str) -> None:
        """Add what a part of the file holds."""
        corners = []
        for part in parts:
            faces = getattr(part, "faces", None)
            places = np.asarray(part.vertices, np.float64)
            if faces is None or len(faces) == 0:
                self.points.append(_points(self.path, places, _properties(part)))
                continue
            numbers = np.asarray(faces)
            if int(numbers.min()) < 0 or int(numbers.max()) >= len(places):
                raise DataError(
                    f"{self.path}: a face names a vertex that is not there; the file is broken or cut short"
                )
            _check_width(self.path, places)
            corners.append(places[numbers])
        if not corners:
            return
        joined = np.concatenate(corners)
        across = np.cross(joined[:, 1] - joined[:, 0], joined[:, 2] - joined[:, 0])
        self._along += np.nan_to_num(np.abs(across)).sum(axis=0)
        taken = {surface.name for surface in self.surfaces}
        own = name if name not in taken else f"{name} {len(taken) + 1}"
        surface, _, dropped = welded(joined, name=own, units=self.units, **self.named)
        self.surfaces.append(surface)
        if dropped:
            self.notes.append(f"{counted(dropped, 'triangle')} with two equal corners ignored")


def _kind(path: Path, head: bytes, size: int) -> str:
    if head.startswith(b"ply"):
        return "ply"
    return (
        "obj"
        if _is_obj(head, size) or path.suffix.lower() == ".obj"
        else "stl_ascii"
        if _is_ascii_stl(head, size)
        else "stl"
    )


def _parts(kind: str, text: str, data: bytes) -> list[tuple[str, bytes]]:
    """The parts of a file that are surfaces of their own, by name: objects, or solids."""
    if kind == "obj":
        return [(name, part.encode("utf-8", "replace")) for name, part in parts_of(text).items()]
    if kind != "stl_ascii":
        return [("", data)]
    solids = _SOLID.findall(data)
    # Keywords are written in small letters here, as the package knows them; a name is no part of the rest.
    return [
        (unescaped(name.strip().decode("utf-8", "replace")), b"solid\n" + body.lower() + b"\nendsolid\n")
        for name, body in solids
    ] or [("", data)]


def _solid_name(data: bytes) -> str:
    match = re.match(rb"solid ([^\r\n]+)", data[:300], re.IGNORECASE)
    return unescaped(match.group(1).strip().decode("utf-8", "replace")) if match and b"\x00" not in data[:300] else ""


_MOST_DIGITS = 18
_PLY_ELEMENT = re.compile(rb"^element (vertex|face) (\d+)\s*$", re.MULTILINE)
_PLY_COUNT = re.compile(rb"^element \w+ (\d+)\s*$", re.MULTILINE)


def _check_claims(path: Path, kind: str, data: bytes) -> None:
    """Refuse a header that claims more than the file can hold, and text that stops in the middle."""
    if kind == "ply":
        head = data[: data.find(b"\nend_header") + 1]
        if not head:
            raise DataError(f"{path}: the PLY header does not end")
        claimed = sum(map(_whole, _PLY_COUNT.findall(head)))
        if claimed > len(data):
            raise DataError(f"{path}: its header claims {claimed:,} elements, more than the file has bytes")
    elif kind == "stl_ascii" and not data.rstrip().rsplit(b"\n", 1)[-1].strip().lower().startswith(b"endsolid"):
        raise DataError(f"{path}: the file is cut short: it does not end with endsolid")


def _whole(digits: bytes) -> int:
    """A count in a header; Python refuses to read one of thousands of digits, and no file holds as many elements."""
    return int(digits[:_MOST_DIGITS])


def _check_counts(path: Path, kind: str, data: bytes, loaded: object) -> None:
    """Refuse a PLY of which fewer elements were read than its header claims."""
    if kind != "ply":
        return
    head = data[: data.find(b"\nend_header") + 1]
    claimed = {name: _whole(count) for name, count in _PLY_ELEMENT.findall(head)}
    read = {b"vertex": getattr(loaded, "vertices", None), b"face": getattr(loaded, "faces", None)}
    for name, rows in read.items():
        count = 0 if rows is None else len(rows)
        if claimed.get(name, 0) > count:
            kind = name.decode()
            raise DataError(f"{path}: {count:,} of {claimed[name]:,} {kind} elements can be read. It is cut short")


def _properties(part: Any) -> dict[str, Column]:
    """What a PLY states of each vertex besides its place."""
    raw = part.metadata.get("_ply_raw", {}).get("vertex", {}).get("data")
    names = () if raw is None else raw.dtype.names if isinstance(raw, np.ndarray) else tuple(raw)
    columns = {str(name).lower(): np.asarray(raw[name]).ravel() for name in names or () if name not in ("x", "y", "z")}
    if "classification" in columns:
        classes = columns.pop("classification")
        whole = np.nan_to_num(classes.astype(np.float64), nan=-1.0).astype(np.int64)
        is_whole = (whole == classes).all()
        columns["class" if is_whole else "classification"] = whole if is_whole else classes
    return columns


def _points(path: Path, xyz: np.ndarray, columns: dict[str, Column]) -> Points:
    _check_width(path, xyz)
    good = np.isfinite(xyz).all(axis=1) & (np.abs(np.nan_to_num(xyz)) <= _LARGEST).all(axis=1)
    rows = np.flatnonzero(good)
    point_columns = {name: column[rows] for name, column in columns.items() if len(column) == len(xyz)}
    bad = len(xyz) - len(rows)
    refused = (Refusal(path.name, "a coordinate is not finite or far too large", bad),) if bad else ()
    return Points(
        xyz[rows],
        Shots.of_file(path.name, rows + 1, word="vertex"),
        refused,
        columns={**point_columns, "kind": repeated(POINT, len(rows))},
    )


def _check_width(path: Path, xyz: np.ndarray) -> None:
    if xyz.ndim != 2 or xyz.shape[1] != 3:
        width = xyz.shape[-1] if xyz.ndim > 1 else 1
        raise DataError(f"{path}: its vertices have {width} numbers each; 3 are needed")


def _comments(surface: Surface, mark: str) -> Iterator[str]:
    for key in _KEYS:
        value = getattr(surface, key)
        if value:
            yield f"{mark} {key}: {escaped(value, _WORDS)}\n"


def write_ply(path: Path, surface: Surface) -> None:
    """Write PLY 1.0, binary, coordinates as 64-bit numbers."""
    head = [
        "ply\nformat binary_little_endian 1.0\n",
        *_comments(surface, "comment"),
        f"element vertex {len(surface.vertices)}\n",
        "property double x\nproperty double y\nproperty double z\n",
        f"element face {len(surface.triangles)}\n",
        "property list uchar int vertex_indices\nend_header\n",
    ]
    faces = np.empty(len(surface.triangles), [("count", "u1"), ("corners", "<i4", 3)])
    faces["count"], faces["corners"] = 3, surface.triangles
    with whole_file(path) as stream:
        stream.write("".join(head).encode())
        stream.write(surface.vertices.astype("<f8").tobytes())
        stream.write(faces.tobytes())


def write_obj(path: Path, surface: Surface) -> None:
    """Write OBJ with every digit of the coordinates."""
    with whole_text_file(path) as stream:
        stream.writelines(_comments(surface, "#"))
        stream.write(f"o {'_'.join(one_line(surface.name).split()) or 'surface'}\n")
        for rows in _chunks(surface.vertices):
            stream.write("".join(f"v {x!r} {y!r} {z!r}\n" for x, y, z in rows))
        for rows in _chunks(surface.triangles + 1):
            stream.write("".join(f"f {a} {b} {c}\n" for a, b, c in rows))


def write_stl(path: Path, surface: Surface) -> None:
    """Write STL as text with every digit of the coordinates."""
    name = escaped(surface.name, _WORDS)
    corners = surface.vertices[surface.triangles]
    across = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    length = np.linalg.norm(across, axis=1)
    normals = across / np.where(length > 0.0, length, 1.0)[:, None]
    rows_of = np.column_stack((normals, corners.reshape(-1, 9)))
    with whole_text_file(path) as stream:
        stream.write(f"solid {name}\n")
        for rows in _chunks(rows_of):
            stream.write("".join(_facet(row) for row in rows))
        stream.write(f"endsolid {name}\n")


def _facet(row: list[float]) -> str:
    i, j, k, *corners = row
    ends = "".join(f"vertex {x!r} {y!r} {z!r}\n" for x, y, z in (corners[:3], corners[3:6], corners[6:]))
    return f"facet normal {i:.6g} {j:.6g} {k:.6g}\nouter loop\n{ends}endloop\nendfacet\n"


def _chunks(array: np.ndarray) -> Iterator[list[Any]]:
    for first in range(0, len(array), _CHUNK):
        yield array[first : first + _CHUNK].tolist()


def _is_ascii_stl(head: bytes, size: int) -> bool:
    start = head.lstrip().lower()
    return start.startswith(b"solid") and (b"facet" in start or b"endsolid" in start)


def _is_stl(head: bytes, size: int) -> bool:
    is_binary = len(head) >= 84 and size == 84 + 50 * int(np.frombuffer(head[80:84], "<u4")[0])
    return _is_ascii_stl(head, size) or is_binary


def _is_obj(head: bytes, size: int) -> bool:
    rows = [row for row in head.splitlines() if row.strip() and not row.startswith(b"#")]
    return bool(rows) and rows[0].split()[0] in (b"v", b"o", b"g", b"mtllib", b"vn", b"vt")


register(Format("PLY", (".ply",), begins_with(b"ply\n", b"ply\r"), read, write_ply))
register(Format("OBJ", (".obj",), _is_obj, read, write_obj))
register(Format("STL", (".stl",), _is_stl, read, write_stl))
