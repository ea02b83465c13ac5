"""Writing DXF drawings: faces, edges, points and lines of a surface, and contours with their labels.

The package for drawings writes one entity of each kind; the million others are that one with other numbers, straight
into the file.
"""

from __future__ import annotations

import io
import re
import threading
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import IO, TYPE_CHECKING, Literal

import numpy as np

from evrin.analysis.contours.contour_labelling import contour_labels
from evrin.analysis.contours.contour_lines import Contours
from evrin.base.errors import DataError
from evrin.base.files import whole_text_file
from evrin.base.wording import one_line
from evrin.formats.door.format_registry import package
from evrin.kernels import Floats
from evrin.surface.surface import SourceLine, Surface

if TYPE_CHECKING:
    from ezdxf.document import Drawing
    from ezdxf.entities import DXFGraphic
    from ezdxf.layouts import BaseLayout

Part = Literal["faces", "edges", "points", "lines"]
PARTS: tuple[Part, ...] = ("faces", "edges", "points", "lines")
_FORBIDDEN = re.compile(r'[<>/\\":;?*|=`,]')
_UNITS = {"m": 6, "ft": 2, "ftUS": 21}
_MANY = 1 << 28
_ONE_AT_A_TIME = threading.RLock()
_LONGEST_NAME = 200
_CHUNK = 50_000
# In heights of the digits.
_LABEL_SPACING = 40.0
_INDEX_COLOUR, _BETWEEN_COLOUR = (120, 72, 32), (176, 132, 96)
Rows = Iterator[list[list[float]]]


def layer_name(name: str) -> str:
    """Return a name without the signs that a layer must not have."""
    return _FORBIDDEN.sub("_", one_line(name)).strip()[:_LONGEST_NAME] or "surface"


def write_surface(path: Path, surface: Surface, parts: Sequence[Part] = ("faces", "lines")) -> None:
    """Write a surface on layers under its name: faces on its own, edges, points and lines on others beside it.

    Raises
    ------
    DataError
        For a part that is not known.
    """
    unknown = sorted(set(parts) - set(PARTS))
    if unknown:
        raise DataError(f"{path}: {', '.join(unknown)} is not a part of a surface. Parts are {', '.join(PARTS)}")
    document = _new_document(surface.units)
    name = layer_name(surface.name)
    layers = {"faces": name, "edges": f"{name} EDGES", "points": f"{name} POINTS", "lines": f"{name} BREAKLINES"}
    for part in parts:
        _add_layer(document, layers[part], _rgb(surface.colour))
    space = document.modelspace()
    if "lines" in parts:
        _add_source_lines(document, surface, layers["lines"], f"{name} BOUNDARIES")
    streams: list[tuple[str, Rows]] = []
    if "faces" in parts:
        corners = surface.triangles[:, [0, 1, 2, 2]]
        streams.append((_template(space.add_3dface, layers["faces"], 4), _rows(surface.vertices, corners)))
    if "edges" in parts:
        ends = surface.edges
        streams.append((_template(space.add_line, layers["edges"], 2), _rows(surface.vertices, ends)))
    if "points" in parts:
        each = np.arange(len(surface.vertices))[:, None]
        streams.append((_template(space.add_point, layers["points"], 1), _rows(surface.vertices, each)))
    with whole_text_file(path) as stream:
        _write_document(stream, document, streams)


@contextmanager
def without_the_day() -> Iterator[None]:
    """Leave the day out of drawings meanwhile, so that one surface gives one file."""
    options = package("ezdxf").options
    with _ONE_AT_A_TIME:
        before = options.write_fixed_meta_data_for_testing
        options.write_fixed_meta_data_for_testing = True
        try:
            yield
        finally:
            options.write_fixed_meta_data_for_testing = before


def _new_document(units: str) -> Drawing:
    with without_the_day():
        document: Drawing = package("ezdxf").new("R2010")
    document.units = _UNITS[units]
    return document


def _rgb(colour: str) -> tuple[int, int, int] | None:
    if not re.fullmatch(r"#[0-9a-fA-F]{6}", colour):
        return None
    return int(colour[1:3], 16), int(colour[3:5], 16), int(colour[5:7], 16)


def _add_layer(document: Drawing, name: str, rgb: tuple[int, int, int] | None) -> None:
    layer = document.layers.add(name) if name not in document.layers else document.layers.get(name)
    if rgb is not None:
        layer.rgb = rgb


def _add_source_lines(document: Drawing, surface: Surface, lines: str, rings: str) -> None:
    space = document.modelspace()
    for line in surface.lines:
        if len(line.points) < 2:
            continue
        layer = rings if line.is_ring else lines
        _add_layer(document, layer, None)
        if np.isfinite(line.points[:, 2]).all():
            space.add_polyline3d(line.points.tolist(), close=line.closed, dxfattribs={"layer": layer})
        else:
            space.add_lwpolyline(line.points[:, :2].tolist(), close=line.closed, dxfattribs={"layer": layer})


