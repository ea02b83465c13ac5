"""Shapefile and GeoPackage: points, lines, rings and triangles, through GDAL's vector drivers."""

from __future__ import annotations

import glob
import hashlib
import sqlite3
import struct
import warnings
from collections.abc import Iterable, Sequence
from contextlib import closing
from pathlib import Path
from typing import Any

import numpy as np

from evrin.analysis.contours.contour_lines import Contours
from evrin.base.errors import DataError
from evrin.base.files import beside, head_of
from evrin.base.named_values import Row
from evrin.base.wording import one_line
from evrin.base.written_files import check_companions, is_written_by_evrin
from evrin.formats.door.format_registry import Format, How, begins_with, package, register
from evrin.formats.door.reference_systems import writable
from evrin.formats.gis.curved_layers import read_layer
from evrin.formats.gis.features import PATH, PLACE, RING, FeatureLayer, contents_of, triangle_fields
from evrin.formats.gis.triangle_shapes import as_polygons
from evrin.surface.surface import SourceLine, Surface
from evrin.survey.contents import Contents, Refusal

_POINTS, _LINES, _POLYGONS, _SEVERAL = (0,), (1, 2), (3,), (4, 5, 6, 7)


def read(path: Path, how: How) -> Contents:
    """Read every layer of a file.

    A feature's ``name`` attribute names its lines; rings of polygons become closed lines, holes rings of their own. A
    layer in which every polygon is a triangle with heights is a surface.

    Raises
    ------
    DataError
        Where nothing can be read, or a layer holds nothing.
    """
    pyogrio = package("pyogrio")
    if path.suffix.lower() == ".shp":
        _check_whole(path)
    with warnings.catch_warnings(record=True) as caught:
        warnings.simplefilter("always")
        layers = [str(name) for name, _ in pyogrio.list_layers(path)]
        parts = [_layer(path, name, read_layer(path, name, how.chord)) for name in layers if not _is_inner(name)]
    layers_with_features = [part for part in parts if part is not None]
    if not layers_with_features:
        raise DataError(f"{path}: no feature in it")
    warned = [f"the reader warns: {warning.message}" for warning in caught]
    form = "Shapefile" if path.suffix.lower() == ".shp" else "GeoPackage"
    return contents_of(path, form, layers_with_features, warned)


def _check_whole(path: Path) -> None:
    """Refuse a Shapefile of which a part is missing: the package that reads it ignores what is cut off.

    Reference: Esri (1998), *ESRI Shapefile Technical Description*.
    """
    head, size = head_of(path, 100)
    (words,) = struct.unpack(">I", head[24:28]) if len(head) == 100 else (0,)
    if len(head) < 100 or 2 * words != size:
        raise DataError(f"{path}: the file has {size:,} bytes and states it has {2 * words:,}; it is cut short")
    counts = {}
    for each in path.parent.glob(glob.escape(path.stem) + ".*"):
        if each.suffix.lower() == ".shx":
            counts["index"] = max(each.stat().st_size - 100, 0) // 8
        elif each.suffix.lower() == ".dbf":
            table, length = head_of(each, 32)
            rows, before, row = struct.unpack("<IHH", table[4:12]) if len(table) == 32 else (0, 0, 0)
            counts["table"] = rows
            if length < before + rows * row:
                raise DataError(f"{each}: its table of attributes is cut short")
    if len(set(counts.values())) > 1:
        raise DataError(f"{path}: its index has {counts['index']:,} shapes, its table {counts['table']:,}")


def _is_inner(name: str) -> bool:
    return name == "layer_styles"


def _layer(path: Path, name: str, raw: tuple[Any, ...]) -> FeatureLayer | None:
    """One layer as read; None where it holds nothing."""
    meta, _, geometry, fields = raw
    shapely = package("shapely")
    given = geometry if geometry is not None else np.empty(0, object)
    with np.errstate(invalid="ignore"):
        shapes = shapely.from_wkb(as_polygons(given), on_invalid="ignore")
    whole = np.array([shape is not None and not shape.is_empty for shape in shapes], np.bool_)
    refused = [Refusal(f"{path.name} feature {row + 1}", "it has no geometry") for row in np.flatnonzero(~whole)]
    feature, geometry = np.flatnonzero(whole), shapes[whole]
    if not len(geometry):
        return None
    while np.isin(shapely.get_type_id(geometry), _SEVERAL).any():
        geometry, owner = shapely.get_parts(geometry, return_index=True)
        feature = feature[owner]
    kind = shapely.get_type_id(geometry)
    others = sorted({f"feature {feature[k] + 1} is a {geometry[k].geom_type}" for k in np.flatnonzero(kind > 3)})
    # A polygon is its rings; everything else is itself.
    parts, of = [], []
    for wanted in (_POINTS, _LINES, _POLYGONS):
        rows = np.flatnonzero(np.isin(kind, wanted))
        places = geometry[rows]
        if wanted is _POLYGONS and len(rows):
            places, ring_of = shapely.get_rings(places, return_index=True)
            rows = rows[ring_of]
        parts.append(places)
        of.append(rows)
    kinds = np.repeat(np.array([PLACE, PATH, RING], np.int8), [len(part) for part in parts])
    order = np.argsort(np.concatenate(of), kind="stable")
    shapes, polygon = np.concatenate(parts)[order], np.concatenate(of)[order]
    xyz = shapely.get_coordinates(shapes, include_z=True)
    starts = np.concatenate(([0], np.cumsum(shapely.get_num_coordinates(shapes))))
    named = {str(key): np.asarray(values) for key, values in zip(meta["fields"], fields, strict=True)}
    notes = [f"{text}, ignored" for text in others]
    crs = str(meta["crs"] or "")
    return FeatureLayer(
        file=path.name,
        name=name,
        crs=crs,
        fields=named,
        kind=kinds[order],
        feature=feature[polygon],
        polygon=polygon,
        starts=starts,
        xyz=xyz,
        refused=refused,
        notes=notes,
    )


