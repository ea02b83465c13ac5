"""LandXML 1.2: a surface with its points, faces and source lines.

Reference: LandXML.org, *LandXML-1.2 Schema* (2008), http://www.landxml.org/schema/LandXML-1.2
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path
from typing import IO
from xml.sax.saxutils import quoteattr

import numpy as np
from lxml import etree

from evrin.errors import DataError
from evrin.formats.files import read_bytes, whole_text_file
from evrin.surface import Provenance, Shots, SourceLine, Surface
from evrin.tin.types import Floats

_NAMESPACE = "http://www.landxml.org/schema/LandXML-1.2"
_LINEAR = {"m": ("Metric", "meter"), "ft": ("Imperial", "foot"), "ftUS": ("Imperial", "USSurveyFoot")}
_POINTS_HERE = "points-go-here"
_FACES_HERE = "faces-go-here"
_CHUNK = 50_000


def write(path: Path, surface: Surface) -> None:
    """Write a surface, to the last bit of every coordinate.

    Breaklines and boundary rings become source data; each point carries the number and code of its shot.
    """
    skeleton = etree.tostring(_skeleton(surface), xml_declaration=True, encoding="UTF-8", pretty_print=True).decode()
    head, rest = skeleton.split(_POINTS_HERE)
    middle, tail = rest.split(_FACES_HERE)
    with whole_text_file(path) as stream:
        _write_parts(stream, head, _point_rows(surface), middle, _face_rows(surface), tail)


def _write_parts(
    stream: IO[str], head: str, points: Iterator[str], middle: str, faces: Iterator[str], tail: str
) -> None:
    # Rows of plain numbers go straight to the file: a million elements would cost minutes and gigabytes.
    stream.write(head.rstrip() + "\n")
    for chunk in points:
        stream.write(chunk)
    stream.write(middle.strip() + "\n")
    for chunk in faces:
        stream.write(chunk)
    stream.write(tail.lstrip())


def _skeleton(surface: Surface) -> etree._Element:
    now = datetime.now(UTC)
    root = etree.Element("LandXML", nsmap={None: _NAMESPACE})
    root.set("version", "1.2")
    root.set("date", now.strftime("%Y-%m-%d"))
    root.set("time", now.strftime("%H:%M:%S"))
    system, unit = _LINEAR[surface.units]
    units = etree.SubElement(etree.SubElement(root, "Units"), system)
    area, volume = ("squareMeter", "cubicMeter") if system == "Metric" else ("squareFoot", "cubicFeet")
    temperature, pressure = ("celsius", "milliBars") if system == "Metric" else ("fahrenheit", "inchHG")
    for key, value in (
        ("linearUnit", unit),
        ("areaUnit", area),
        ("volumeUnit", volume),
        ("temperatureUnit", temperature),
        ("pressureUnit", pressure),
    ):
        units.set(key, value)
    if surface.crs.upper().startswith("EPSG:"):
        etree.SubElement(root, "CoordinateSystem", epsgCode=surface.crs[5:])
    etree.SubElement(root, "Application", name="Evrin")
    holder = etree.SubElement(etree.SubElement(root, "Surfaces"), "Surface", name=surface.name)
    if surface.description:
        holder.set("desc", surface.description)
    holder.set("state", surface.kind)
    _add_source_lines(holder, surface)
    definition = etree.SubElement(holder, "Definition", surfType="TIN")
    etree.SubElement(definition, "Pnts").text = _POINTS_HERE
    etree.SubElement(definition, "Faces").text = _FACES_HERE
    return root


def _add_source_lines(holder: etree._Element, surface: Surface) -> None:
    rings = [line for line in surface.lines if line.effect != "breakline"]
    breaklines = [line for line in surface.lines if line.effect == "breakline" and len(line.points) > 1]
    if not rings and not breaklines:
        return
    source = etree.SubElement(holder, "SourceData")
    if rings:
        group = etree.SubElement(source, "Boundaries")
        for ring in rings:
            kind = "outer" if ring.effect == "keep" else "void"
            element = etree.SubElement(group, "Boundary", bndType=kind, edgeTrim="true", name=ring.name)
            _add_list(element, ring)
    if breaklines:
        group = etree.SubElement(source, "Breaklines")
        for line in breaklines:
            _add_list(etree.SubElement(group, "Breakline", brkType="standard", name=line.name), line)


def _add_list(element: etree._Element, line: SourceLine) -> None:
    points = np.vstack((line.points, line.points[:1])) if line.closed else line.points
    in_space = bool(np.isfinite(points[:, 2]).all())
    columns = [1, 0, 2] if in_space else [1, 0]
    text = " ".join(repr(value) for value in points[:, columns].ravel().tolist())
    etree.SubElement(element, "PntList3D" if in_space else "PntList2D").text = text


def _point_rows(surface: Surface) -> Iterator[str]:
    labels = _point_labels(surface)
    for first in range(0, len(surface.vertices), _CHUNK):
        rows = surface.vertices[first : first + _CHUNK].tolist()
        yield "".join(
            f'<P id="{k}"{labels[k - 1] if labels else ""}>{y!r} {x!r} {z!r}</P>\n'
            for k, (x, y, z) in enumerate(rows, first + 1)
        )


def _point_labels(surface: Surface) -> list[str]:
    """The name and code attributes of each point."""
    if surface.provenance is None:
        return []
    shots = surface.provenance.shots
    rows = surface.provenance.shot_of
    made = rows < 0
    names = np.where(made, "", shots.numbers[rows]).tolist()
    codes = np.where(made, "", shots.codes[rows]).tolist()
    return [_attribute("name", name) + _attribute("code", code) for name, code in zip(names, codes, strict=True)]


def _attribute(key: str, value: str) -> str:
    if not value:
        return ""
    if not value.isprintable():
        value = "".join(ch for ch in value if ch.isprintable())
    return f" {key}={quoteattr(value)}"


def _face_rows(surface: Surface) -> Iterator[str]:
    for first in range(0, len(surface.triangles), _CHUNK):
        rows = (surface.triangles[first : first + _CHUNK] + 1).tolist()
        yield "".join(f"<F>{a} {b} {c}</F>\n" for a, b, c in rows)


def read(path: Path) -> Surface:
    """Read the first surface of a file, its faces exactly as given.

    Raises
    ------
    DataError
        Where the file is not LandXML, holds no surface, or a face names a point that is not there.
    """
    read_bytes(path)
    reader = _Reader(path)
    try:
        with path.open("rb") as stream:
            events = etree.iterparse(
                stream, events=("end",), resolve_entities=False, no_network=True, load_dtd=False, huge_tree=True
            )
            for _, element in events:
                if isinstance(element.tag, str):
                    reader.take(element.tag.rpartition("}")[2], element)
    except etree.XMLSyntaxError as error:
        raise DataError(f"{path}: this is not well-formed XML: {error}") from error
    return reader.surface()


_LISTS = ("PntList3D", "PntList2D")


class _Reader:
    """Collects what a surface needs while the file streams past."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self.root = ""
        self.surfaces = 0
        self.named: dict[str, str] = {}
        self.ids: dict[str, int] = {}
        self.points: list[list[float]] = []
        self.labels: list[tuple[str, str, int]] = []
        self.faces: list[tuple[int, int, int]] = []
        self.lines: list[SourceLine] = []

    def take(self, tag: str, element: etree._Element) -> None:
        """Take in an element that is complete, and let go of its memory."""
        self.root = tag
        if tag in ("Metric", "Imperial"):
            self.named["units"] = self._units(element.get("linearUnit") or "")
        elif tag == "CoordinateSystem" and element.get("epsgCode"):
            self.named["crs"] = f"EPSG:{element.get('epsgCode')}"
        elif tag == "Surface":
            self.surfaces += 1
            if self.surfaces == 1:
                named = {"name": element.get("name"), "description": element.get("desc"), "kind": element.get("state")}
                self.named |= {key: value for key, value in named.items() if value}
        elif self.surfaces == 0:
            self._take_part(tag, element)
        if tag in _LISTS:
            return
        element.clear()
        parent = element.getparent()
        if tag in ("P", "F") and parent is not None:
            del parent[0]

    def _units(self, unit: str) -> str:
        for units, (_, name) in _LINEAR.items():
            if name == unit:
                return units
        raise DataError(f"{self.path}: linear unit {unit!r} is not one of meter, foot, USSurveyFoot")

    def _take_part(self, tag: str, element: etree._Element) -> None:
        if tag == "P":
            self.ids[element.get("id") or str(len(self.points) + 1)] = len(self.points)
            self.points.append(self._numbers(element, 3))
            self.labels.append((element.get("name") or "", element.get("code") or "", element.sourceline or 0))
        elif tag == "F":
            if element.get("i") != "1":
                self.faces.append(self._face(element))
        elif tag in ("Boundary", "Breakline"):
            self.lines.append(self._line(tag, element))

    def _numbers(self, element: etree._Element, count: int) -> list[float]:
        try:
            values = [float(text) for text in (element.text or "").split()]
        except ValueError as error:
            raise DataError(f"{self.path} line {element.sourceline}: {error}") from error
        if len(values) != count:
            raise DataError(f"{self.path} line {element.sourceline}: {count} numbers expected, {len(values)} found")
        return values

    def _face(self, element: etree._Element) -> tuple[int, int, int]:
        names = (element.text or "").split()
        if len(names) != 3:
            raise DataError(f"{self.path} line {element.sourceline}: a face has {len(names)} points instead of 3")
        try:
            a, b, c = (self.ids[name] for name in names)
        except KeyError as error:
            where = f"{self.path} line {element.sourceline}"
            raise DataError(f"{where}: a face names point {error}, which is not there") from error
        return a, b, c

    def _line(self, tag: str, element: etree._Element) -> SourceLine:
        holder = next(iter(element), None)
        if holder is None:
            raise DataError(f"{self.path} line {element.sourceline}: a {tag.lower()} without points")
        width = 3 if etree.QName(holder).localname == "PntList3D" else 2
        values = np.array([float(text) for text in (holder.text or "").split()])
        if len(values) % width:
            raise DataError(f"{self.path} line {element.sourceline}: {len(values)} numbers do not make points")
        rows = values.reshape(-1, width)
        points: Floats = np.column_stack((rows[:, 1], rows[:, 0], rows[:, 2] if width == 3 else rows[:, 0] * np.nan))
        closed = len(points) > 3 and bool((points[0, :2] == points[-1, :2]).all())
        effect = "breakline" if tag == "Breakline" else "keep" if element.get("bndType") == "outer" else "cut"
        return SourceLine(element.get("name") or tag.lower(), points[:-1] if closed else points, closed, effect)

    def surface(self) -> Surface:
        if self.root != "LandXML":
            raise DataError(f"{self.path}: this is XML, but not LandXML: it is <{self.root}>")
        if not self.surfaces:
            raise DataError(f"{self.path}: there is no surface in it")
        if not self.faces:
            raise DataError(f"{self.path}: the surface has no faces")
        vertices = np.array(self.points)[:, [1, 0, 2]]
        bare = Surface.from_arrays(vertices, np.array(self.faces), **self.named)
        # Breaklines come first in a surface's lines, boundaries after them.
        ordered = sorted(self.lines, key=lambda line: line.effect != "breakline")
        return Surface(
            bare.vertices,
            bare.triangles,
            bare.edge_lines,
            tuple(ordered),
            self._provenance(),
            bare.name,
            bare.description,
            bare.kind,
            bare.units,
            bare.crs,
        )

    def _provenance(self) -> Provenance | None:
        if not any(number or code for number, code, _ in self.labels):
            return None
        numbers, codes, lines = zip(*self.labels, strict=True)
        count = len(self.labels)
        shots = Shots(
            (self.path.name,),
            np.zeros(count, np.int32),
            np.array(lines, np.int32),
            np.array(numbers, object),
            np.array(codes, object),
        )
        return Provenance(shots, np.arange(count, dtype=np.int32))
