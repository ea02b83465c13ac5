"""GeoJSON, without any package: points, lines, rings and triangles.

Reference: Butler, H. and others (2016), *The GeoJSON Format*, RFC 7946. It demands longitude and latitude; surveys
are exchanged in other systems all the same, so a ``crs`` member as of the 2008 specification is read and written, and
what is written for a site of its own grid states so in a member that other programs ignore.
"""

from __future__ import annotations

import json
import math
import re
import sys
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path

import numpy as np

from evrin.analysis.contours.contour_lines import Contours
from evrin.base.errors import DataError
from evrin.base.files import read_text, whole_text_file
from evrin.base.named_values import Row
from evrin.formats.door.format_registry import Format, How, begins_with, register
from evrin.formats.gis.features import PATH, PLACE, RING, FeatureLayer, contents_of, triangle_fields
from evrin.kernels import Floats
from evrin.surface.surface import SourceLine, Surface
from evrin.survey.contents import Contents, Refusal

_LONGITUDE_LATITUDE = "EPSG:4326"
_IGNORED = "site"
_EPSG = re.compile(r"EPSG:(?:[0-9.]*:)?([0-9]+)$", re.IGNORECASE)
_LINKED = re.compile(r"epsg/(?:0/)?([0-9]+)", re.IGNORECASE)
_CRS84 = re.compile(r"OGC:(?:[0-9.]*:)?CRS84$", re.IGNORECASE)


def read(path: Path, how: How) -> Contents:
    """Read every feature of a file; see `evrin.formats.gis.features`.

    Raises
    ------
    DataError
        Where it is not GeoJSON, or holds no feature.
    """
    document = _parsed(path)
    features = list(_features(path, document))
    rows = [properties for properties, _ in features]
    parts = _Parts(path)
    for row, (_, geometry) in enumerate(features):
        parts.take(row, geometry)
    if not parts.kinds:
        why = f" ({parts.refused[0].where}: {parts.refused[0].reason})" if parts.refused else ""
        raise DataError(f"{path}: no feature in it that has a geometry{why}")
    layer = FeatureLayer(
        file=path.name,
        name=str(document.get("name") or path.stem),
        crs="",
        fields=_columns(rows),
        kind=np.array(parts.kinds, np.int8),
        feature=np.array(parts.features, np.int64),
        polygon=np.array(parts.polygons, np.int64),
        starts=np.concatenate(([0], np.cumsum([len(xyz) for xyz in parts.places]))),
        xyz=np.concatenate(parts.places),
        refused=parts.refused,
    )
    layer.crs = _crs(document, layer.xyz)
    return contents_of(path, "GeoJSON", [layer])


def _parsed(path: Path) -> dict[str, object]:
    text, _ = read_text(path)
    try:
        document = json.loads(text)
    except json.JSONDecodeError as error:
        raise DataError(f"{path} line {error.lineno}: not valid JSON: {error.msg}") from error
    except RecursionError as error:
        raise DataError(f"{path}: its brackets nest deeper than those of any geometry") from error
    except ValueError as error:
        raise DataError(f"{path}: a number in it cannot be read: {error}") from error
    if not isinstance(document, dict) or "type" not in document:
        raise DataError(f"{path}: not GeoJSON: no object with a type")
    return document


def _features(path: Path, document: dict[str, object]) -> Iterator[tuple[dict[str, object], object]]:
    """Yield properties and geometry of each feature; a bare geometry is one."""
    if document["type"] == "FeatureCollection":
        listed = document.get("features")
        if not isinstance(listed, list):
            raise DataError(f"{path}: its features are not a list")
    else:
        listed = [document]
    for each in listed:
        if not isinstance(each, dict):
            yield {}, None
        elif each.get("type") == "Feature":
            properties = each.get("properties")
            yield properties if isinstance(properties, dict) else {}, each.get("geometry")
        else:
            yield {}, each


