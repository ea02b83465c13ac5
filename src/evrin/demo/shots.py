"""What the field crew shot at Ostrel Weir, and the mistakes they brought home."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from evrin.demo import ground
from evrin.demo.ground import Floats, true_height

SEED = 20260411
NOISE = 0.008
BUST = 10.0


@dataclass
class FieldBook:
    """Shots in the order they were taken: easting, northing, height, code."""

    rows: list[tuple[float, float, float, str]] = field(default_factory=list)

    def shoot(self, places: Floats, code: str, rng: np.random.Generator) -> None:
        """Take spots."""
        heights = true_height(places[:, 0], places[:, 1]) + rng.normal(0.0, NOISE, len(places))
        for (x, y), z in zip(np.round(places, 3).tolist(), np.round(heights, 3).tolist(), strict=True):
            self.rows.append((x, y, z, code))

    def string(self, places: Floats, code: str, rng: np.random.Generator, last: str = "END") -> None:
        """Take a line: the first shot is marked as its start, the last as its end or as closing it."""
        first = len(self.rows)
        self.shoot(places, code, rng)
        for row, mark in ((first, "ST"), (len(self.rows) - 1, last)):
            x, y, z, text = self.rows[row]
            self.rows[row] = (x, y, z, f"{text} {mark}")


def beside(name: str, offset: float, spacing: float) -> Floats:
    """Return places at an offset, positive to the left, along the leat or the track."""
    line = ground.centre_line(name)
    step = np.gradient(line, axis=0)
    normal = np.column_stack((-step[:, 1], step[:, 0])) / np.hypot(step[:, 0], step[:, 1])[:, None]
    moved = line + offset * normal
    along = np.concatenate(([0.0], np.cumsum(np.hypot(*np.diff(moved, axis=0).T))))
    wanted = np.linspace(0.0, along[-1], max(2, round(along[-1] / spacing) + 1))
    return np.column_stack([np.interp(wanted, along, moved[:, k]) for k in range(2)])


def within_site(places: Floats, margin: float = 1.0) -> Floats:
    """Return the places inside the site's frame."""
    x, y = places.T
    inside = (x > ground.WEST + margin) & (x < ground.EAST - margin)
    return places[inside & (y > ground.SOUTH + margin) & (y < ground.NORTH - margin)]


def off_track(places: Floats, clearance: float) -> list[Floats]:
    """Split a line of places where the track crosses it."""
    offset = ground.chainage_and_offset(ground.centre_line("track"), *places.T)[1]
    clear = np.abs(offset) > clearance
    cuts = np.flatnonzero(np.diff(clear.astype(int)) != 0) + 1
    return [part for part, ok in zip(np.split(places, cuts), np.split(clear, cuts), strict=True) if ok[0] and len(part) > 1]


def _leat(book: FieldBook, rng: np.random.Generator) -> None:
    number = 1
    for code, offset, spacing in (("TOE", 1.5, 6.0), ("TOP", 4.0, 6.0), ("BERM", 5.5, 8.0), ("FOOT", 10.0, 9.0)):
        for side in (1.0, -1.0):
            places = beside("leat", side * offset, spacing)
            # The leat's lines begin clear of the river's bank.
            places = places[places[:, 1] > ground.BANK_NORTH + 4.0]
            for part in off_track(within_site(places), ground.TRACK_VERGE + 0.2):
                book.string(part, f"{code}{number}", rng)
                number += 1


def _track(book: FieldBook, rng: np.random.Generator) -> None:
    for number, offset in enumerate((2.0, -2.0, 4.0, -4.0), 1):
        places = within_site(beside("track", offset, 5.0))
        places = places[places[:, 1] > ground.BANK_NORTH + 1.5]
        book.string(places, f"{'TRK' if abs(offset) < 3 else 'VERGE'}{number}", rng)


def _river(book: FieldBook, rng: np.random.Generator) -> None:
    for number, (code, east) in enumerate((("CREST", ground.WEIR_EAST), ("APRON", ground.WEIR_FOOT_EAST)), 1):
        north = np.linspace(ground.SOUTH + 1.5, ground.RIVER_NORTH, 6)
        book.string(np.column_stack((np.full(6, east), north)), f"{code}{number}", rng)
    for code, north in (("RIVER", ground.RIVER_NORTH), ("BANK", ground.BANK_NORTH)):
        for number, (west, east) in enumerate(((ground.WEST + 2, 4087.9), (4089.6, ground.EAST - 2)), 1):
            east_places = np.arange(west, east, 7.0)
            book.string(np.column_stack((east_places, np.full(len(east_places), north))), f"{code}{number}", rng)
    bed = np.column_stack((rng.uniform(ground.WEST, ground.EAST, 40), rng.uniform(2801, 2812, 40)))
    book.shoot(bed, "BED", rng)


