"""Shapefile, GeoPackage and GeoJSON (RFC 7946): points, lines, rings and triangles, through GDAL's vector drivers."""

from __future__ import annotations

import sqlite3
import warnings
from collections.abc import Sequence
from contextlib import closing
from pathlib import Path
from typing import Any

import numpy as np

from evrin.analysis import Contours
from evrin.errors import DataError
from evrin.formats.files import beside, head_of
from evrin.formats.reference import DEGREES, units_of
from evrin.formats.registry import Format, How, begins_with, package, register
from evrin.surface import Shots, SourceLine, Surface, welded
from evrin.survey.things import POINT, Contents, Line, Points, Refusal, Value
from evrin.tin.types import Floats

_POINTS, _LINES, _POLYGONS, _SEVERAL = (0,), (1, 2), (3,), (4, 5, 6, 7)
_NAME_FIELDS = ("name", "line", "string")
_CODE_FIELDS = ("code", "feature", "description")
_NUMBER_FIELDS = ("number", "point", "id")
_LARGEST = 1e12
_DEEPEST = 64


def read(path: Path, how: How) -> Contents:
    """Read every layer of a file.

    A feature's ``name`` attribute names its lines; rings of polygons become closed lines, holes rings of their own. A
    layer in which every polygon is a triangle with heights is a surface.

    Raises
    ------
    DataError
        Where nothing can be read, or a layer holds nothing.
    """
    _check_depth(path)
    pyogrio = package("pyogrio", "gis")
    with warnings.catch_warnings(record=True) as told:
        warnings.simplefilter("always")
        layers = [str(name) for name, _ in pyogrio.list_layers(path)]
        parts = [_Layer(path, name, pyogrio.raw.read(path, layer=name)) for name in layers if not _is_inner(name)]
    parts = [part for part in parts if len(part.geometry)]
    if not parts:
        raise DataError(f"{path}: there is no feature in it")
    crs = next((part.crs for part in parts if part.crs), "")
    found = [(part, part.surface(crs)) for part in parts]
    surfaces = [surface for _, surface in found if surface is not None]
    flat = [part for part, surface in found if surface is None]
    points = Points.joined([part.points() for part in flat]) if flat else Points.none()
    lines = tuple(line for part in flat for line in part.lines())
    refused = tuple(refusal for part in flat for refusal in part.refused)
    notes = [note for part in flat for note in part.attributes()] + [note for part in parts for note in part.notes]
    notes += [f"the reader warns: {warning.message}" for warning in told]
    form = f"{_FORMS.get(path.suffix.lower(), 'GeoJSON')}, {', '.join(part.name for part in parts)}"
    return Contents(path.name, form, points, lines, tuple(surfaces), (), refused, tuple(notes), units_of(crs), crs)


_FORMS = {".shp": "Shapefile", ".gpkg": "GeoPackage", ".geojson": "GeoJSON", ".json": "GeoJSON"}


def _is_inner(name: str) -> bool:
    return name == "layer_styles"


def _check_depth(path: Path) -> None:
    """Refuse text nested deeper than any geometry, before a parser recurses into it."""
    if not begins_with(b"{")(*head_of(path)):
        return
    depth = 0
    with path.open("rb") as stream:
        while part := stream.read(1 << 20):
            codes = np.frombuffer(part, np.uint8)
            steps = ((codes == 91) | (codes == 123)).astype(np.int64) - ((codes == 93) | (codes == 125))
            deepest = depth + int(np.cumsum(steps).max())
            if deepest > _DEEPEST:
                raise DataError(f"{path}: its brackets nest more than {_DEEPEST} deep; no geometry does")
            depth += int(steps.sum())