class _Parts:
    """The parts of geometries, as they are taken apart."""

    def __init__(self, path: Path) -> None:
        self._file = path.name
        self.kinds: list[int] = []
        self.features: list[int] = []
        self.polygons: list[int] = []
        self.places: list[Floats] = []
        self.refused: list[Refusal] = []
        self._count = 0

    def take(self, row: int, geometry: object) -> None:
        """Take a feature's geometry; one that cannot be read is refused, and the rest is used."""
        before = len(self.kinds)
        try:
            self._take(row, geometry)
            if len(self.kinds) == before:
                raise ValueError("it has no geometry")
        except (ValueError, TypeError, KeyError, OverflowError, RecursionError) as error:
            for column in (self.kinds, self.features, self.polygons, self.places):
                del column[before:]
            reason = str(error) if isinstance(error, ValueError) else "its geometry cannot be read"
            self.refused.append(Refusal(f"{self._file} feature {row + 1}", reason))

    def _take(self, row: int, geometry: object) -> None:
        if geometry is None:
            return
        if not isinstance(geometry, dict):
            raise TypeError
        kind = geometry.get("type")
        if kind == "GeometryCollection":
            for inner in geometry["geometries"]:
                self._take(row, inner)
            return
        if kind not in _KINDS:
            raise ValueError(f"its geometry is a {str(kind)[:40]!r}, which is ignored")
        several, own = _KINDS[kind]
        coordinates = geometry["coordinates"]
        if not isinstance(coordinates, list):
            raise TypeError
        for item in coordinates if several else [coordinates]:
            self._count += 1
            if not item:
                continue
            for path in item if own == RING else [[item]] if own == PLACE else [item]:
                self.kinds.append(own)
                self.features.append(row)
                self.polygons.append(self._count)
                self.places.append(_places(path))


_KINDS = {
    "Point": (False, PLACE),
    "MultiPoint": (True, PLACE),
    "LineString": (False, PATH),
    "MultiLineString": (True, PATH),
    "Polygon": (False, RING),
    "MultiPolygon": (True, RING),
}


def _places(path: object) -> Floats:
    if not isinstance(path, list):
        raise TypeError
    rows = [(*place[:3], math.nan)[:3] for place in path if isinstance(place, list) and len(place) >= 2]
    if len(rows) < len(path) or any(isinstance(value, (bool, str)) for row in rows for value in row):
        raise ValueError("a place in its geometry is not a list of numbers")
    return np.array(rows, np.float64).reshape(-1, 3)


def _columns(rows: Sequence[Row]) -> dict[str, np.ndarray]:
    """Attributes by name: numbers where all that are given are, otherwise unchanged."""
    names = list(dict.fromkeys(str(name) for row in rows for name in row))
    columns = {}
    for name in names:
        values = [row.get(name) for row in rows]
        given = [value for value in values if value is not None]
        if given and all(type(value) is int and abs(value) < 2**53 for value in values):
            columns[name] = np.array(values, np.int64)
        elif given and all(type(value) in (int, float) and _is_within_range(value) for value in given):
            columns[name] = np.array([math.nan if value is None else float(value) for value in values])
        else:
            column = np.empty(len(values), object)
            column[:] = [json.dumps(value) if isinstance(value, (dict, list)) else value for value in values]
            columns[name] = column
    return columns


def _is_within_range(value: float) -> bool:
    """Whether a number, which JSON does not limit, can be one with a decimal point."""
    return type(value) is float or abs(value) <= sys.float_info.max


def _crs(document: dict[str, object], xyz: Floats) -> str:
    """The reference system that a file states or implies, empty for a site's own grid."""
    stated = document.get("crs")
    properties = stated.get("properties") if isinstance(stated, dict) else None
    name = _name_of_system(properties) if isinstance(properties, dict) else None
    if isinstance(name, str) and (number := _EPSG.search(name)):
        return f"EPSG:{number[1]}"
    own = document.get(_IGNORED)
    if isinstance(own, dict) and own.get("crs") == "local":
        return ""
    implied = name is None or (isinstance(name, str) and _CRS84.search(name))
    # Local coordinates need not be declared; those beyond the globe are local.
    far = np.abs(xyz[:, 0]).max(initial=0.0) > 180.0 or np.abs(xyz[:, 1]).max(initial=0.0) > 90.0
    return _LONGITUDE_LATITUDE if implied and not far else ""