def _template(add: Callable[..., DXFGraphic], layer: str, places: int) -> str:
    """One entity as the package writes it, with a field for its handle and one for each number."""
    writer = package("ezdxf.lldxf.tagwriter").TagWriter
    sample = [(k + 0.125, k + 0.25, k + 0.375) for k in range(1, places + 1)]
    # The layer's own name comes last: it may be a number, too.
    attributes = {"layer": "0"}
    if places == 4:
        entity = add(sample, dxfattribs=attributes)
    else:
        entity = add(*sample, dxfattribs=attributes)
    text = io.StringIO()
    entity.export_dxf(writer(text, "AC1024"))
    handle = f"  5\n{entity.dxf.handle}\n"
    entity.destroy()
    filled = text.getvalue().replace("{", "{{").replace("}", "}}").replace(handle, "  5\n{0:X}\n", 1)
    for k, numbers in enumerate(sample):
        for axis, number in enumerate(numbers):
            filled = filled.replace(f"\n{number!r}\n", "\n{" + str(3 * k + axis + 1) + "!r}\n", 1)
    own = layer.replace("{", "{{").replace("}", "}}")
    return filled.replace("\n  8\n0\n", f"\n  8\n{own}\n", 1)


def _rows(vertices: Floats, corners: np.ndarray) -> Rows:
    for first in range(0, len(corners), _CHUNK):
        here = corners[first : first + _CHUNK]
        yield vertices[here].reshape(len(here), -1).tolist()


def _write_document(stream: IO[str], document: Drawing, streams: list[tuple[str, Rows]]) -> None:
    document.modelspace().purge()  # type: ignore[no-untyped-call]
    document.entitydb.purge()
    first = int(str(document.entitydb.handles), 16) + 1
    document.entitydb.handles.reset(f"{_MANY:X}")
    text = io.StringIO()
    with without_the_day():
        document.write(text)
    head, divider, tail = _at_end_of_entities(text.getvalue())
    stream.write(head)
    handle = first
    for template, chunks in streams:
        fill = template.format
        for rows in chunks:
            stream.write("".join([fill(k, *row) for k, row in enumerate(rows, handle)]))
            handle += len(rows)
    stream.write(divider + tail)


def _at_end_of_entities(text: str) -> tuple[str, str, str]:
    start = text.index("  2\nENTITIES\n")
    end = text.index("  0\nENDSEC\n", start)
    return text[:end], "  0\nENDSEC\n", text[end + len("  0\nENDSEC\n") :]


def write_contours(path: Path, contours: Contours) -> None:
    """Write contours as polylines at their heights, index and intermediate apart, index contours labelled."""
    document = _new_document(contours.units)
    _add_layer(document, "CONTOURS INDEX", _INDEX_COLOUR)
    _add_layer(document, "CONTOURS INTERMEDIATE", _BETWEEN_COLOUR)
    _add_layer(document, "CONTOURS LABELS", _INDEX_COLOUR)
    space = document.modelspace()
    size = contours.label_height or _text_height(contours.points)
    decimals = _decimals(contours.levels)
    for line in contours:
        layer = "CONTOURS INDEX" if line.is_index else "CONTOURS INTERMEDIATE"
        points = line.points[:-1] if line.is_closed else line.points
        attributes = {"layer": layer, "elevation": line.level}
        space.add_lwpolyline(points.tolist(), close=line.is_closed, dxfattribs=attributes)
    _add_labels(space, contours, size, decimals)
    with whole_text_file(path) as stream:
        _write_document(stream, document, [])


def write_lines(path: Path, lines: Sequence[SourceLine], units: str, crs: str) -> None:
    """Write a 3-D polyline a line, each on a layer of its own name."""
    document = _new_document(units)
    space = document.modelspace()
    for line in lines:
        _add_layer(document, line.name, None)
        space.add_polyline3d(line.points.tolist(), close=line.closed, dxfattribs={"layer": line.name})
    with whole_text_file(path) as stream:
        _write_document(stream, document, [])


def _text_height(points: Floats) -> float:
    extent = float(np.ptp(points, axis=0).max()) if len(points) else 100.0
    return float(f"{max(extent / 120.0, 1e-3):.2g}")


def _decimals(levels: Floats) -> int:
    return next((k for k in range(4) if np.allclose(levels, np.round(levels, k), atol=1e-9)), 3)


def _add_labels(space: BaseLayout, contours: Contours, size: float, decimals: int) -> None:
    """Set levels along the index contours, none over another, their tops uphill where that is upright."""
    align = package("ezdxf.enums").TextEntityAlignment.MIDDLE_CENTER
    labels = contour_labels(contours, contours.label_spacing or _LABEL_SPACING * size, size, between=True)
    for place, turn, line in zip(labels.places, labels.angles_deg.tolist(), labels.line_of.tolist(), strict=True):
        level = float(contours.levels[contours.level_of[line]])
        attributes = {"layer": "CONTOURS LABELS", "height": size, "rotation": turn % 360.0}
        entity = space.add_text(f"{level:.{decimals}f}", dxfattribs=attributes)
        entity.set_placement((*place.tolist(), level), align=align)
