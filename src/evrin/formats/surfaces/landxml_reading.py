"""Reading LandXML 1.0, 1.1, 1.2 and 2.0 as it streams past: points, surfaces, source data, plan features, alignments.

Reference: LandXML.org, *LandXML-1.2 Schema* (2008), http://www.landxml.org/schema/LandXML-1.2
"""

from __future__ import annotations

import io
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import replace
from pathlib import Path

import numpy as np
from lxml import etree

from evrin.base.errors import DataError
from evrin.base.files import head_of
from evrin.base.wording import counted
from evrin.formats.door.format_registry import How
from evrin.formats.door.reference_systems import system_in
from evrin.formats.fast.landxml_blocks import Block, FaceBlock, PointBlock, without_blocks
from evrin.formats.surfaces.landxml_chainage import stated_chainage, with_own_length
from evrin.formats.surfaces.landxml_parts import SurfaceParts, closed_ring
from evrin.kernels import Floats
from evrin.surface.frame import Stated
from evrin.surface.line_edges import with_edges_of_lines
from evrin.surface.provenance import Shots
from evrin.surface.surface import SourceLine, Surface
from evrin.survey.contents import (
    POINT,
    Column,
    Contents,
    Line,
    Points,
    Refusal,
)
from evrin.survey.curves import arc_through

# What each linear unit of the schema is read as, and how many of that it is.
_UNITS = {
    "meter": ("m", 1.0),
    "millimeter": ("m", 0.001),
    "centimeter": ("m", 0.01),
    "kilometer": ("m", 1000.0),
    "foot": ("ft", 1.0),
    "USSurveyFoot": ("ftUS", 1.0),
    "inch": ("ft", 1.0 / 12.0),
    "mile": ("ft", 5280.0),
}
_TAGS = [
    *("P", "F", "Surface", "Metric", "Imperial", "CoordinateSystem", "CgPoint"),
    *("Boundary", "Breakline", "Contour", "DataPoints", "PlanFeature", "Alignment", "Chain"),
]
_BLOCKS = ("Pnts", "Faces")
_MANY = ("P", "F", "CgPoint")
_LARGEST = 1e12


def read(path: Path, how: How) -> Contents:
    """Read all that a surface could be made of, and every surface, its faces exactly as given.

    Raises
    ------
    DataError
        Where the file is not LandXML, or contradicts itself.
    """
    head_of(path)
    blocks = without_blocks(path)
    reader = _Reader(path, how, blocks[1] if blocks is not None else [])
    try:
        with path.open("rb") if blocks is None else io.BytesIO(blocks[0]) as stream:
            events = etree.iterparse(
                stream,
                events=("end",),
                tag=[f"{{*}}{tag}" for tag in (_TAGS if blocks is None else [*_TAGS, *_BLOCKS])],
                resolve_entities=False,
                no_network=True,
                load_dtd=False,
                huge_tree=True,
            )
            reader.take_all(events)
            reader.check_root(events.root)
    except etree.XMLSyntaxError as error:
        raise DataError(f"{path}: this is not well-formed XML: {error}") from error
    return reader.contents()


