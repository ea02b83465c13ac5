"""Reading DXF drawings, an entity at a time: points, blocks, texts, lines, curves and faces, layer by layer."""

from __future__ import annotations

import tempfile
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, cast

import numpy as np

from evrin.base.errors import DataError
from evrin.base.tolerances import FILE_METRES, METRES
from evrin.base.wording import counted
from evrin.formats.door.format_registry import Format, How, package, register
from evrin.formats.drawing.drawing_blocks import Blocks
from evrin.formats.drawing.drawing_prelude import Prelude, is_binary, prelude_of
from evrin.formats.drawing.drawing_symbols import with_symbols
from evrin.formats.drawing.drawing_writing import write_contours, write_lines, write_surface
from evrin.formats.fast.drawing_streams import DOT, FACE, SEGMENT, Streamed, streamed
from evrin.kernels import Floats
from evrin.making.shared_vertices import welded
from evrin.surface.frame import Stated
from evrin.surface.provenance import Shots
from evrin.survey.contents import BLOCK, POINT, TEXT, Contents, Line, Points, Refusal, Value

if TYPE_CHECKING:
    from ezdxf.entities import (
        Arc,
        Circle,
        DXFGraphic,
        Ellipse,
        Face3d,
        Insert,
        LWPolyline,
        Mesh,
        MText,
        Point,
        Polyline,
        Solid,
        Spline,
        Text,
    )
    from ezdxf.entities import Line as LineEntity
    from ezdxf.math import Vec3
    from ezdxf.path import Path as CurvePath

_LARGEST = 1e12
_TOO_FAR = "a coordinate is not finite or far too large"
_LARGEST_HANDLE = 2**63 - 1  # row numbers are signed
_SPLINE_FRAME, _NAMED = 16, 8
# As a part of a curve's size: at most some 3,500 vertices around a circle.
_LEAST_CHORD = 1e-7


def read(path: Path, how: How) -> Contents:
    """Read the model space of a drawing; layouts for printing are ignored.

    A block that is the symbol of a point, or has attributes, is a point at its insertion, its attributes columns under
    their own tags; of any other, what it holds is taken as if it were drawn there. Curves become lines that stray
    from them by no more than ``how.chord``. Faces of one layer are a surface named after it.

    Raises
    ------
    DataError
        Where the drawing is broken or cut short.
    MissingPackageError
        Without the package for drawings.
    """
    package("ezdxf")
    prelude = prelude_of(path)
    taken = _Taken(path, how, FILE_METRES.get(prelude.unit, 1.0))
    stream = None if is_binary(path) else streamed(path)
    if stream is None:
        taken.take_all(path, prelude)
        return with_symbols(taken.contents(prelude))
    entities, rest = stream
    taken.take_streamed(entities)
    if rest is not None:
        with tempfile.TemporaryDirectory(prefix="evrin-") as folder:
            left = Path(folder) / path.name
            left.write_bytes(rest)
            taken.take_all(left, prelude)
    return with_symbols(taken.contents(prelude))


def _entities(path: Path, prelude: Prelude) -> Iterator[DXFGraphic]:
    """The entities of the model space; with the whole document behind them where blocks hold something."""
    if prelude.has_contents:
        try:
            document = package("ezdxf").readfile(path)
        except package("ezdxf").DXFError:
            if is_binary(path):
                raise
        else:
            yield from document.modelspace()
            return
    yield from package("ezdxf.addons.iterdxf").modelspace(path)


