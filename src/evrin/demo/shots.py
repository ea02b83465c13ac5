"""What the field crew shot at Ostrel Weir, and the mistakes they brought home."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from evrin.demo import ground
from evrin.demo.ground import Floats, true_height

SEED = 20260411
NOISE = 0.008
BUST = 10.0
TOO_LOW = 0.15
LOW_CORNER = ((4142.0, 2899.0), (4168.0, 2899.0), (4168.0, 2916.0), (4142.0, 2916.0))
CONTROL = (
    ("CTRL1", 2750.114, 4512.907, 61.204),
    ("CTRL2", 5611.480, 1204.331, 88.917),
    ("CTRL3", 6020.700, 3899.250, 57.660),
)


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
    step = np.asarray(np.gradient(line, axis=0))
    normal = np.column_stack((-step[:, 1], step[:, 0])) / np.hypot(step[:, 0], step[:, 1])[:, None]
    moved = line + offset * normal
    along = np.concatenate(([0.0], np.cumsum(np.hypot(*np.diff(moved, axis=0).T))))
    wanted = np.linspace(0.0, along[-1], max(2, round(along[-1] / spacing) + 1))
    return np.column_stack([np.interp(wanted, along, moved[:, k]) for k in range(2)])


def within_site(places: Floats, margin: float = 1.0) -> Floats:
    """Return the places inside the site's frame."""
    x, y = places.T
    inside = (x > ground.WEST + margin) & (x < ground.EAST - margin)
    inside &= (y > ground.SOUTH + margin) & (y < ground.NORTH - margin)
    return np.asarray(places[inside])


def clear_of(name: str, places: Floats, clearance: float) -> list[Floats]:
    """Split a line of places where the track or the leat crosses it."""
    offset = ground.chainage_and_offset(ground.centre_line(name), *places.T)[1]
    clear = np.abs(offset) > clearance
    cuts = np.flatnonzero(np.diff(clear.astype(int)) != 0) + 1
    parts = zip(np.split(places, cuts), np.split(clear, cuts), strict=True)
    return [part for part, is_clear in parts if is_clear[0] and len(part) > 1]


def _leat(book: FieldBook, rng: np.random.Generator) -> None:
    number = 1
    for code, offset, spacing in (("TOE", 1.5, 6.0), ("TOP", 4.0, 6.0), ("BERM", 5.5, 8.0), ("FOOT", 10.0, 9.0)):
        for side in (1.0, -1.0):
            places = beside("leat", side * offset, spacing)
            # The leat's lines begin clear of the river's bank.
            places = places[places[:, 1] > ground.BANK_NORTH + 4.0]
            for part in clear_of("track", within_site(places), ground.TRACK_VERGE + 0.2):
                book.string(part, f"{code}{number}", rng)
                number += 1
    intake = np.concatenate(
        [beside("leat", offset, 1.6) for offset in (0.0, 1.5, -1.5, 4.0, -4.0, 5.5, -5.5, 9.0, -9.0)]
    )
    book.shoot(intake[(intake[:, 1] > ground.RIVER_NORTH) & (intake[:, 1] < ground.BANK_NORTH + 4.0)], "INTAKE", rng)


def _track(book: FieldBook, rng: np.random.Generator) -> None:
    for number, offset in enumerate((2.0, -2.0, 4.0, -4.0), 1):
        places = within_site(beside("track", offset, 5.0))
        places = places[places[:, 1] > ground.BANK_NORTH + 1.5]
        book.string(places, f"{'TRK' if abs(offset) < 3 else 'VERGE'}{number}", rng)


def _river(book: FieldBook, rng: np.random.Generator) -> None:
    for number, (code, east) in enumerate((("CREST", ground.WEIR_EAST), ("APRON", ground.WEIR_FOOT_EAST)), 1):
        across = np.linspace(ground.SOUTH + 1.5, ground.RIVER_NORTH, 6)
        book.string(np.column_stack((np.full(6, east), across)), f"{code}{number}", rng)
    for code, north in (("RIVER", ground.RIVER_NORTH), ("BANK", ground.BANK_NORTH)):
        for number, (west, east) in enumerate(((ground.WEST + 2, 4087.9), (4089.6, ground.EAST - 2)), 1):
            along = np.arange(west, east, 7.0)
            places = np.column_stack((along, np.full(len(along), north)))
            clearance = ground.LEAT_OUTER + 0.5 if code == "BANK" else 0.0
            for letter, part in zip("13579", clear_of("leat", places, clearance), strict=False):
                book.string(part, f"{code}{letter}{number}", rng)
    bed = np.column_stack((rng.uniform(ground.WEST, ground.EAST, 40), rng.uniform(2801, 2812, 40)))
    book.shoot(bed, "BED", rng)
    edge = np.arange(ground.WEST + 1.0, ground.EAST, 11.0)
    book.shoot(np.column_stack((edge, np.full(len(edge), ground.SOUTH + 0.8))), "BED", rng)


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
    # Flank shots opposite the middle of each half of the ridge are closer together than the crest shots.
    flank = np.concatenate([start + part * ridge + side * 2.4 * across for part in (0.25, 0.75) for side in (1, -1)])
    book.shoot(flank.reshape(-1, 2), "HEAP", rng)
    bearing = np.arctan2(ridge[1], ridge[0])
    half_turn = np.linspace(-np.pi / 2, np.pi / 2, 7)
    rounds = ((end, bearing + half_turn), (start, bearing + np.pi + half_turn))
    toe = np.concatenate([at + reach * np.column_stack((np.cos(a), np.sin(a))) for at, a in rounds])
    book.string(toe, "FOOT90", rng, "CLOSE")