class _Layer:
    """One layer as read: attributes by name, geometries, and what was refused."""

    def __init__(self, path: Path, name: str, raw: tuple[Any, ...]) -> None:
        meta, _, geometry, fields = raw
        shapely = package("shapely", "gis")
        self.path, self.name = path, name
        self.refused: list[Refusal] = []
        self.notes: list[str] = []
        self.fields = {str(key): np.asarray(values) for key, values in zip(meta["fields"], fields, strict=True)}
        given = geometry if geometry is not None else np.empty(0, object)
        with np.errstate(invalid="ignore"):
            shapes = shapely.from_wkb(given, on_invalid="ignore")
        self.feature = np.flatnonzero([shape is not None and not shape.is_empty for shape in shapes])
        for row in range(len(given)):
            if shapes[row] is None or shapes[row].is_empty:
                self.refused.append(Refusal(self._where(row), "it has no geometry"))
        self.geometry = shapes[self.feature]
        while True:
            self.kind = shapely.get_type_id(self.geometry)
            if not np.isin(self.kind, _SEVERAL).any():
                break
            self.geometry, owner = shapely.get_parts(self.geometry, return_index=True)
            self.feature = self.feature[owner]
        self.crs = self._crs(str(meta["crs"] or ""))

    def _where(self, row: int) -> str:
        return f"{self.path.name} feature {row + 1}"

    def _crs(self, given: str) -> str:
        # GeoJSON without a reference system is said to be in degrees, which local coordinates are not.
        if units_of(given) == DEGREES and self.path.suffix.lower() not in (".gpkg", ".shp") and len(self.geometry):
            bounds = package("shapely", "gis").total_bounds(self.geometry)
            if np.abs(bounds[[0, 2]]).max() > 180.0 or np.abs(bounds[[1, 3]]).max() > 90.0:
                return ""
        return given

    def _coordinates(self, shape: Any) -> Floats:
        xyz: Floats = package("shapely", "gis").get_coordinates(shape, include_z=True)
        return xyz

    def _field(self, names: Sequence[str], row: int) -> str:
        for key, values in self.fields.items():
            if key.lower() in names and values[row] is not None and values[row] == values[row]:
                return str(values[row])
        return ""

    def _values(self, row: int) -> dict[str, Value]:
        values: dict[str, Value] = {}
        for key, column in self.fields.items():
            value = column[row].item() if isinstance(column[row], np.generic) else column[row]
            values[key] = value if isinstance(value, (int, float, str)) else "" if value is None else str(value)
        return values

    def attributes(self) -> list[str]:
        """Name its attributes, those that are numbers with their range."""
        told = []
        for key, values in self.fields.items():
            known = values[np.isfinite(values)] if values.dtype.kind in "iuf" else np.empty(0)
            told.append(f"{key} ({known.min():g} to {known.max():g})" if len(known) else key)
        return [f"layer {self.name} has the attributes {', '.join(told)}"] if told else []

    def points(self) -> Points:
        """Return its points, attribute by attribute."""
        chosen = np.flatnonzero(np.isin(self.kind, _POINTS))
        if not len(chosen):
            return Points.none()
        xyz = self._coordinates(self.geometry[chosen])
        good = self._usable(xyz, self.feature[chosen])
        chosen, xyz = chosen[good], xyz[good]
        rows = self.feature[chosen].tolist()
        numbers, codes = (
            np.array([self._field(names, row) for row in rows], object) for names in (_NUMBER_FIELDS, _CODE_FIELDS)
        )
        shots = Shots.of_file(self.path.name, np.array(rows, np.int64) + 1, numbers, codes, "feature")
        columns = {key: values[rows] for key, values in self.fields.items()}
        columns |= {"layer": _all(self.name, len(rows)), "kind": _all(POINT, len(rows))}
        return Points(xyz, shots, columns=columns)

    def _usable(self, xyz: Floats, feature: np.ndarray) -> np.ndarray:
        good = np.isfinite(xyz[:, :2]).all(axis=1) & ~np.isinf(xyz[:, 2])
        good &= (np.abs(np.nan_to_num(xyz)) <= _LARGEST).all(axis=1)
        for row in feature[~good].tolist():
            self.refused.append(Refusal(self._where(row), "a coordinate is not finite or far too large"))
        return np.flatnonzero(good)

    def lines(self) -> list[Line]:
        """Return its lines and rings."""
        shapely = package("shapely", "gis")
        out = []
        for row, kind, shape in zip(self.feature.tolist(), self.kind.tolist(), self.geometry, strict=True):
            if kind in _POLYGONS:
                rings = [shape.exterior, *shape.interiors]
                out += [self._line(row, ring, "polygon") for ring in rings]
            elif kind in _LINES:
                out.append(self._line(row, shape, "line"))
            elif kind not in _POINTS:
                self.notes.append(f"feature {row + 1} is a {shapely.get_parts(shape)[0].geom_type}, passed over")
        return [line for line in out if line is not None]

    def _line(self, row: int, shape: Any, kind: str) -> Line | None:
        xyz = self._coordinates(shape)
        if len(self._usable(xyz, np.full(len(xyz), row))) < len(xyz):
            return None
        closed = len(xyz) > 3 and bool((xyz[0, :2] == xyz[-1, :2]).all())
        xyz = xyz[:-1] if closed else xyz
        name = self._field(_NAME_FIELDS, row) or f"{self.name} {row + 1}"
        code = self._field(_CODE_FIELDS, row) or name
        shots = Shots.of_file(self.path.name, np.full(len(xyz), row + 1), "", code, "feature")
        values = {**self._values(row), "layer": self.name, "kind": kind}
        return Line(name, xyz, shots, closed, values)

    def surface(self, crs: str) -> Surface | None:
        """Return its polygons as a surface, where all of them are triangles with heights."""
        if len(self.kind) < 2 or not np.isin(self.kind, _POLYGONS).all():
            return None
        shapely = package("shapely", "gis")
        counts = shapely.get_num_coordinates(self.geometry)
        if not (counts == 4).all() or not shapely.has_z(self.geometry).all():
            return None
        corners = self._coordinates(self.geometry).reshape(-1, 4, 3)[:, :3]
        if not np.isfinite(corners).all():
            return None
        said = {key: self._field((key,), int(self.feature[0])) for key in ("surface", "state", "colour", "units")}
        named = {"name": said["surface"] or self.name, "kind": said["state"] or "existing"}
        units = said["units"] if said["units"] in ("m", "ft", "ftUS") else units_of(crs) or "m"
        surface, _, dropped = welded(corners, **named, units=units, crs=crs or "local", colour=said["colour"])
        if dropped:
            self.notes.append(f"{dropped} triangles with two equal corners passed over")
        return surface