def _name_of_system(properties: Row) -> object:
    """What a file calls its system: by name, or in the older ways by number or by a link.

    Reference: Butler and others (2008), *The GeoJSON Format Specification*, 3.1 and 3.2, and its drafts.
    """
    code = properties.get("code")
    if isinstance(code, (int, str)) and not isinstance(code, bool) and str(code).isdigit():
        return f"EPSG:{code}"
    link = _LINKED.search(str(properties.get("href", "")))
    return f"EPSG:{link[1]}" if link else properties.get("name")


def write_surface(path: Path, surface: Surface) -> None:
    """Write a Polygon a triangle, closed."""
    corners = surface.vertices[surface.triangles]
    rings = np.concatenate((corners, corners[:, :1]), axis=1).tolist()
    shapes = [{"type": "Polygon", "coordinates": [ring]} for ring in rings]
    _write(path, "triangles", shapes, triangle_fields(surface), surface.crs, surface.units)


def write_lines(path: Path, lines: Sequence[SourceLine], units: str, crs: str) -> None:
    """Write a LineString a line, a closed one ending where it began, with its name and effect."""
    places = [np.vstack((line.points, line.points[:1])) if line.closed else line.points for line in lines]
    names, effects = ([getattr(line, key) for line in lines] for key in ("name", "effect"))
    fields = {"name": np.array(names, object), "effect": np.array(effects, object)}
    _write(path, "lines", [_line_string(xyz) for xyz in places], fields, crs, units)


def write_contours(path: Path, contours: Contours) -> None:
    """Write a LineString a contour, its level as height and as an attribute."""
    lines = list(contours)
    places = [np.column_stack((line.points, np.full(len(line.points), line.level))) for line in lines]
    fields = {
        "level": np.array([line.level for line in lines]),
        "index": np.array([int(line.is_index) for line in lines]),
        "closed": np.array([int(line.is_closed) for line in lines]),
        "depression": np.array([int(line.is_depression) for line in lines]),
        "units": np.full(len(lines), contours.units, object),
    }
    _write(path, "contours", [_line_string(xyz) for xyz in places], fields, contours.crs, contours.units)


def _line_string(xyz: Floats) -> dict[str, object]:
    return {"type": "LineString", "coordinates": xyz.tolist()}


def _write(
    path: Path, name: str, shapes: Sequence[Mapping[str, object]], fields: dict[str, np.ndarray], crs: str, units: str
) -> None:
    columns = {key: column.tolist() for key, column in fields.items()}
    head: dict[str, object] = {"type": "FeatureCollection", "name": name}
    if crs.upper().startswith("EPSG:"):
        head["crs"] = {"type": "name", "properties": {"name": f"urn:ogc:def:crs:EPSG::{crs[5:]}"}}
    head[_IGNORED] = {"crs": crs, "units": units}
    with whole_text_file(path) as stream:
        stream.write(json.dumps(head, ensure_ascii=False)[:-1] + ', "features": [\n')
        for row, shape in enumerate(shapes):
            properties = {key: column[row] for key, column in columns.items()}
            feature = {"type": "Feature", "properties": properties, "geometry": shape}
            stream.write(json.dumps(feature, ensure_ascii=False) + (",\n" if row + 1 < len(shapes) else "\n"))
        stream.write("]}\n")


register(
    Format(
        "GeoJSON",
        (".geojson", ".json"),
        begins_with(b"{"),
        read=read,
        write_surface=write_surface,
        write_contours=write_contours,
        write_lines=write_lines,
    )
)