def _fields(book: FieldBook, rng: np.random.Generator, count: int) -> None:
    """Spots on a paced grid, clear of everything that was shot in lines."""
    step = 4.75
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
    book.shoot(within_site(beside("leat", 0.0, 9.0))[1:], "BED", rng)
    corners = ground.BARN + 0.4 * np.sign(ground.BARN - ground.BARN.mean(axis=0))
    book.shoot(corners, "FIELD", rng)


Row = tuple[int, float, float, float, str]


def survey() -> list[Row]:
    """Return the field book: number, easting, northing, height, code, with its mistakes in it."""
    rng = np.random.default_rng(SEED)
    book = FieldBook()
    for part in (_leat, _track, _river, _pond, _heap):
        part(book, rng)
    _fields(book, rng, 1000)
    return _with_mistakes(book)


_MISSED = 0.05


def again(rows: list[Row], seed: int) -> list[Row]:
    """Return a field book as another crew brings it home: the same shots under their numbers, some of them missing.

    Each is off by new noise, in plan and in height; the mistakes of the first survey are in it, too.
    """
    rng = np.random.default_rng(seed)
    stays = rng.random(len(rows)) >= _MISSED
    moves = rng.normal(0.0, NOISE, (len(rows), 3))
    return [
        (number, round(x + dx, 3), round(y + dy, 3), round(z + dz, 3) if z else z, code)
        for (number, x, y, z, code), (dx, dy, dz), is_there in zip(rows, moves.tolist(), stays, strict=True)
        if is_there
    ]


def track_log() -> Floats:
    """Return the middle of the track as a receiver on a barrow logged it, a place (k, 3) every foot or so."""
    rng = np.random.default_rng(SEED + 3)
    places = within_site(beside("track", 0.0, 0.35), 2.0)
    places = places[places[:, 1] > ground.BANK_NORTH + 3.0]
    places = places + rng.normal(0.0, 0.004, places.shape)
    return np.column_stack((places, true_height(*places.T) + rng.normal(0.0, 0.004, len(places)))).round(3)


def check_shots() -> list[Row]:
    """Return independent check points: another instrument, on the track and in the fields, from another setup."""
    rng = np.random.default_rng(SEED + 7)
    track = beside("track", 0.9, 17.0)
    east, north = np.meshgrid(np.arange(4036.0, 4208.0, 24.0), np.arange(2830.0, 2912.0, 19.0))
    fields = np.column_stack((east.ravel(), north.ravel())) + rng.uniform(-4.0, 4.0, (east.size, 2))
    leat = np.abs(ground.chainage_and_offset(ground.centre_line("leat"), *fields.T)[1])
    along = np.abs(ground.chainage_and_offset(ground.centre_line("track"), *fields.T)[1])
    low, high = ground.BARN.min(axis=0) - 2.0, ground.BARN.max(axis=0) + 2.0
    clear = (leat > 13.0) & (along > 7.0) & (ground.heap_distance(*fields.T) > 8.0)
    clear &= ~((fields > low) & (fields < high)).all(axis=1)
    clear &= (((fields - ground.POND) / ground.POND_RADII) ** 2).sum(axis=1) > 3.5
    track = within_site(track, 6.0)
    places = np.concatenate((track[track[:, 1] > ground.BANK_NORTH + 6.0], fields[clear])).round(3)
    heights = (true_height(*places.T) + rng.normal(0.0, 0.005, len(places))).round(3)
    rows = zip(places.tolist(), heights.tolist(), strict=True)
    return [(7000 + k, x, y, z, "CHECK") for k, ((x, y), z) in enumerate(rows, 1)]


def _with_mistakes(book: FieldBook) -> list[Row]:
    rows = [(number, *row) for number, row in enumerate(book.rows, 1)]
    fields = [k for k, row in enumerate(rows) if row[4] == "FIELD"]

    def spot_near(x: float, y: float) -> int:
        return min(fields, key=lambda k: (rows[k][1] - x) ** 2 + (rows[k][2] - y) ** 2)

    for k in (spot_near(4044.0, 2842.0), spot_near(4172.0, 2846.0)):
        number, x, y, _, code = rows[k]
        rows[k] = (number, x, y, 0.0, code)
    bust = spot_near(4152.0, 2884.0)
    number, x, y, z, code = rows[bust]
    rows[bust] = (number, x, y, round(z + BUST, 3), code)
    # the target was 15 cm higher than was entered while this corner was shot.
    low, high = np.array(LOW_CORNER).min(axis=0), np.array(LOW_CORNER).max(axis=0)
    for k in fields:
        number, x, y, z, code = rows[k]
        if z and low[0] < x < high[0] and low[1] < y < high[1]:
            rows[k] = (number, x, y, round(z - TOO_LOW, 3), code)
    last = len(rows)
    repeated = (
        (spot_near(4070.0, 2870.0), 0.0),
        (spot_near(4200.0, 2836.0), 0.0),
        (spot_near(4110.0, 2902.0), 0.035),
        (spot_near(4060.0, 2908.0), 0.62),
    )
    for k, error in repeated:
        last += 1
        _, x, y, z, code = rows[k]
        rows.append((last, x, y, round(z + error, 3), code))
    for k, step in ((spot_near(4048.0, 2866.0), 0.006), (spot_near(4204.0, 2850.0), 0.008)):
        last += 1
        _, x, y, z, code = rows[k]
        rows.append((last, round(x + step, 3), y, round(z + 0.004, 3), code))
    for name, x, y, z in CONTROL:
        last += 1
        rows.append((last, x, y, z, name))
    return rows
