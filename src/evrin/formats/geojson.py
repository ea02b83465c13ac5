"""GeoJSON (RFC 7946): lines and rings in, contours out."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np

from evrin.analysis import Contours
from evrin.errors import DataError
from evrin.formats.files import read_text, whole_text_file
from evrin.surface import Shots
from evrin.survey.things import Line, Lines


def read_lines(path: Path) -> Lines:
    """Read line strings and polygon rings.

    A feature's ``name`` property names its lines; holes are rings of their own.

    Raises
    ------
    DataError
        Where the file is not GeoJSON, or a coordinate is not a finite number.
    """
    text, _ = read_text(path)
    try:
        document = json.loads(text)
    except (json.JSONDecodeError, RecursionError) as error:
        raise DataError(f"{path}: this is not JSON: {error}") from error
    lines = []
    for number, (name, coordinates) in enumerate(_parts(path, document), 1):
        xyz = _coordinates(path, number, coordinates)
        closed = len(xyz) > 3 and bool((xyz[0, :2] == xyz[-1, :2]).all())
        xyz = xyz[:-1] if closed else xyz
        label = name or f"{path.stem} {number}"
        count = len(xyz)
        shots = Shots(
            (path.name,),
            np.zeros(count, np.int32),
            np.full(count, number, np.int32),
            np.full(count, "", object),
            np.full(count, label, object),
        )
        lines.append(Line(label, xyz, shots, closed))
    lines = [line for line in lines if len(line.xyz)]
    if not lines:
        raise DataError(f"{path}: there is no line and no polygon in it")
    return Lines(tuple(lines))


def _parts(path: Path, node: Any) -> Iterator[tuple[str, list[Any]]]:
    if not isinstance(node, dict) or "type" not in node:
        raise DataError(f'{path}: this is JSON, but not GeoJSON: an object has no "type"')
    kind = node["type"]
    if kind == "FeatureCollection":
        for feature in node.get("features") or []:
            yield from _parts(path, feature)
    elif kind == "Feature":
        name = str((node.get("properties") or {}).get("name") or "")
        if node.get("geometry"):
            for _, coordinates in _parts(path, node["geometry"]):
                yield name, coordinates
    elif kind == "GeometryCollection":
        for geometry in node.get("geometries") or []:
            yield from _parts(path, geometry)
    elif kind == "LineString":
        yield "", node.get("coordinates") or []
    elif kind in ("MultiLineString", "Polygon"):
        for coordinates in node.get("coordinates") or []:
            yield "", coordinates
    elif kind == "MultiPolygon":
        for polygon in node.get("coordinates") or []:
            for coordinates in polygon:
                yield "", coordinates


def _coordinates(path: Path, number: int, coordinates: list[Any]) -> np.ndarray:
    try:
        rows = [[float(c[0]), float(c[1]), float(c[2]) if len(c) > 2 else np.nan] for c in coordinates]
    except (TypeError, ValueError, IndexError) as error:
        raise DataError(f"{path}: line {number} has a coordinate that is not a number") from error
    xyz = np.array(rows, np.float64).reshape(-1, 3)
    if not np.isfinite(xyz[:, :2]).all():
        raise DataError(f"{path}: line {number} has a coordinate that is not finite")
    return xyz


def write_contours(path: Path, contours: Contours) -> None:
    """Write a LineString a contour, its level as height and as a property."""
    with whole_text_file(path) as stream:
        stream.write('{"type": "FeatureCollection", "features": [\n')
        for number, line in enumerate(contours):
            feature = {
                "type": "Feature",
                "properties": {"level": line.level, "index": line.is_index, "closed": line.is_closed},
                "geometry": {
                    "type": "LineString",
                    "coordinates": [[x, y, line.level] for x, y in line.points.tolist()],
                },
            }
            stream.write((",\n" if number else "") + json.dumps(feature))
        stream.write("\n]}\n")
