"""Labels along contours: where they are, how they are turned, and what of the lines they leave to be seen."""

from __future__ import annotations

import math
from collections import defaultdict
from dataclasses import dataclass

import numpy as np

from evrin.analysis.contours.contour_lines import Contours
from evrin.base.errors import DataError
from evrin.kernels import FloatRows, Floats, Indices, Ints, Mutable, inner, kernel

# A digit of the usual fonts takes up about this much of its height along the line.
_DIGIT_WIDTH = 0.88
_MARGIN = 0.35
_TRIES = (0.0, 0.1, -0.1, 0.2, -0.2, 0.3, -0.3, 0.4, -0.4)
_STRAIGHTEST, _DOWNHILL = 0.9, 0.3
_MOST_CUTS = 32
_MOST_CELLS = 4_000_000


@dataclass(frozen=True, eq=False)
class ContourLabels:
    """Texts along contours.

    Attributes
    ----------
    places : (k, 2) float64
        Middle of each.
    angles_deg : (k,) float64
        Turned anticlockwise from the easting axis, -90 to 90, so that each is upright.
    texts : list of str
        What each label states.
    boxes : (k, 2) float64
        Width and height of the ground that each covers, its margin included.
    line_of : (k,) int64
        Contour of each.
    faces_uphill : (k,) bool
        Whether the top of the text is on the high side; where a line allows it, it is.

    Examples
    --------
    >>> import evrin
    >>> field = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]], name="field")
    >>> from evrin.analysis import contour_labels
    >>> contour_labels(field.contours(0.5), 5.0, 0.2, index_only=False).texts
    ['1.5', '2']
    """

    places: Floats
    angles_deg: Floats
    texts: list[str]
    boxes: Floats
    line_of: Indices
    faces_uphill: np.ndarray

    def __len__(self) -> int:
        return len(self.texts)


def contour_labels(
    contours: Contours,
    spacing: float,
    height: float,
    *,
    window: tuple[float, float, float, float] | None = None,
    index_only: bool = True,
    between: bool = False,
) -> ContourLabels:
    """Return labels along contours at a spacing, none over another.

    Each is moved along its line, by up to two fifths of the spacing, to where the line is straight and where the text,
    its top uphill, is upright as well; where there is no such place it is upright.

    Parameters
    ----------
    contours : Contours
        The contours to label.
    spacing : float
        Plan distance between labels of one line.
    height : float
        Height of the digits, in units of the ground.
    window : (west, south, east, north), optional
        Labels lie within it.
    index_only : bool
        Whether only index contours have labels.
    between : bool
        Whether other contours have labels where there is none within the spacing, as where no index contour passes.

    Returns
    -------
    ContourLabels

    Raises
    ------
    DataError
        For a spacing or a height that is not above 0.

    Examples
    --------
    >>> import evrin
    >>> ramp = evrin.triangulate([[0, 0, 0], [90, 0, 0], [90, 90, 2], [0, 90, 2]])
    >>> labels = contour_labels(ramp.contours(levels=[1], index=1), spacing=50, height=2)
    >>> labels.texts, labels.places.tolist(), labels.angles_deg.tolist()
    (['1'], [[45.0, 45.0]], [0.0])
    """
    if not (spacing > 0.0 and height > 0.0):
        raise DataError(f"labels need a spacing and a height above 0; they are {spacing:g} and {height:g}")
    layout = _LabelLayout(height, window)
    lengths = contours.lengths
    for number in np.argsort(-lengths, kind="stable").tolist():
        line = contours[number]
        if line.is_index or not index_only:
            layout.label(number, line.points, _text(line.level), float(lengths[number]), spacing)
    if between and index_only:
        for number in np.argsort(-lengths, kind="stable").tolist():
            line = contours[number]
            if not line.is_index:
                layout.label(number, line.points, _text(line.level), float(lengths[number]), spacing, apart=spacing)
    return layout.labels()


def check_labels(height: float | None, spacing: float | None) -> None:
    """Refuse invalid sizes of labels.

    Raises
    ------
    DataError
        For a height or a spacing that is not above 0, or of more than a thousand kilometres.
    """
    for what, value in (("height", height), ("spacing", spacing)):
        if value is not None and not 1e-3 <= value <= 1e6:
            raise DataError(f"the {what} of labels must be from 0.001 to 1,000,000; it is {value:g}")


def _text(level: float) -> str:
    return f"{level:.6f}".rstrip("0").rstrip(".")