class _Reader:
    """Collects what the file holds while it streams past."""

    def __init__(self, path: Path, how: How, blocks: Sequence[Block]) -> None:
        self.path, self.how = path, how
        self.blocks = iter(blocks)
        self.version = ""
        self.units, self.factor, self.crs, self.height_units = "", 1.0, "", ""
        self.notes: list[str] = []
        self.parts = SurfaceParts(path.name)
        self.surfaces: list[Surface] = []
        self.lines: list[Line] = []
        self.survey: dict[str, Floats] = {}
        self.survey_rows: list[tuple[Floats, str, str, int, str, str]] = []
        self.refused: list[Refusal] = []
        self.pending: list[Callable[[], None]] = []

    def take_all(self, events: Iterator[tuple[str, etree._Element]]) -> None:
        """Take in each element that is complete, and let go of its memory."""
        local: dict[str, str] = {}
        for _, element in events:
            tag = local.get(element.tag) or local.setdefault(element.tag, element.tag.rpartition("}")[2])
            if tag == "F":
                self.parts.add_face(element)
            elif tag == "P":
                self.parts.add_point(element)
            else:
                if ":" in tag:
                    raise DataError(f"{self.path}: the prefix of the element {tag} is not declared; the file is broken")
                getattr(self, f"_take_{tag.lower()}")(element)
                element.clear()
            parent = element.getparent()
            if tag in _MANY and parent is not None:
                del parent[0]

    def _take_pnts(self, element: etree._Element) -> None:
        block = self._next_block()
        if isinstance(block, PointBlock):
            self.parts.take_points(block)

    def _take_faces(self, element: etree._Element) -> None:
        block = self._next_block()
        if isinstance(block, FaceBlock):
            self.parts.take_faces(block)

    def _next_block(self) -> object:
        try:
            return next(self.blocks)
        except StopIteration:
            raise DataError(f"{self.path}: points or faces within points or faces; the file is broken") from None

    def check_root(self, root: etree._Element) -> None:
        """Refuse XML of another kind."""
        tag = etree.QName(root).localname
        if tag != "LandXML":
            raise DataError(f"{self.path}: this is XML, but not LandXML: it is <{tag}>")
        self.version = root.get("version") or ""

    def _where(self, line: int | None) -> str:
        return f"{self.path.name} line {line or 0}"

    def _take_metric(self, element: etree._Element) -> None:
        unit = element.get("linearUnit") or ""
        if unit not in _UNITS:
            raise DataError(f"{self.path}: linear unit {unit!r} is not one of {', '.join(_UNITS)}")
        self.units, self.factor = _UNITS[unit]
        self.height_units = {"meter": "m", "feet": "ft"}.get(element.get("elevationUnit") or "", "")
        if self.factor != 1.0:
            # Everything has been multiplied, heights too.
            self.height_units = ""
            self.notes.append(f"coordinates are in units of one {unit}, read as {self.units}")

    _take_imperial = _take_metric

    def _take_coordinatesystem(self, element: etree._Element) -> None:
        if element.get("epsgCode"):
            self.crs = f"EPSG:{element.get('epsgCode')}"
        elif element.get("ogcWktCode"):
            self.crs = system_in(str(element.get("ogcWktCode"))).crs

    def _numbers(self, text: str | None, line: int | None, widths: Sequence[int]) -> Floats:
        """Numbers of one element, in the units of the file, as many as *widths* states."""
        try:
            values = np.array((text or "").split(), np.float64)
        except ValueError as error:
            raise DataError(f"{self._where(line)}: {error}") from error
        if len(values) not in widths:
            raise DataError(f"{self._where(line)}: {widths[-1]} numbers expected, {len(values)} found")
        return self._finite(values, line)

    def _finite(self, values: Floats, line: int | None) -> Floats:
        if not (np.abs(values) <= _LARGEST).all():
            raise DataError(f"{self._where(line)}: a number is not finite or far too large to be a coordinate")
        return values * self.factor

    def _place(self, values: Floats) -> Floats:
        """Easting, northing, height from the order of the standard: northing, easting, height."""
        return np.array([values[1], values[0], values[2] if len(values) > 2 else np.nan])

    def _take_cgpoint(self, element: etree._Element) -> None:
        text, line = element.text, element.sourceline or 0
        name = element.get("name") or element.get("oID") or ""
        if not (text or "").strip() and element.get("pntRef"):
            return
        place = self._place(self._numbers(text, line, (2, 3)))
        code, description = element.get("code") or "", element.get("desc") or ""
        parent = element.getparent()
        group = (parent.get("name") or parent.get("desc") or "") if parent is not None else ""
        self.survey[name] = place
        row = (place, name, code or description, line, group, description if code else "")
        self.survey_rows.append(row)

    def _list(self, element: etree._Element, height: float = np.nan) -> Floats:
        """Places (k, 3) of the point list within an element."""
        holder = next((inner for inner in element if etree.QName(inner).localname.startswith("PntList")), None)
        if holder is None:
            what = etree.QName(element).localname.lower()
            raise DataError(f"{self._where(element.sourceline)}: a {what} without points")
        width = 3 if etree.QName(holder).localname == "PntList3D" else 2
        texts = (holder.text or "").split()
        if len(texts) % width or not texts:
            raise DataError(f"{self._where(element.sourceline)}: {len(texts)} numbers do not make points")
        rows = self._numbers(holder.text, element.sourceline, (len(texts),)).reshape(-1, width)
        z = rows[:, 2] if width == 3 else np.full(len(rows), height)
        return np.column_stack((rows[:, 1], rows[:, 0], z))

    def _take_boundary(self, element: etree._Element) -> None:
        effect = "keep" if element.get("bndType") == "outer" else "cut"
        self._add_source_line(element, self._list(element), "boundary", effect)

    def _take_breakline(self, element: etree._Element) -> None:
        self._add_source_line(element, self._list(element), "breakline", "breakline")

    def _take_contour(self, element: etree._Element) -> None:
        level = element.get("elev")
        height = float(self._numbers(level, element.sourceline, (1,))[0]) if level else np.nan
        self._add_source_line(element, self._list(element, height), "contour", "breakline")

    def _take_datapoints(self, element: etree._Element) -> None:
        if not len(element):
            return
        code = element.get("code") or element.get("name") or ""
        name, line = element.get("name") or "data point", element.sourceline or 0
        for k, place in enumerate(self._list(element), 1):
            self.survey_rows.append((place, f"{name} {k}", code, line, name, ""))

    def _take_chain(self, element: etree._Element) -> None:
        """A chain names survey points, or gives places; it waits until all points are known."""
        texts, line = (element.text or "").split(), element.sourceline
        name, described = element.get("name") or "chain", element.get("desc") or ""

        def finish() -> None:
            if texts and all(text in self.survey for text in texts):
                points = np.array([self.survey[text] for text in texts])
            elif texts and len(texts) % 3 == 0:
                rows = self._numbers(" ".join(texts), line, (len(texts),)).reshape(-1, 3)
                points = rows[:, [1, 0, 2]]
            else:
                reason = f"chain {name}: its {counted(len(texts), 'entry', 'entries')} are no points of the survey"
                self.refused.append(Refusal(self._where(line), reason))
                return
            if len(points) > 1:
                points, closed = closed_ring(points)
                self._add_line(name, points, closed, "chain", line, {"description": described} if described else {})

        self.pending.append(finish)

    def _add_source_line(self, element: etree._Element, points: Floats, kind: str, effect: str) -> None:
        points, closed = closed_ring(points)
        name = element.get("name") or kind
        description = element.get("desc") or ""
        where = self._where(element.sourceline)
        self.parts.lines.append(
            SourceLine(name=name, points=points, closed=closed, effect=effect, where=where, description=description)
        )
        values = {"effect": effect, **({"description": description} if description else {})}
        self._add_line(name, points, closed, kind, element.sourceline, values)

    def _add_line(
        self, name: str, points: Floats, closed: bool, kind: str, line: int | None, values: Mapping[str, str | float]
    ) -> None:
        shots = Shots.of_file(self.path.name, np.full(len(points), line or 0), "", name)
        self.lines.append(Line(name, points, shots, closed, {"kind": kind, "layer": kind, **values}))

    def _take_planfeature(self, element: etree._Element) -> None:
        self._take_geometry(element, "plan feature")

    def _take_alignment(self, element: etree._Element) -> None:
        self._take_geometry(element, "alignment")

    def _take_geometry(self, element: etree._Element, kind: str) -> None:
        """Join the pieces of a coordinate geometry; those that name survey points wait until all are known."""
        name, line, stated = element.get("name") or kind, element.sourceline, stated_chainage(element, self.factor)
        geometry = next((inner for inner in element if etree.QName(inner).localname == "CoordGeom"), None)
        pieces = [self._piece(piece) for piece in geometry] if geometry is not None else []

        def finish() -> None:
            places = [place for piece in pieces for place in piece()]
            if not places:
                self.notes.append(f"{kind} {name} has no geometry that can be read")
                return
            points = np.array(places)
            fresh = np.ones(len(points), np.bool_)
            fresh[1:] = (points[1:, :2] != points[:-1, :2]).any(axis=1)
            ring, closed = closed_ring(points[fresh])
            self._add_line(name, ring, closed, kind, line, with_own_length(stated, points))

        self.pending.append(finish)

    def _piece(self, piece: etree._Element) -> Callable[[], list[Floats]]:
        tag = etree.QName(piece).localname
        inside = {etree.QName(inner).localname: inner for inner in piece if isinstance(inner.tag, str)}
        ends = {name: self._end(inside[name]) for name in ("Start", "End", "Center") if name in inside}
        start, end, centre = ends.get("Start"), ends.get("End"), ends.get("Center")
        if start is None or end is None:
            return list
        between: list[Floats] = []
        if tag == "IrregularLine":
            between = list(self._list(piece))
        elif tag == "Spiral":
            self.notes.append("spirals are taken as straight from start to end")
        clockwise = piece.get("rot") == "cw"

        def places() -> list[Floats]:
            first, last = start(), end()
            if tag == "Curve" and centre is not None:
                return list(arc_through(first, last, centre()[:2], clockwise, self.how.chord))
            return [first, *between, last]

        return places

    def _end(self, element: etree._Element) -> Callable[[], Floats]:
        reference, line = element.get("pntRef"), element.sourceline
        if reference is None:
            if not (element.text or "").strip():
                return lambda: np.full(3, np.nan)
            place = self._place(self._numbers(element.text, line, (2, 3)))
            return lambda: place

        def named() -> Floats:
            if reference not in self.survey:
                raise DataError(f"{self._where(line)}: point {reference!r} is not there")
            return self.survey[reference]

        return named

    def _take_surface(self, element: etree._Element) -> None:
        parts, self.parts = self.parts, SurfaceParts(self.path.name)
        name, line = element.get("name") or "surface", element.sourceline or 0
        vertices = parts.vertices() * self.factor
        if not parts.has_faces:
            self.notes.append(f"surface {name} has no faces; its points are read as points")
            self.survey_rows += [(place, "", "", line, name, "") for place in vertices]
            return
        triangles = parts.triangles()
        if parts.missing:
            reason = f"it names a point that is not there, such as point {parts.first_missing!r}"
            self.refused.append(Refusal(f"{self.path.name} faces of surface {name}", reason, parts.missing))
        if not len(triangles):
            self.notes.append(f"surface {name} has no face whose points are there")
            return
        colour = next((p.get("value") or "" for p in element.iter("{*}Property") if p.get("label") == "colour"), "")
        stated = {"description": element.get("desc"), "kind": element.get("state"), "colour": colour}
        named = {key: value for key, value in stated.items() if value}
        bare = Surface.from_arrays(vertices, triangles, name=self._own_name(name), **named)
        # Breaklines come first in a surface's lines, boundaries after them.
        ordered = tuple(sorted(parts.lines, key=lambda line: line.is_ring))
        whole = replace(bare.with_lines(ordered, parts.provenance()), hidden=parts.hidden())
        placed = whole.renamed(units=self.units or "m", crs=self.crs or "local")
        self.surfaces.append(with_edges_of_lines(placed))

    def _own_name(self, name: str) -> str:
        """The name, with a number where another surface of the file has it."""
        taken = {surface.name for surface in self.surfaces}
        if name not in taken:
            return name
        own = next(f"{name} {k}" for k in range(2, len(taken) + 3) if f"{name} {k}" not in taken)
        self.notes.append(f"several surfaces are named {name}; this one is called {own}")
        return own

    def contents(self) -> Contents:
        for finish in self.pending:
            finish()
        if not self.parts.is_empty:
            raise DataError(f"{self.path}: points and faces outside any surface")
        form = f"LandXML {self.version}".strip()
        whole = Contents(
            self.path.name,
            form,
            self._survey_points(),
            tuple(self.lines),
            tuple(self.surfaces),
            refused=tuple(self.refused),
            notes=tuple(dict.fromkeys(self.notes)),
            stated=Stated(self.units, self.height_units, self.crs),
        )
        if whole.is_empty:
            refused = [f"{refusal.where}: {refusal.reason}" for refusal in whole.refused]
            remarks = "; ".join(("no surface, no point and no line in it", *whole.notes, *refused))
            raise DataError(f"{self.path}: {remarks}")
        return whole

    def _survey_points(self) -> Points:
        if not self.survey_rows:
            return Points.none()
        places, names, codes, lines, groups, described_as = zip(*self.survey_rows, strict=True)
        texts = (np.array(column, object) for column in (names, codes, described_as, groups))
        numbers, of_code, descriptions, of_group = texts
        shots = Shots.of_file(self.path.name, lines, numbers, of_code, descriptions=descriptions)
        columns: dict[str, Column] = {"kind": np.full(len(places), POINT, object)}
        if any(groups):
            columns["layer"] = of_group
        return Points(np.array(places), shots, columns=columns)