def _settle_companions(path: Path) -> None:
    """Leave nothing beside a Shapefile that would be read as part of it: what Evrin wrote earlier is deleted.

    Raises
    ------
    DataError
        Where somebody else's file is there.
    """
    if path.suffix.lower() != ".shp":
        return
    for ending in (".prj", ".qpj", ".cpg"):
        earlier = path.with_suffix(ending)
        if earlier.is_file() and is_written_by_evrin(earlier):
            earlier.unlink()
    check_companions(path, (".prj", ".qpj"))


def write_surface(path: Path, surface: Surface) -> None:
    """Write a triangle a polygon, its name, state, colour and units as attributes; into GeoPackage the lines too."""
    shapely = package("shapely")
    closed = surface.vertices[surface.triangles[:, [0, 1, 2, 0]]]
    count = len(closed)
    rings = shapely.linearrings(closed.reshape(-1, 3), indices=np.repeat(np.arange(count), 4))
    fields = triangle_fields(surface)
    _settle_companions(path)
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
    _settle_companions(path)
    with beside(path) as target:
        _write_line_layer(target, list(lines), crs)


def _write_line_layer(target: Path, lines: list[SourceLine], crs: str) -> None:
    shapely = package("shapely")
    shapes = [
        shapely.LineString(np.vstack((line.points, line.points[:1])) if line.closed else line.points) for line in lines
    ]
    fields = {
        "name": np.array([line.name for line in lines], object),
        "effect": np.array([line.effect for line in lines], object),
        "about": np.array([line.description for line in lines], object),
    }
    write_layer(target, "lines", np.array(shapes, object), "LineString Z", fields, crs)


def write_contours(path: Path, contours: Contours) -> None:
    """Write a LineString a contour, its level as height and as an attribute."""
    _settle_companions(path)
    with beside(path) as target:
        write_layer(target, "contours", *_contour_shapes(contours), contours.crs)


def _contour_shapes(contours: Contours) -> tuple[np.ndarray, str, dict[str, np.ndarray]]:
    level_of, points, starts = contours.level_of, contours.points, contours.starts
    sizes = np.diff(starts)
    heights = np.repeat(contours.levels[level_of], sizes)
    shapes = package("shapely").linestrings(
        np.column_stack((points, heights)), indices=np.repeat(np.arange(len(sizes)), sizes)
    )
    is_closed = (sizes > 2) & (points[starts[:-1]] == points[starts[1:] - 1]).all(axis=1)
    fields = {
        "level": contours.levels[level_of],
        "index": contours.is_index[level_of].astype(np.int32),
        "closed": is_closed.astype(np.int32),
        "depression": contours.is_depression.astype(np.int32),
    }
    return shapes, "LineString Z", fields


def write_contours_in_parts(path: Path, parts: Iterable[Contours]) -> None:
    """Write contours that come some at a time into one layer of a GeoPackage, and read each part back.

    Raises
    ------
    DataError
        Where there is no line in them, or the file does not read back as written.
    """
    sizes: list[tuple[int, bytes]] = []
    with beside(path) as target:
        for part in parts:
            if not len(part):
                continue
            shapes, kind, fields = _contour_shapes(part)
            _append_layer(target, "contours", shapes, kind, fields, part.crs)
            sizes.append((len(shapes), _fingerprint(shapes)))
        if not sizes:
            raise DataError(f"{path}: no contour to write; look at the levels")
        _settle_date(target)
        _check_parts_read_back(target, sizes)


def _check_parts_read_back(target: Path, sizes: list[tuple[int, bytes]]) -> None:
    pyogrio, shapely = package("pyogrio"), package("shapely")
    first = 0
    whole = _has_all_rows(target, "contours", sum(count for count, _ in sizes))
    for count, fingerprint in sizes:
        if whole:
            rows = np.arange(first + 1, first + count + 1)
            _, _, read_back, _ = pyogrio.raw.read(target, layer="contours", fids=rows, columns=[])
            whole = _fingerprint(shapely.from_wkb(read_back)) == fingerprint
        first += count
    if not whole:
        raise DataError("cannot be written: it does not read back as written. Check whether the disk is full")