def _pond(book: FieldBook, rng: np.random.Generator) -> None:
    for radius, count in ((1.0, 26), (0.6, 10), (1.7, 22)):
        angle = np.linspace(0.0, 2.0 * np.pi, count, endpoint=False)
        ring = ground.POND + radius * ground.POND_RADII * np.column_stack((np.cos(angle), np.sin(angle)))
        book.shoot(ring, "WATER" if radius == 1.0 else "GRASS", rng)
    book.shoot(ground.POND[None, :], "BED", rng)


def _heap(book: FieldBook, rng: np.random.Generator) -> None:
    start, end = ground.HEAP_RIDGE
    ridge = end - start
    across = np.array([-ridge[1], ridge[0]]) / np.hypot(*ridge)
    reach = ground.HEAP_HEIGHT / ground.HEAP_SLOPE
    book.shoot(start + np.array([[0.0], [0.5], [1.0]]) * ridge, "HEAP", rng)
    # Flank shots opposite the middle of each half of the ridge stand closer together than the crest shots do.
    flank = np.concatenate([start + part * ridge + side * 2.4 * across for part in (0.25, 0.75) for side in (1, -1)])
    book.shoot(flank.reshape(-1, 2), "HEAP", rng)
    angle = np.linspace(0.0, 2.0 * np.pi, 9)[:-1] + 0.2
    bearing = np.arctan2(ridge[1], ridge[0])
    ends = [centre + reach * np.column_stack((np.cos(a), np.sin(a))) for centre, a in (
        (end, bearing + np.linspace(-np.pi / 2, np.pi / 2, 7)),
        (start, bearing + np.linspace(np.pi / 2, 3 * np.pi / 2, 7)),
    )]
    book.string(np.concatenate(ends), "FOOT90", rng, "CLOSE")
    middle = np.concatenate([start + 2.4 * np.column_stack((np.cos(angle), np.sin(angle))) * 0.9, end + 2.2 * across[None, :] * 0])
    book.shoot(middle[ground.heap_distance(*middle.T) > 1.5], "HEAP", rng)


def _fields(book: FieldBook, rng: np.random.Generator, count: int) -> None:
    """Spots on a paced grid, clear of everything that was shot in lines."""
    step = 5.6
    east, north = np.meshgrid(np.arange(ground.WEST + 1, ground.EAST, step), np.arange(2822.0, ground.NORTH, step))
    places = np.column_stack((east.ravel(), north.ravel()))
    places += rng.uniform(-1.4, 1.4, places.shape)
    places = within_site(places, 0.5)
    leat = np.abs(ground.chainage_and_offset(ground.centre_line("leat"), *places.T)[1])
    track = np.abs(ground.chainage_and_offset(ground.centre_line("track"), *places.T)[1])
    heap = ground.heap_distance(*places.T)
    low, high = ground.BARN.min(axis=0) - 0.5, ground.BARN.max(axis=0) + 0.5
    in_barn = ((places > low) & (places < high)).all(axis=1)
    clear = (leat > 10.8) & (track > 5.0) & (heap > 5.6) & ~in_barn
    book.shoot(places[clear][:count], "FIELD", rng)
    book.shoot(within_site(beside("leat", 0.0, 9.0)), "BED", rng)
    corners = ground.BARN + 0.4 * np.sign(ground.BARN - ground.BARN.mean(axis=0))
    book.shoot(corners, "FIELD", rng)


def survey() -> list[tuple[int, float, float, float, str]]:
    """Return the field book: number, easting, northing, height, code, with its mistakes in it."""
    rng = np.random.default_rng(SEED)
    book = FieldBook()
    for part in (_leat, _track, _river, _pond, _heap):
        part(book, rng)
    _fields(book, rng, 1000)
    return _with_mistakes(book)


def _with_mistakes(book: FieldBook) -> list[tuple[int, float, float, float, str]]:
    rows = [(number, *row) for number, row in enumerate(book.rows, 1)]
    spots = [k for k, row in enumerate(rows) if row[4] == "FIELD"]
    for k in (spots[60], spots[210]):
        number, x, y, _, code = rows[k]
        rows[k] = (number, x, y, 0.0, code)
    number, x, y, z, code = rows[spots[130]]
    rows[spots[130]] = (number, x, y, round(z + BUST, 3), code)
    last = len(rows)
    again = [(spots[20], 0.0), (spots[90], 0.0), (spots[300], 0.035), (spots[170], 0.62)]
    for k, error in again:
        last += 1
        _, x, y, z, code = rows[k]
        rows.append((last, x, y, round(z + error, 3), code))
    for name, x, y, z in (("CTRL1", 2750.114, 4512.907, 61.204), ("CTRL2", 5611.48, 1204.331, 88.917), ("CTRL3", 6020.7, 3899.25, 57.66)):
        last += 1
        rows.append((last, x, y, z, name))
    return rows
