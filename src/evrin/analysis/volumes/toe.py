"""The toe of a heap, found from one place on it: where its sides, steeper than the ground round it, come to an end.

On a grid round the place what stands out of the gentle ground is found for a series of slopes (see
`evrin.analysis.volumes.slope_envelope`), and of that what is joined to the place: the heap, whatever its shape. Where
the slopes from one to another lead to the same volume it is the heap that is meant; the gentlest of the longest such
series is taken, and what another would have led to is part of how uncertain the volume is.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np
import scipy.ndimage

from evrin.analysis.volumes.heap_cells import (
    FEWEST_CELLS,
    SQUARE,
    Found,
    View,
    found_in,
    ground_round,
    height_noise,
    measured_heap,
    widened,
)
from evrin.analysis.volumes.heap_outline import WEEDED, distance_inward, outline, ring_round, weeded_ring
from evrin.analysis.volumes.heap_tops import parts_of
from evrin.base.errors import DataError, GeometryError
from evrin.base.tolerances import HEAP_REACH
from evrin.kernels import Flags, Floats
from evrin.surface.surface import Surface
from evrin.tin.query.nearest_lines import nearest_segments

_SLOPES = (0.08, 0.1, 0.125, 0.16, 0.2, 0.25, 0.32, 0.4, 0.5)
_LOOK_CELLS, _FINE_CELLS = 120, 200
# Beside how far the heap reaches: how far is looked, so that the ground round it is seen, and at least.
_ROOM, _LEAST_ROOM = 1.4, 1.2
# Volumes that differ by less from one slope to the next are of one heap; toes that lead to more are worth a word.
_ALIKE, _UNLIKE, _SPILLED = 0.08, 0.1, 1.35
# What sides twice as steep change, two and a half times, is what the toe leaves uncertain (by trial, on made heaps of
# eighteen shapes); what other sides up to twice as steep agree on is another toe.
_OTHER_SLOPE, _TOE_SPREADS, _OTHER_WIDTH = 2.0, 2.5, 1.9
# Beside the size of the heap: how far from it the ground beyond a gentle foot begins and ends, and how wide heights are
# averaged.
_FAR_GAP, _FAR_AROUND, _FOOT = 0.25, 0.45, 0.03
_FOOT_SCATTERS, _MOST_FOOT, _FOOT_COUNTS, _GENTLE = 3.0, 2.0, 0.005, 0.03
_LEAST_PART, _ON_RING, _SECTORS = 0.02, 1e-3, 8


@dataclass(frozen=True, eq=False)
class Around:
    """The ground round a heap, as cells of a grid."""

    west: float
    south: float
    cell: float
    cells: Flags

    def holds(self, places: Floats) -> Flags:
        """Return which places (n, 2) are on that ground."""
        column, row = np.rint((places - [self.west, self.south]) / self.cell).astype(np.int64).T
        rows, columns = self.cells.shape
        is_on = (row >= 0) & (row < rows) & (column >= 0) & (column < columns)
        return np.asarray(is_on & self.cells[np.where(is_on, row, 0), np.where(is_on, column, 0)])


@dataclass(frozen=True, eq=False)
class Toe:
    """The toe of a heap.

    Attributes
    ----------
    ring : (k, 2) float64
        Closed, counter-clockwise, just beyond the break of the slope.
    held : (m, 4) float64
        Where it is no toe: sides along a wall, another heap or the edge of the surface.
    against : float
        Over what length the heap lies against that.
    volume_spread : float
        By how much the volume would be another, had the toe been found from sides of another slope.
    ground_spread : float
        By how much it may be another because the ground round the heap is no plane; with a probability of 95 percent.
    others : list of float
        Volumes within toes that might be meant as well: of a part with steeper sides, or of more with gentler ones.
    around : Around or None
        The ground round the heap.
    parts : list of (k, 2) float64
        Where several heaps touch, which part of the whole is whose, that of the place first.
    """

    ring: Floats
    held: Floats
    against: float
    volume_spread: float
    ground_spread: float
    others: list[float] = field(default_factory=list)
    around: Around | None = None
    parts: list[Floats] = field(default_factory=list)

    def is_ground(self, places: Floats) -> Flags:
        """Return which places (n, 2) on the ring are ground."""
        size = float(np.ptp(self.ring, axis=0).max())
        off = nearest_segments(np.ascontiguousarray(places), self.held, within=size).distances
        return np.asarray(off > _ON_RING * size)


def find_toe(surface: Surface, place: Sequence[float], reach: float | None = None) -> Floats:
    """Return the toe of the heap that a place lies on.

    The heap may have any shape and lie on a slope or against a wall: the toe runs along the wall there.

    Parameters
    ----------
    surface : Surface
        The surface to examine.
    place : (2,) sequence of float
        Easting and northing, anywhere on the heap.
    reach : float, optional
        The heap ends within this distance of the place; not limited if not given.

    Returns
    -------
    (k, 3) float64
        A closed ring on the surface, counter-clockwise.

    Raises
    ------
    DataError
        For a place off the surface, or a reach that is not above 0.
    GeometryError
        Where nothing at the place stands out of the ground round it.

    References
    ----------
    Vosselman, G. (2000). Slope based filtering of laser altimetry data. *International Archives of Photogrammetry and
    Remote Sensing* 33 (B3/2), 935-942.

    Examples
    --------
    >>> import numpy as np
    >>> import evrin
    >>> from evrin.analysis import find_toe
    >>> x, y = (axis.ravel() for axis in np.mgrid[-20:20.5:1, -20:20.5:1])
    >>> heap = evrin.triangulate(np.column_stack((x, y, np.maximum(4 - 0.5 * np.hypot(x, y), 0))))
    >>> toe = find_toe(heap, (2.5, 0.0))
    >>> bool(8.0 < np.hypot(*toe[:, :2].T).mean() < 9.0)
    True
    """
    ring = look_for_toe(surface, place, reach).ring
    return np.column_stack((ring, surface.height(*ring.T)))


def look_for_toe(surface: Surface, place: Sequence[float], reach: float | None = None) -> Toe:
    """Return the toe of the heap that a place lies on, with what is known of it: see `find_toe`."""
    centre = np.asarray(place, np.float64).ravel()[:2]
    if len(centre) != 2 or not np.isfinite(surface.height(*centre)):
        raise DataError(f"the place on the heap, {list(place)}, lies off the surface")
    west, south, east, north = surface.extent
    whole = float(np.abs(np.array([west, south, east, north]) - np.tile(centre, 2)).max()) * 1.01
    if reach is not None and not 0.0 < reach <= 1e9:
        raise DataError(f"the reach of a toe must be above 0, and at most 1e9; it is {reach:g}")
    far = whole if reach is None else min(float(reach), whole)
    half = min(HEAP_REACH.in_units(surface.units), far)
    noise = height_noise(surface, centre, half)
    while True:
        view = View.of(surface, centre, half, _LOOK_CELLS, noise)
        series, lean = _looked_over(view)
        if series or half >= far:
            break
        half = min(2.0 * half, far)
    if series:
        view, series = _looked_closely(view, series, lean, whole)
    if not series or _reach_of(view, series) > 1.1 * far:
        beyond = f" within {far:g}" if reach is not None else ""
        raise GeometryError(
            f"no toe was found round {centre[0]:.2f}, {centre[1]:.2f}: nothing there stands out of the ground round "
            f"it{beyond}. Give a place on the heap, or draw the toe"
        )
    return _toe_of(view, series)


def _looked_over(view: View) -> tuple[list[list[Found]], Floats]:
    """What stands out for some slopes, and how much the ground round it rises per length, east and north."""
    lean = np.zeros(2)
    series = _series_of(found_in(view, lean, _SLOPES[::2]))
    if not series:
        lean = view.lean(view.steps.joined_to(view.steps.is_ground, view.middle))
    for _ in range(2):
        if series:
            lean = view.lean(ground_round(view, series[0][0]))
        series = _series_of(found_in(view, lean, _SLOPES[::2]))
    return series, lean


def _looked_closely(
    view: View, series: list[list[Found]], lean: Floats, whole: float
) -> tuple[View, list[list[Found]]]:
    """The same in finer cells, as far as the heap reaches and the ground round it."""
    half = min(_ROOM * _reach_of(view, series) + 8.0 * view.cell, whole)
    while True:
        view = View.of(view.surface, view.centre, half, _FINE_CELLS, view.noise)
        series = _series_of(found_in(view, lean, _SLOPES))
        # In finer cells more may be joined to it, and reach to where nothing was looked at.
        is_seen = bool(series) and _LEAST_ROOM * _reach_of(view, series) <= half
        if is_seen or half >= whole:
            return view, series
        half = min(_ROOM * half, whole)


def _reach_of(view: View, series: list[list[Found]]) -> float:
    """How far east, north, west or south of the place the heap reaches."""
    return float(np.abs(view.places(series[0][0].heap) - view.centre).max())


def _with_gentle_foot(view: View, found: Found, *, is_gentle: bool) -> Found:
    """A heap with its foot: what round it still rises above the ground by more than that scatters."""
    first = found
    for _ in range(4):
        ground = ground_round(view, found, _FAR_GAP, _FAR_AROUND) if is_gentle else ground_round(view, found)
        if ground.sum() < FEWEST_CELLS:
            break
        near = scipy.ndimage.binary_dilation(ground | found.heap, SQUARE, iterations=2)
        here = view.steps.joined_to(view.steps.is_ground & near, view.middle)
        above = np.where(here, view.heights - view.plane(ground), 0.0)
        # Over a width of some cells heights scatter less than each by itself does.
        width = _FOOT * float(np.sqrt(found.heap.sum()))
        weight = scipy.ndimage.gaussian_filter(here.astype(float), width)
        smooth = scipy.ndimage.gaussian_filter(above, width) / np.maximum(weight, 1e-9)
        middle = float(np.median(smooth[ground]))
        scatter = 1.4826 * float(np.median(np.abs(smooth[ground] - middle)))
        rises = (smooth > middle + _FOOT_SCATTERS * scatter + 0.2 * view.least) & here & ~(found.all_out & ~found.heap)
        more = view.steps.joined_to(rises | found.heap, view.middle)
        if more.sum() > _MOST_FOOT * found.heap.sum():
            break
        wider = measured_heap(view, found.slope, more, found.all_out)
        if wider is None or not wider.is_closed:
            break
        found = wider
    return found if abs(found.volume - first.volume) > _FOOT_COUNTS * first.volume else first


def _series_of(found: list[Found]) -> list[list[Found]]:
    """Slopes in turn that lead to one volume, gentlest first; those over the widest range first."""
    series: list[list[Found]] = []
    for each in found:
        if not series or not each.volume >= (1.0 - _ALIKE) * series[-1][-1].volume > 0.0:
            series.append([])
        series[-1].append(each)
    ordered = sorted((each for each in series if each[0].volume > 0.0), key=lambda each: -_width_of(each))
    return [_without_spills(each) for each in ordered]


def _without_spills(series: list[Found]) -> list[Found]:
    """A series without what spills over the ground round the heap, and adds area but no volume."""
    while len(series) > 1 and series[0].heap.sum() > _SPILLED * series[1].heap.sum():
        series = series[1:]
    return series


def _width_of(series: list[Found]) -> float:
    return series[-1].slope / series[0].slope


def _toe_of(view: View, series: list[list[Found]]) -> Toe:
    first = series[0][0]
    steeper = [each for each in series[0][1:] if each.slope <= _OTHER_SLOPE * first.slope]
    if not steeper:
        following = [each[0] for each in series[1:] if each[0].slope > first.slope]
        steeper = [min(following, key=lambda each: each.slope)] if following else series[0][:1]
    changes = max(abs(first.volume - each.volume) for each in steeper)
    first = _with_gentle_foot(view, first, is_gentle=changes > _GENTLE * first.volume)
    spread = _TOE_SPREADS * max(abs(first.volume - each.volume) for each in steeper)
    others = [each[0].volume for each in series[1:] if _width_of(each) >= _OTHER_WIDTH]
    unlike = [volume for volume in others if abs(volume - first.volume) > max(_UNLIKE * first.volume, spread)]
    ring, held, against = ring_round(view, first)
    ground = Around(view.west, view.south, view.cell, ground_round(view, first))
    return Toe(ring, held, against, spread, _ground_spread(view, first), unlike, ground, _parts(view, first))


def _ground_spread(view: View, found: Found) -> float:
    """How uneven the ground under a heap may be, by the ground round it: means over sectors round its middle."""
    ground = ground_round(view, found)
    above = (view.heights - view.plane(ground))[ground]
    from_middle = view.places(ground) - view.places(found.heap).mean(axis=0)
    sector = ((np.arctan2(from_middle[:, 1], from_middle[:, 0]) / np.pi + 1.0) * _SECTORS / 2.0).astype(int) % _SECTORS
    counts = np.bincount(sector, minlength=_SECTORS)
    means = np.bincount(sector, above, _SECTORS)[counts > 0] / counts[counts > 0]
    deviation = 1.96 * float(np.std(means))
    return float(deviation * found.heap.sum() * view.cell**2)


def _parts(view: View, found: Found) -> list[Floats]:
    """Outlines of heaps that touch, that of the place first; none where it is one."""
    wide = widened(view, found)
    above = view.heights - view.plane(ground_round(view, found))
    label = parts_of(np.where(wide, above, 0.0), wide)
    counts = np.bincount(label[wide])
    numbers = [number for number in range(1, len(counts)) if counts[number] > _LEAST_PART * wide.sum()]
    if len(numbers) < 2 or label.flat[view.middle] not in numbers:
        return []
    own = int(label.flat[view.middle])
    # Within the toe as it is weeded, too.
    inward = distance_inward(view, wide) - 1.5 * WEEDED * view.cell
    ordered = sorted(numbers, key=lambda number: number != own)
    fields = [np.minimum(inward, distance_inward(view, label == number)) for number in ordered]
    if not all((field > 0.0).any() for field in fields):
        return []
    return [weeded_ring(outline(view, field), WEEDED * view.cell) for field in fields]