def _fingerprint(shapes: np.ndarray) -> bytes:
    shapely = package("shapely")
    coordinates = shapely.get_coordinates(shapes, include_z=True)
    return hashlib.sha256(coordinates.tobytes() + shapely.get_num_coordinates(shapes).tobytes()).digest()


_DRIVERS: dict[str, tuple[str, dict[str, str]]] = {
    ".gpkg": ("GPKG", {}),
    ".shp": ("ESRI Shapefile", {"ENCODING": "UTF-8"}),
}


def write_layer(
    target: Path, name: str, shapes: np.ndarray, kind: str, fields: dict[str, np.ndarray], crs: str
) -> None:
    """Write shapes with their attributes as a layer of a file, added where the file is there already."""
    layer = _append_layer(target, name, shapes, kind, fields, crs)
    if target.suffix.lower() == ".gpkg":
        _settle_date(target)
    _check_reads_back(target, layer, shapes)


def _append_layer(
    target: Path, name: str, shapes: np.ndarray, kind: str, fields: dict[str, np.ndarray], crs: str
) -> str:
    """Write or append a layer; return what it is called."""
    pyogrio, shapely = package("pyogrio"), package("shapely")
    driver, options = _DRIVERS[target.suffix.lower()]
    layer = target.stem if driver == "ESRI Shapefile" else name
    with warnings.catch_warnings():
        # A local grid has no reference system to write.
        warnings.filterwarnings("ignore", message="'crs' was not provided")
        pyogrio.raw.write(
            target,
            shapely.to_wkb(shapes, output_dimension=3),
            [_literal(column) for column in fields.values()],
            list(fields),
            layer=layer,
            driver=driver,
            geometry_type=kind,
            crs=writable(crs),
            layer_options=options,
            append=target.exists(),
        )
    return layer


def _literal(column: np.ndarray) -> np.ndarray:
    """Texts without what a format would take for their end."""
    if column.dtype != object:
        return column
    out = np.empty(len(column), object)
    out[:] = [one_line(value) if isinstance(value, str) else value for value in column.tolist()]
    return out


def _check_reads_back(target: Path, layer: str, shapes: np.ndarray) -> None:
    """Refuse a layer that differs from what was written: on a full disk the package reports nothing."""
    pyogrio, shapely = package("pyogrio"), package("shapely")
    try:
        _, _, read_back, fields = pyogrio.raw.read(target, layer=layer)
    except pyogrio.errors.DataSourceError as error:
        raise DataError(f"cannot be written: {error}; is the disk full?") from error
    whole = len(read_back) == len(shapes) and all(len(column) == len(shapes) for column in fields)
    whole = whole and _has_all_rows(target, layer, len(shapes))
    if not whole or not _are_alike(shapely.from_wkb(read_back), shapely.force_3d(shapes)):
        raise DataError("cannot be written: it does not read back as written. Check whether the disk is full")


def _are_alike(read_back: np.ndarray, shapes: np.ndarray) -> bool:
    """Whether shapes are equal, wherever their rings begin; upright triangles have no inside and may be turned."""
    shapely = package("shapely")
    alike = shapely.equals_exact(shapely.normalize(read_back), shapely.normalize(shapes), 1e-9)
    return all(
        np.unique(shapely.get_coordinates(one, include_z=True), axis=0).tolist()
        == np.unique(shapely.get_coordinates(other, include_z=True), axis=0).tolist()
        for one, other in zip(read_back[~alike], shapes[~alike], strict=True)
        if shapely.area(other) == 0.0
    ) and bool((alike | (shapely.area(shapes) == 0.0)).all())


def _has_all_rows(target: Path, layer: str, count: int) -> bool:
    """Whether a table of attributes has all its rows, and a store is sound and has its index."""
    if target.suffix.lower() == ".shp":
        table = target.with_suffix(".dbf")
        rows, header, length = struct.unpack("<IHH", table.read_bytes()[4:12])
        return bool(rows == count and min(header, length) > 0 and table.stat().st_size >= header + count * length)
    if target.suffix.lower() == ".gpkg":
        with closing(sqlite3.connect(target)) as store:
            if store.execute("PRAGMA quick_check").fetchone() != ("ok",):
                return False
            (indexed,) = store.execute(f'SELECT count(*) FROM "rtree_{layer}_geom"').fetchone()
            return bool(indexed == count)
    return True


def _settle_date(target: Path) -> None:
    """Set the date of the last change to the day zero of the clock, so that one surface gives one file."""
    with closing(sqlite3.connect(target)) as store, store:
        store.execute("UPDATE gpkg_contents SET last_change = '1970-01-01T00:00:00.000Z'")


def _is_shapefile(head: bytes, size: int) -> bool:
    return head.startswith(b"\x00\x00\x27\x0a")


_WAYS: Row = {
    "read": read,
    "write_surface": write_surface,
    "write_contours": write_contours,
    "write_lines": write_lines,
    "packages": ("pyogrio", "shapely"),
}
register(Format("Shapefile", (".shp",), _is_shapefile, **_WAYS))
register(Format("GeoPackage", (".gpkg",), begins_with(b"SQLite format 3"), **_WAYS))