class _Taken:
    """What has been taken from a drawing so far."""

    def __init__(self, path: Path, how: How, metres: float) -> None:
        self.path, self.how = path, how
        self.blocks = Blocks(path.name, metres)
        self.tags: dict[str, dict[str, str]] = {}
        self.rows: list[tuple[float, float, float, int, str]] = []
        self.facts: list[dict[str, Value]] = []
        self.lines: list[Line] = []
        self.faces: dict[str, list[Floats]] = {}
        self.squares: dict[str, list[tuple[float, ...]]] = {}
        self.streamed_squares: dict[str, Floats] = {}
        self.ignored: Counter[str] = Counter()
        self.refused: list[Refusal] = []
        self.numbers: Counter[str] = Counter()
        self.count = 0

    def take_all(self, path: Path, prelude: Prelude) -> None:
        """Take every entity of the model space of a drawing."""
        for entity in _entities(path, prelude):
            self.take(entity)

    def take_streamed(self, entities: dict[int, Streamed]) -> None:
        """Take plain entities that were read as they streamed by."""
        for layer, corners in entities[FACE].by_layer() if FACE in entities else ():
            self.squares[layer], self.streamed_squares[layer] = [], corners
        for kind, named in ((DOT, "POINT"), (SEGMENT, "LINE")):
            if kind not in entities:
                continue
            rows = entities[kind]
            layers = [rows.layers[k] for k in rows.layer_of.tolist()]
            for layer, handle, corners in zip(layers, rows.handles.tolist(), rows.corners, strict=True):
                try:
                    if kind == DOT:
                        self._spot(corners[0].tolist(), handle, layer, POINT)
                    else:
                        self._add(list(corners), layer, handle, "line")
                except ValueError as error:
                    where = f"{self.path.name} entity {handle:X} ({named}, layer {layer})"
                    self.refused.append(Refusal(where, str(error)))

    def take(self, entity: DXFGraphic) -> None:
        """Take in one entity, or note why it cannot be used."""
        self.count += 1
        self._take(entity, str(entity.dxf.layer), self._handle(entity), 0)

    def _take(self, entity: DXFGraphic, layer: str, handle: int, depth: int) -> None:
        kind = entity.dxftype()
        taker = getattr(self, f"_{kind.lower()}" if kind[0] != "3" else f"_face_{kind[2:].lower()}", None)
        try:
            if kind == "INSERT":
                self._take_insert(cast("Insert", entity), layer, handle, depth)
            elif taker is not None:
                taker(entity, layer, handle)
            else:
                self.ignored[kind] += 1
        except DataError:
            raise
        except (package("ezdxf").DXFError, ValueError, TypeError, ArithmeticError) as error:
            self._refuse(entity, layer, handle, " ".join(str(error).split())[:120])

    def _take_insert(self, entity: Insert, layer: str, handle: int, depth: int) -> None:
        """Take an insertion as a point where it marks one or has attributes, and else what the block holds."""
        for insert, contents, is_symbol in self.blocks.insertions(entity, depth):
            if is_symbol or insert.attribs:
                self._block(insert, layer, handle)
            for each in () if is_symbol else contents:
                # As when the drawing is exploded: what is on layer 0 of a block stays there.
                self._take(each, str(each.dxf.layer), handle, depth + 1)

    def _handle(self, entity: DXFGraphic) -> int:
        with suppress(TypeError, ValueError):
            number = int(entity.dxf.handle, 16)
            if number <= _LARGEST_HANDLE:
                return number
        return self.count

    def _refuse(self, entity: DXFGraphic, layer: str, handle: int, reason: str) -> None:
        where = f"{self.path.name} entity {handle:X} ({entity.dxftype()}, layer {layer})"
        self.refused.append(Refusal(where, reason))

    def _spot(self, place: Iterable[float], handle: int, layer: str, kind: str, **facts: Value) -> None:
        x, y, z = (float(value) for value in place)
        if not all(abs(value) <= _LARGEST for value in (x, y, z)):
            raise ValueError(_TOO_FAR)
        self.rows.append((x, y, z, handle, str(facts.get("name", ""))))
        self.facts.append({"layer": layer, "kind": kind, **facts})

    def _point(self, entity: Point, layer: str, handle: int) -> None:
        self._spot(entity.dxf.location, handle, layer, POINT)

    def _block(self, entity: Insert, layer: str, handle: int) -> None:
        place = entity.ocs().to_wcs(entity.dxf.insert)
        stated = {str(attrib.dxf.tag): str(attrib.dxf.text) for attrib in entity.attribs}
        own = {f"{tag}_" if tag in ("layer", "kind", "name", "text") else tag: text for tag, text in stated.items()}
        for tag, text in stated.items():
            self.tags.setdefault(str(entity.dxf.name), {}).setdefault(tag, text)
        self._spot(place, handle, layer, BLOCK, name=str(entity.dxf.name), **own)

    def _text(self, entity: Text, layer: str, handle: int) -> None:
        place = entity.ocs().to_wcs(entity.dxf.insert)
        height = float(entity.dxf.height)
        self._spot(place, handle, layer, TEXT, text=str(entity.plain_text()).strip(), letter_height=height)

    def _mtext(self, entity: MText, layer: str, handle: int) -> None:
        text = " ".join(str(entity.plain_text()).split())
        height = float(entity.dxf.char_height)
        self._spot(entity.dxf.insert, handle, layer, TEXT, text=text, letter_height=height)

    def _line(self, entity: LineEntity, layer: str, handle: int) -> None:
        self._add([entity.dxf.start, entity.dxf.end], layer, handle, "line")

    def _lwpolyline(self, entity: LWPolyline, layer: str, handle: int) -> None:
        if entity.has_arc:
            vertices = self._flattened(entity)
        elif entity.dxf.hasattr("extrusion") and tuple(entity.dxf.extrusion) != (0.0, 0.0, 1.0):
            vertices = list(entity.vertices_in_wcs())
        else:
            z = float(entity.dxf.elevation)
            vertices = [(x, y, z) for x, y in entity.get_points("xy")]
        self._add(vertices, layer, handle, "polyline 2-D", bool(entity.closed))

    def _polyline(self, entity: Polyline, layer: str, handle: int) -> None:
        if entity.is_poly_face_mesh or entity.is_polygon_mesh:
            self._mesh_of(entity, layer)
            return
        if entity.is_3d_polyline:
            # The frame of a smoothed line is not part of it.
            kept = [v.dxf.location for v in entity.vertices if not v.dxf.flags & _SPLINE_FRAME]
            self._add(kept, layer, handle, "polyline 3-D", bool(entity.is_closed))
            return
        vertices = self._flattened(entity) if entity.has_arc else list(entity.points_in_wcs())
        self._add(vertices, layer, handle, "polyline 2-D", bool(entity.is_closed))

    def _flattened(self, entity: LWPolyline | Polyline) -> list[Vec3]:
        path = package("ezdxf.path").make_path(entity)
        return list(path.flattening(self._chord(path), 16))

    def _chord(self, path: CurvePath) -> float:
        """The chord asked for, or more on a curve so large that it would give many thousands of vertices."""
        places = np.array([tuple(vertex) for vertex in path.control_vertices()], np.float64).reshape(-1, 3)
        return max(self.how.chord, _LEAST_CHORD * float(np.ptp(places, axis=0).max(initial=0.0)))

    def _curve(self, entity: Arc | Circle | Ellipse | Spline, layer: str, handle: int) -> None:
        kind = {"CIRCLE": "circle", "ELLIPSE": "ellipse", "SPLINE": "spline"}.get(entity.dxftype(), "arc")
        path = package("ezdxf.path").make_path(entity)
        vertices = list(entity.flattening(self._chord(path)))
        closed = len(vertices) > 3 and vertices[0].isclose(vertices[-1])
        self._add(vertices[:-1] if closed else vertices, layer, handle, kind, closed)

    _arc = _circle = _ellipse = _spline = _curve

    def _add(
        self, vertices: Sequence[Iterable[float]], layer: str, handle: int, kind: str, closed: bool = False
    ) -> None:
        xyz = np.array([tuple(vertex) for vertex in vertices], np.float64).reshape(-1, 3)
        if not (np.abs(xyz) <= _LARGEST).all():
            raise ValueError(_TOO_FAR)
        if len(xyz) > 3 and (xyz[0, :2] == xyz[-1, :2]).all():
            xyz, closed = xyz[:-1], True
        if len(xyz) < 2:
            raise ValueError(f"a line of {counted(len(xyz), 'vertex', 'vertices')}")
        self.numbers[layer] += 1
        name = f"{layer} {self.numbers[layer]}"
        shots = Shots.of_file(self.path.name, np.full(len(xyz), handle), "", layer, "entity")
        values = {"layer": layer, "kind": kind}
        self.lines.append(Line(name, xyz, shots, closed and len(xyz) > 2, values))

    def _face_face(self, entity: Face3d, layer: str, handle: int) -> None:
        dxf = entity.dxf
        # Four corners as plain numbers, of which a triangle repeats its third: a drawing holds hundreds of thousands.
        self.squares.setdefault(layer, []).append((*dxf.vtx0, *dxf.vtx1, *dxf.vtx2, *dxf.vtx3))

    def _solid(self, entity: Solid, layer: str, handle: int) -> None:
        self._add_face(np.array([tuple(corner) for corner in entity.wcs_vertices()], np.float64), layer)

    def _mesh(self, entity: Mesh, layer: str, handle: int) -> None:
        vertices = np.array([tuple(vertex) for vertex in entity.vertices], np.float64)
        for face in entity.faces:
            self._add_face(vertices[list(face)], layer)

    def _mesh_of(self, entity: Polyline, layer: str) -> None:
        builder = package("ezdxf.render.mesh").MeshBuilder
        mesh = builder.from_polyface(entity)
        vertices = np.array([tuple(vertex) for vertex in mesh.vertices], np.float64)
        for face in mesh.faces:
            self._add_face(vertices[list(face)], layer)

    def _add_face(self, corners: Floats, layer: str) -> None:
        if not (np.abs(corners) <= _LARGEST).all():
            raise ValueError(_TOO_FAR)
        self.faces.setdefault(layer, []).append(_fan(corners[None]))

    def _cut_squares(self) -> None:
        """Cut faces of four corners in two, and those of three once."""
        for layer, rows in self.squares.items():
            streamed = self.streamed_squares.get(layer, np.empty((0, 4, 3)))
            corners = np.concatenate((streamed, np.array(rows, np.float64).reshape(-1, 4, 3)))
            good = (np.abs(corners) <= _LARGEST).all(axis=(1, 2))
            if not good.all():
                self.refused.append(Refusal(f"{self.path.name} faces of layer {layer}", _TOO_FAR, int((~good).sum())))
            corners = corners[good]
            is_square = (corners[:, 2] != corners[:, 3]).any(axis=1)
            parts = [corners[~is_square][:, :3], _fan(corners[is_square])]
            self.faces.setdefault(layer, []).extend(part for part in parts if len(part))

    def contents(self, prelude: Prelude) -> Contents:
        """Return all that was taken."""
        notes = [f"{counted(count, kind)} ignored" for kind, count in sorted(self.ignored.items())]
        notes += self._about_blocks()
        notes += prelude.notes()
        surfaces = []
        self._cut_squares()
        for layer, faces in self.faces.items():
            if not faces:
                continue
            colour = prelude.colours.get(layer, "")
            try:
                surface, _, dropped = welded(np.concatenate(faces), name=layer, colour=colour)
            except DataError:
                self.refused.append(Refusal(f"{self.path.name} layer {layer}", "no face has three different corners"))
                continue
            surfaces.append(surface.renamed(units=prelude.unit if prelude.unit in METRES else "m"))
            if dropped:
                notes.append(f"layer {layer}: {counted(dropped, 'face')} with two equal corners ignored")
        whole = Contents(
            file=self.path.name,
            form=f"DXF drawing {prelude.version}",
            points=self._points(),
            lines=tuple(self.lines),
            surfaces=tuple(surfaces),
            refused=tuple(self.refused),
            notes=tuple(notes),
            stated=Stated(hinted_units=prelude.unit),
            hidden=prelude.hidden,
            is_loose=True,
        )
        if whole.is_empty and not self.refused:
            raise DataError(f"{self.path}: the drawing holds nothing that could go into a surface")
        return whole

    def _about_blocks(self) -> Iterator[str]:
        blocks = self.blocks
        if blocks.opened.total():
            several = counted(sum(blocks.opened.values()), "insertion")
            named = ", ".join(sorted(+blocks.opened)[:_NAMED])
            yield f"the contents of blocks are taken at their places: {several} of {named}"
        for name, tags in sorted(self.tags.items())[:_NAMED]:
            attributes = ", ".join(f"{tag} (such as {text!r})" for tag, text in tags.items())
            yield f"block {name} has the attributes {attributes}"
        for name, count in sorted(blocks.missing.items()):
            yield f"{counted(count, 'insertion')} of block {name}, which the drawing does not hold"

    def _points(self) -> Points:
        if not self.rows:
            return Points.none()
        x, y, z, handles, names = zip(*self.rows, strict=True)
        columns = {}
        for key in dict.fromkeys(key for facts in self.facts for key in facts):
            columns[key] = np.empty(len(self.rows), object)
            columns[key][:] = [facts.get(key, "") for facts in self.facts]
        codes = np.array(names, object)
        shots = Shots.of_file(self.path.name, handles, "", codes, "entity")
        return Points(np.column_stack((x, y, z)).astype(np.float64), shots, columns=columns)


def _fan(corners: Floats) -> Floats:
    """Cut polygons (n, k, 3) into triangles (m, 3, 3) round their first corners."""
    return np.concatenate([corners[:, [0, k, k + 1]] for k in range(1, corners.shape[1] - 1)])


def _is_drawing(head: bytes, size: int) -> bool:
    if b" Binary DXF" in head[:32]:
        return True
    rows = head.removeprefix(b"\xef\xbb\xbf").split(b"\n")
    while len(rows) > 2 and rows[0].strip() == b"999":
        rows = rows[2:]
    return len(rows) > 1 and rows[0].strip() == b"0" and rows[1].strip() == b"SECTION"


register(
    Format(
        name="DXF",
        extensions=(".dxf",),
        is_it=_is_drawing,
        read=read,
        write_surface=write_surface,
        write_parts=write_surface,
        write_contours=write_contours,
        write_lines=write_lines,
        packages=("ezdxf",),
    )
)
