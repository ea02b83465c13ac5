"""The points and faces of one surface while they stream past, kept as arrays a block at a time."""

from __future__ import annotations

import numpy as np
from lxml import etree

from evrin.base.errors import DataError
from evrin.formats.fast.landxml_blocks import FaceBlock, PointBlock
from evrin.kernels import Floats, Indices, Ints
from evrin.surface.provenance import Provenance, Shots
from evrin.surface.surface import SourceLine

_BLOCK = 100_000
_LARGEST = 1e12
Names = Indices | np.ndarray


class SurfaceParts:
    """What has streamed past of one surface: points, faces and source lines.

    Parameters
    ----------
    file : str
        Named in what is refused.
    """

    def __init__(self, file: str) -> None:
        self.file = file
        self.lines: list[SourceLine] = []
        self._points: list[tuple[str, str | None, int]] = []
        self._labels: list[tuple[str, str, str]] = []
        self._faces: list[str] = []
        self._hidden: list[str] = []
        self._hidden_corners: list[Indices] = []
        self._vertices: list[Floats] = []
        self._ids: list[Names] = []
        self._line_of: list[Indices] = []
        self._corners: list[Names] = []
        self._sides: list[Indices] = []
        self._is_labelled = False
        self.missing = 0
        self.first_missing = ""

    @property
    def is_empty(self) -> bool:
        """Whether neither a point nor a face has come."""
        return not (self._points or self._faces or self._vertices or self._corners)

    @property
    def has_faces(self) -> bool:
        """Whether a face has come that is not hidden."""
        return bool(self._faces or self._corners)

    def add_point(self, element: etree._Element) -> None:
        """Take in a point."""
        name, code, description = element.get("name"), element.get("code"), element.get("desc")
        if name or code or description:
            self._is_labelled = True
        # A description alone is used as a code.
        self._labels.append((name or "", code or description or "", (description or "") if code else ""))
        self._points.append((element.text or "", element.get("id"), element.sourceline or 0))
        if len(self._points) == _BLOCK:
            self._settle_points()

    def add_face(self, element: etree._Element) -> None:
        """Take in a face; one that is hidden apart from the rest."""
        if element.get("i") == "1":
            self._hidden.append(element.text or "")
            return
        self._faces.append(element.text or "")
        if len(self._faces) == _BLOCK:
            self._settle_faces()

    def take_points(self, block: PointBlock) -> None:
        """Take in points that were read together."""
        self._settle_points()
        self._ids.append(block.ids)
        self._line_of.append(block.line_of)
        self._vertices.append(block.numbers)
        if block.labels is None:
            self._labels += [("", "", "")] * len(block.ids)
            return
        self._is_labelled = True
        self._labels += [
            (name, code or description, description if code else "")
            for name, code, description in zip(*block.labels, strict=True)
        ]

    def take_faces(self, block: FaceBlock) -> None:
        """Take in faces that were read together."""
        self._settle_faces()
        if len(block.sides):
            self._sides.append(block.sides)
            self._corners.append(block.corners)
        self._hidden_corners.append(block.hidden)

    def _settle_points(self) -> None:
        if not self._points:
            return
        texts, ids, lines = zip(*self._points, strict=True)
        self._points.clear()
        first = sum(map(len, self._ids)) + 1
        self._ids.append(_names([name or str(k) for k, name in enumerate(ids, first)]))
        self._line_of.append(np.array(lines, np.int64))
        self._vertices.append(self._numbers(texts, lines))

    def _numbers(self, texts: tuple[str, ...], lines: tuple[int, ...]) -> Floats:
        counts = [len(text.split()) for text in texts]
        if set(counts) != {3}:
            row = next(row for row, count in enumerate(counts) if count != 3)
            raise DataError(f"{self.file} line {lines[row]}: 3 numbers expected, {counts[row]} found")
        try:
            values = np.array(" ".join(texts).split(), np.float64).reshape(-1, 3)
        except ValueError as error:
            raise DataError(f"{self.file} from line {lines[0]} on: {error}") from error
        bad = ~(np.abs(values) <= _LARGEST).all(axis=1)
        if bad.any():
            row = int(np.flatnonzero(bad)[0])
            raise DataError(f"{self.file} line {lines[row]}: {texts[row].strip()!r} is not a place")
        return values

    def _settle_faces(self) -> None:
        if not self._faces:
            return
        sides = np.array([len(text.split()) for text in self._faces], np.int64)
        odd = np.flatnonzero((sides != 3) & (sides != 4))
        if len(odd):
            number = sum(map(len, self._sides)) + int(odd[0]) + 1
            raise DataError(f"{self.file}: face {number} of a surface has {sides[odd[0]]} points instead of 3")
        self._sides.append(sides)
        self._corners.append(_names(" ".join(self._faces).split()))
        self._faces.clear()

    def vertices(self) -> Floats:
        """Return the points (n, 3): easting, northing, height, in the units of the file."""
        self._settle_points()
        rows = np.concatenate([np.empty((0, 3)), *self._vertices])
        return np.ascontiguousarray(rows[:, [1, 0, 2]])

    def triangles(self) -> Ints:
        """Return the triangles (m, 3); faces of four corners are cut in two.

        One that names a point that is not there is left out, counted in ``missing``, and the point of the first named.
        """
        self._settle_points()
        self._settle_faces()
        names = _joined(self._corners)
        corners = self._rows_of(names, _joined(self._ids))
        if (corners < 0).any():
            self.first_missing = str(names[int(np.argmin(corners))])
        sides = np.concatenate(self._sides)
        starts = np.cumsum(sides) - sides
        is_whole = np.minimum.reduceat(corners, starts) >= 0 if len(starts) else np.empty(0, np.bool_)
        self.missing += int((~is_whole).sum())
        whole = corners[starts[is_whole][:, None] + np.arange(3)]
        four = starts[is_whole & (sides == 4)]
        return np.concatenate((whole, corners[four[:, None] + np.array([0, 2, 3])])).astype(np.int32)

    def hidden(self) -> Ints:
        """Return the faces of three points (h, 3) that are hidden; others that are hidden are left out."""
        self._settle_points()
        rows = [text.split() for text in self._hidden]
        corner_names = [name for row in rows if len(row) == 3 for name in row]
        names = _joined([*self._hidden_corners, *([_names(corner_names)] if corner_names else [])])
        if not len(names):
            return np.empty((0, 3), np.int32)
        corners = self._rows_of(names, _joined(self._ids)).reshape(-1, 3)
        return corners[(corners >= 0).all(axis=1)].astype(np.int32)

    def _rows_of(self, names: Names, ids: Names) -> Indices:
        """The row of the point of each name, -1 where there is none."""
        if names.dtype == np.int64 and ids.dtype == np.int64 and (ids == np.arange(1, len(ids) + 1)).all():
            return np.where((names < 1) | (names > len(ids)), -1, names - 1)
        number = {str(name): row for row, name in enumerate(ids.tolist())}
        if len(number) < len(ids):
            again = next(name for row, name in enumerate(ids.tolist()) if number[str(name)] != row)
            raise DataError(f"{self.file}: two points of a surface have the id '{again}'")
        return np.array([number.get(str(name), -1) for name in names.tolist()], np.int64)

    def provenance(self) -> Provenance | None:
        """Return the names and codes of the points, where any has one."""
        if not self._is_labelled:
            return None
        numbers, codes, descriptions = (np.array(texts, object) for texts in zip(*self._labels, strict=True))
        lines = np.concatenate(self._line_of)
        shots = Shots.of_file(self.file, lines, numbers, codes, descriptions=descriptions)
        return Provenance(shots, np.arange(len(self._labels), dtype=np.int32))


def _names(texts: list[str]) -> Names:
    """Names as whole numbers where all of them are written as such, as texts otherwise."""
    try:
        numbers = np.array(texts, np.int64)
    except (ValueError, OverflowError):
        return np.array(texts, object)
    # A name such as 007 is not the number 7.
    plain = not any(text[0] in "0+-" and len(text) > 1 for text in texts)
    return numbers if plain else np.array(texts, object)


def _joined(parts: list[Names]) -> Names:
    if not parts:
        return np.empty(0, np.int64)
    if len({part.dtype for part in parts}) > 1:
        return np.concatenate([part.astype(object) for part in parts])
    return np.concatenate(parts)


def closed_ring(points: Floats) -> tuple[Floats, bool]:
    """Return places without one that repeats the first at the end, and whether there was one."""
    closed = len(points) > 3 and bool((points[0, :2] == points[-1, :2]).all())
    return (points[:-1] if closed else points), closed