def _all(text: str, count: int) -> np.ndarray:
    out = np.empty(count, object)
    out[:] = text
    return out


def _crs_to_write(crs: str) -> str | None:
    return crs if crs.upper().startswith("EPSG:") else None


def write_surface(path: Path, surface: Surface) -> None:
    """Write a triangle a polygon, its name, state, colour and units as attributes; into GeoPackage the lines too."""
    shapely = package("shapely", "gis")
    closed = surface.vertices[surface.triangles[:, [0, 1, 2, 0]]]
    count = len(closed)
    rings = shapely.linearrings(closed.reshape(-1, 3), indices=np.repeat(np.arange(count), 4))
    fields = {
        "surface": _all(surface.name, count),
        "state": _all(surface.kind, count),
        "colour": _all(surface.colour, count),
        "units": _all(surface.units, count),
    }
    with beside(path) as target:
        write_layer(target, "triangles", shapely.polygons(rings), "Polygon Z", fields, surface.crs)
        if target.suffix.lower() == ".gpkg":
            _write_source_lines(target, surface)


def _write_source_lines(target: Path, surface: Surface) -> None:
    lines = [line for line in surface.lines if len(line.points) > 1]
    if lines:
        _write_line_layer(target, lines, surface.crs)


def write_lines(path: Path, lines: Sequence[SourceLine], units: str, crs: str) -> None:
    """Write a LineString a line, a closed one ending where it began, with its name and effect."""
    with beside(path) as target:
        _write_line_layer(target, list(lines), crs)


def _write_line_layer(target: Path, lines: list[SourceLine], crs: str) -> None:
    shapely = package("shapely", "gis")
    shapes = [
        shapely.LineString(np.vstack((line.points, line.points[:1])) if line.closed else line.points) for line in lines
    ]
    fields = {
        "name": np.array([line.name for line in lines], object),
        "effect": np.array([line.effect for line in lines], object),
    }
    write_layer(target, "lines", np.array(shapes, object), "LineString Z", fields, crs)


def write_contours(path: Path, contours: Contours) -> None:
    """Write a LineString a contour, its level as height and as an attribute."""
    shapely = package("shapely", "gis")
    lines = list(contours)
    shapes = [
        shapely.LineString(np.column_stack((line.points, np.full(len(line.points), line.level)))) for line in lines
    ]
    fields = {
        "level": np.array([line.level for line in lines]),
        "index": np.array([line.is_index for line in lines], np.int32),
        "closed": np.array([line.is_closed for line in lines], np.int32),
        "depression": np.array([line.is_depression for line in lines], np.int32),
    }
    with beside(path) as target:
        write_layer(target, "contours", np.array(shapes, object), "LineString Z", fields, contours.crs)


_DRIVERS: dict[str, tuple[str, dict[str, str]]] = {
    ".gpkg": ("GPKG", {}),
    ".shp": ("ESRI Shapefile", {"ENCODING": "UTF-8"}),
    ".geojson": ("GeoJSON", {"COORDINATE_PRECISION": "15", "RFC7946": "NO"}),
}


def write_layer(
    target: Path, name: str, shapes: np.ndarray, kind: str, fields: dict[str, np.ndarray], crs: str
) -> None:
    """Write shapes with their attributes as a layer of a file, added where the file is there already."""
    pyogrio, shapely = package("pyogrio", "gis"), package("shapely", "gis")
    driver, options = _DRIVERS[target.suffix.lower()]
    with warnings.catch_warnings():
        # A local grid has no reference system to write.
        warnings.filterwarnings("ignore", message="'crs' was not provided")
        pyogrio.raw.write(
            target,
            shapely.to_wkb(shapes, output_dimension=3),
            list(fields.values()),
            list(fields),
            layer=target.stem if driver == "ESRI Shapefile" else name,
            driver=driver,
            geometry_type=kind,
            crs=_crs_to_write(crs),
            layer_options=options,
            append=target.exists(),
        )
    if driver == "GPKG":
        _settle_date(target)


def _settle_date(target: Path) -> None:
    """Set the date of the last change to the day zero of the clock, so that one surface gives one file."""
    with closing(sqlite3.connect(target)) as store, store:
        store.execute("UPDATE gpkg_contents SET last_change = '1970-01-01T00:00:00.000Z'")


def _is_shapefile(head: bytes, size: int) -> bool:
    return head.startswith(b"\x00\x00\x27\x0a")


_WAYS: dict[str, Any] = {
    "read": read,
    "write_surface": write_surface,
    "write_contours": write_contours,
    "write_lines": write_lines,
}
register(Format("Shapefile", (".shp",), _is_shapefile, **_WAYS))
register(Format("GeoPackage", (".gpkg",), begins_with(b"SQLite format 3"), **_WAYS))
register(Format("GeoJSON", (".geojson", ".json"), begins_with(b"{"), **_WAYS))