class _LabelLayout:
    """Labels placed so far, by cell, so that a new one meets only those near it."""

    def __init__(self, height: float, window: tuple[float, float, float, float] | None) -> None:
        self._height = height
        self._window = window
        self._rows: list[tuple[float, float, float, float, float, int, bool]] = []
        self._texts: list[str] = []
        self._cells: dict[tuple[int, int], list[int]] = defaultdict(list)
        self._cell = 12.0 * height
        # By wider cells, once labels have to be apart.
        self._apart = 0.0
        self._wide: dict[tuple[int, int], list[tuple[float, float]]] = defaultdict(list)

    def label(self, number: int, points: Floats, text: str, length: float, spacing: float, apart: float = 0.0) -> None:
        """Place all labels of one line, those only that are as far as *apart* from any other."""
        width = (len(text) * _DIGIT_WIDTH + 2.0 * _MARGIN) * self._height
        if length < 1.5 * width:
            return
        along = np.concatenate(([0.0], np.cumsum(np.hypot(*np.diff(points, axis=0).T))))
        count = max(1, int(length / max(spacing, 2.0 * width)))
        middles = (np.arange(count) + 0.5) * length / count
        reach = min(spacing, length / count)
        tried = middles[:, None] + reach * np.array(_TRIES)
        start, x, end = (_at(along, points, tried + s * width / 2.0) for s in (-1.0, 0.0, 1.0))
        chord = end - start
        straight = np.hypot(chord[..., 0], chord[..., 1]) / width
        # High ground is on the right of a contour, so reading against it puts the top of the text uphill.
        uphill = np.degrees(np.arctan2(-chord[..., 1], -chord[..., 0]))
        upright = (uphill + 90.0) % 180.0 - 90.0
        faces = np.abs((uphill - upright + 180.0) % 360.0 - 180.0) < 1.0
        inside = (tried > width / 2.0) & (tried < length - width / 2.0) & (straight >= _STRAIGHTEST)
        cost = 2.0 * (1.0 - straight) + np.where(faces, 0.0, _DOWNHILL) + 0.2 * np.abs(np.array(_TRIES))
        for k in range(count):
            for j in np.argsort(cost[k], kind="stable").tolist():
                # The middle of the chord runs through a bend more evenly than a place on the line.
                place = (start[k, j] + end[k, j]) / 4.0 + x[k, j] / 2.0
                row = (*place.tolist(), float(upright[k, j]), width, self._height * (1.0 + _MARGIN), number)
                if inside[k, j] and self._is_free(row) and self._is_lonely(place, apart):
                    self._add((*row, bool(faces[k, j])), text)
                    break

    def _is_lonely(self, place: Floats, apart: float) -> bool:
        if not apart:
            return True
        if apart != self._apart:
            self._apart, self._wide = apart, defaultdict(list)
            for row in self._rows:
                self._wide[int(row[0] // apart), int(row[1] // apart)].append((row[0], row[1]))
        x, y = place.tolist()
        column, line = int(x // apart), int(y // apart)
        near = (at for i in (-1, 0, 1) for j in (-1, 0, 1) for at in self._wide.get((column + i, line + j), ()))
        return all((x - a) ** 2 + (y - b) ** 2 >= apart * apart for a, b in near)

    def _is_free(self, row: tuple[float, float, float, float, float, int]) -> bool:
        corners = _corners(*row[:5])
        if self._window is not None:
            west, south, east, north = self._window
            x, y = corners.T
            if x.min() < west or y.min() < south or x.max() > east or y.max() > north:
                return False
        column, line = int(row[0] // self._cell), int(row[1] // self._cell)
        near = [k for i in (-1, 0, 1) for j in (-1, 0, 1) for k in self._cells.get((column + i, line + j), ())]
        return not any(_overlap(corners, _corners(*self._rows[k][:5])) for k in near)

    def _add(self, row: tuple[float, float, float, float, float, int, bool], text: str) -> None:
        self._cells[int(row[0] // self._cell), int(row[1] // self._cell)].append(len(self._rows))
        self._rows.append(row)
        if self._apart:
            self._wide[int(row[0] // self._apart), int(row[1] // self._apart)].append((row[0], row[1]))
        self._texts.append(text)

    def labels(self) -> ContourLabels:
        """All labels placed."""
        rows = np.array([row[:5] for row in self._rows], np.float64).reshape(-1, 5)
        return ContourLabels(
            places=rows[:, :2],
            angles_deg=rows[:, 2],
            texts=self._texts,
            boxes=rows[:, 3:],
            line_of=np.array([row[5] for row in self._rows], np.int64),
            faces_uphill=np.array([row[6] for row in self._rows], np.bool_),
        )


def _at(along: Floats, points: Floats, wanted: Floats) -> Floats:
    return np.stack([np.interp(wanted, along, points[:, k]) for k in range(2)], axis=-1)


def _corners(x: float, y: float, angle_deg: float, width: float, height: float) -> Floats:
    angle = np.radians(angle_deg)
    along = np.array([np.cos(angle), np.sin(angle)]) * width / 2.0
    across = np.array([-np.sin(angle), np.cos(angle)]) * height / 2.0
    return np.array([x, y]) + np.stack((along + across, along - across, -along - across, across - along))


def _overlap(one: Floats, other: Floats) -> bool:
    """Return whether two rectangles overlap: no side of either parts them."""
    for corners in (one, other):
        for axis in (corners[1] - corners[0], corners[2] - corners[1]):
            a, b = one @ axis, other @ axis
            if a.max() <= b.min() or b.max() <= a.min():
                return False
    return True


def around_labels(contours: Contours, labels: ContourLabels) -> tuple[Floats, Indices, Ints]:
    """Return what of the contours can be seen round their labels.

    Returns
    -------
    points : (q, 2) float64
    starts : (r + 1,) int64
        Piece *i* is ``points[starts[i]:starts[i + 1]]``.
    line_of : (r,) int32
        Contour of each piece.
    """
    if len(labels) == 0:
        return contours.points, contours.starts, np.arange(len(contours), dtype=np.int32)
    cell = 1.01 * float(np.hypot(*labels.boxes.max(axis=0)))
    low = labels.places.min(axis=0) - cell
    span = labels.places.max(axis=0) + cell - low
    cell = max(cell, float(np.sqrt(span[0] * span[1] / _MOST_CELLS)))
    columns, rows = (int(s / cell) + 1 for s in span)
    at = ((labels.places - low) / cell).astype(np.int64)
    cells = at[:, 1] * columns + at[:, 0]
    order = np.argsort(cells, kind="stable")
    first = np.searchsorted(cells[order], np.arange(rows * columns + 1))
    frame = np.column_stack((labels.places, np.radians(labels.angles_deg), labels.boxes / 2.0))[order]
    nothing = (np.empty((0, 2)), np.empty(0, np.int64), np.empty(0, np.int32))
    size, count = _cut_lines(contours.points, contours.starts, frame, first, low, cell, columns, rows, *nothing)
    out = (np.empty((size, 2)), np.empty(count, np.int64), np.empty(count, np.int32))
    _cut_lines(contours.points, contours.starts, frame, first, low, cell, columns, rows, *out)
    return out[0], np.concatenate((np.zeros(1, np.int64), out[1])), out[2]


@inner
def _hidden(frame: FloatRows, k: int, ax: float, ay: float, bx: float, by: float) -> tuple[float, float]:
    """Parts of a segment between which it lies under a label; the first is the larger where it does not."""
    cosine, sine = math.cos(frame[k, 2]), math.sin(frame[k, 2])
    begin, end = 0.0, 1.0
    for axis in range(2):
        ux, uy = (cosine, sine) if axis == 0 else (-sine, cosine)
        a = (ax - frame[k, 0]) * ux + (ay - frame[k, 1]) * uy
        d = (bx - ax) * ux + (by - ay) * uy
        half = frame[k, 3 + axis]
        if d == 0.0:
            if abs(a) >= half:
                return 1.0, 0.0
            continue
        one, other = (-half - a) / d, (half - a) / d
        begin, end = max(begin, min(one, other)), min(end, max(one, other))
    return begin, end


@kernel
def _cut_lines(
    points: FloatRows,
    starts: Indices,
    frame: FloatRows,
    first: Indices,
    low: Floats,
    cell: float,
    columns: int,
    rows: int,
    out: Mutable[FloatRows],
    ends: Mutable[Indices],
    line_of: Mutable[Ints],
) -> tuple[int, int]:
    """Write the pieces of lines outside labels; return how many places and pieces there are, written or not."""
    write = ends.shape[0] > 0
    size = count = 0
    cuts = np.empty((_MOST_CUTS, 2))
    for line in range(starts.shape[0] - 1):
        is_open = False
        for i in range(starts[line], starts[line + 1] - 1):
            ax, ay, bx, by = points[i, 0], points[i, 1], points[i + 1, 0], points[i + 1, 1]
            cut_count = 0
            west, east = int((min(ax, bx) - low[0]) / cell) - 1, int((max(ax, bx) - low[0]) / cell) + 1
            south, north = int((min(ay, by) - low[1]) / cell) - 1, int((max(ay, by) - low[1]) / cell) + 1
            for row in range(max(south, 0), min(north, rows - 1) + 1):
                for column in range(max(west, 0), min(east, columns - 1) + 1):
                    for k in range(first[row * columns + column], first[row * columns + column + 1]):
                        begin, end = _hidden(frame, k, ax, ay, bx, by)
                        if begin < end and cut_count < _MOST_CUTS:
                            j = cut_count
                            while j > 0 and cuts[j - 1, 0] > begin:
                                cuts[j] = cuts[j - 1]
                                j -= 1
                            cuts[j, 0], cuts[j, 1] = begin, end
                            cut_count += 1
            reached = 0.0
            for k in range(cut_count + 1):
                stop = cuts[k, 0] if k < cut_count else 1.0
                if stop > reached:
                    if not is_open:
                        if write:
                            out[size, 0], out[size, 1] = ax + reached * (bx - ax), ay + reached * (by - ay)
                        size += 1
                        is_open = True
                    if write:
                        out[size, 0], out[size, 1] = ax + stop * (bx - ax), ay + stop * (by - ay)
                    size += 1
                if k < cut_count:
                    if is_open:
                        if write:
                            ends[count], line_of[count] = size, line
                        count += 1
                        is_open = False
                    reached = max(reached, cuts[k, 1])
        if is_open:
            if write:
                ends[count], line_of[count] = size, line
            count += 1
    return size, count
