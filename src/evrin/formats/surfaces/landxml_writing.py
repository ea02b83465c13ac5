"""Writing LandXML 1.2: a surface with its points, faces and source lines.

Reference: LandXML.org, *LandXML-1.2 Schema* (2008), http://www.landxml.org/schema/LandXML-1.2
"""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path

import numpy as np
from lxml import etree

from evrin.base.files import whole_file
from evrin.base.wording import literal
from evrin.formats.door.format_registry import Format, begins_with, register
from evrin.formats.door.reference_systems import writable
from evrin.formats.surfaces.landxml_reading import read
from evrin.formats.surfaces.landxml_rows import face_rows, point_rows
from evrin.surface.surface import SourceLine, Surface

_NAMESPACE = "http://www.landxml.org/schema/LandXML-1.2"
_LINEAR = {"m": ("Metric", "meter"), "ft": ("Imperial", "foot"), "ftUS": ("Imperial", "USSurveyFoot")}
_POINTS_HERE = "points-go-here"
_FACES_HERE = "faces-go-here"


def write(path: Path, surface: Surface) -> None:
    """Write a surface, to the last bit of every coordinate.

    Breaklines and boundary rings become source data; each point transforms the number and code of its shot.
    """
    skeleton = etree.tostring(_skeleton(surface), xml_declaration=True, encoding="UTF-8", pretty_print=True).decode()
    # No text of others can contain these: its angle brackets are escaped.
    head, rest = skeleton.split(f">{_POINTS_HERE}<")
    middle, tail = rest.split(f">{_FACES_HERE}<")
    with whole_file(path) as stream:
        # Rows of plain numbers go straight to the file: a million elements would cost minutes and gigabytes.
        stream.write(f"{head}>\n".encode())
        for chunk in point_rows(surface):
            stream.write(chunk)
        stream.write(f"<{middle}>\n".encode())
        for chunk in face_rows(surface):
            stream.write(chunk)
        stream.write(f"<{tail}".encode())


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
    crs = writable(surface.crs)
    if crs is not None and not crs.upper().startswith("EPSG:"):
        etree.SubElement(root, "CoordinateSystem", ogcWktCode=literal(crs))
    elif crs is not None:
        etree.SubElement(root, "CoordinateSystem", epsgCode=literal(surface.crs[5:]))
    etree.SubElement(root, "Application", name="Evrin")
    holder = etree.SubElement(etree.SubElement(root, "Surfaces"), "Surface", name=literal(surface.name))
    if surface.description:
        holder.set("desc", literal(surface.description))
    holder.set("state", literal(surface.kind))
    _add_source_lines(holder, surface)
    definition = etree.SubElement(holder, "Definition", surfType="TIN")
    etree.SubElement(definition, "Pnts").text = _POINTS_HERE
    etree.SubElement(definition, "Faces").text = _FACES_HERE
    if surface.colour:
        feature = etree.SubElement(holder, "Feature", code="style")
        etree.SubElement(feature, "Property", label="colour", value=literal(surface.colour))
    return root


def _add_source_lines(holder: etree._Element, surface: Surface) -> None:
    rings = [line for line in surface.lines if line.is_ring]
    breaklines = [line for line in surface.lines if not line.is_ring and len(line.points) > 1]
    if not rings and not breaklines:
        return
    source = etree.SubElement(holder, "SourceData")
    if rings:
        group = etree.SubElement(source, "Boundaries")
        for ring in rings:
            kind = "outer" if ring.effect == "keep" else "void"
            element = etree.SubElement(group, "Boundary", bndType=kind, edgeTrim="true", name=literal(ring.name))
            _describe(element, ring)
            _add_list(element, ring)
    if breaklines:
        group = etree.SubElement(source, "Breaklines")
        for line in breaklines:
            element = etree.SubElement(group, "Breakline", brkType="standard", name=literal(line.name))
            _describe(element, line)
            _add_list(element, line)


def _describe(element: etree._Element, line: SourceLine) -> None:
    if line.description:
        element.set("desc", literal(line.description))


def _add_list(element: etree._Element, line: SourceLine) -> None:
    points = np.vstack((line.points, line.points[:1])) if line.closed else line.points
    in_space = bool(np.isfinite(points[:, 2]).all())
    columns = [1, 0, 2] if in_space else [1, 0]
    text = " ".join(repr(value) for value in points[:, columns].ravel().tolist())
    etree.SubElement(element, "PntList3D" if in_space else "PntList2D").text = text


register(
    Format(
        "LandXML", (".xml", ".landxml"), begins_with(b"<?xml", b"<LandXML", b"<!--", b"<!DOCTYPE", b"<"), read, write
    )
)
