"""Random fields of every awkward kind, and the judge of what a surface made from one must hold."""

from dataclasses import dataclass, field
from fractions import Fraction

import numpy as np
import scipy
import shapely

import evrin
import exact
from evrin.base.errors import DataError, GeometryError
from evrin.tin.exact.snap import snap_width

SITE = np.array([431000.0, 5412000.0])
DRIFT = 16
KINDS = ("rim", "hull", "lattice", "collinear", "clusters", "scales", "thirds", "bundle", "nested", "spikes")


@dataclass
class Field:
    """Points, breaklines and rings; heights are those of one plane, so that every made vertex has a known one."""

    kind: str
    seed: int
    xy: np.ndarray
    lines: list = field(default_factory=list)
    rings: list = field(default_factory=list)

    @property
    def plane(self):
        slope = np.array([0.37, -0.22])
        origin = self.xy[0]
        return lambda xy: 40.0 + (np.asarray(xy) - origin) @ slope

    @property
    def points(self):
        return np.column_stack((self.xy, self.plane(self.xy)))

    @property
    def breaklines(self):
        return [np.column_stack((line, self.plane(line))) for line in self.lines]


def _turned(places, rng, base):
    angle = rng.uniform(0, 2 * np.pi)
    turn = np.array([[np.cos(angle), np.sin(angle)], [-np.sin(angle), np.cos(angle)]])
    return base + places @ turn


def _densified(ring, rng, most=5):
    out = []
    for a, b in zip(ring, np.roll(ring, -1, axis=0), strict=True):
        parts = np.sort(rng.uniform(0, 1, rng.integers(1, most + 1)))
        out += [a, *(a + part * (b - a) for part in parts)]
    return np.array(out)


def _maybe_rounded(places, rng):
    return np.round(places, 3) if rng.random() < 0.5 else places


def _rim(rng):
    corners = np.array([[0.0, 0], [80, 0], [80, 50], [0, 50]]) * rng.uniform(0.5, 3)
    inside = rng.uniform(0.02, 0.98, (40, 2)) * corners[2]
    placed = _turned(np.vstack((corners, inside)), rng, SITE)
    placed = _maybe_rounded(placed, rng)
    return placed, [], [_maybe_rounded(_densified(placed[:4], rng), rng)]


def _hull(rng):
    """Shots along straight turned sides, a rounding in or out, and rings through some of them."""
    count = rng.integers(3, 7)
    angles = np.sort(rng.uniform(0, 2 * np.pi, count))
    corners = np.column_stack((np.cos(angles), np.sin(angles))) * rng.uniform(5, 400)
    base = SITE if rng.random() < 0.7 else np.zeros(2)
    placed = _turned(corners, rng, base)
    rim = _densified(placed, rng, 6)
    rim = rim if rng.random() < 0.5 else np.round(rim, 3)
    weights = rng.dirichlet(np.ones(count), rng.integers(0, 12))
    xy = np.vstack((rim, weights @ placed))
    if rng.random() < 0.5:
        ring = rim[np.sort(rng.choice(len(rim), min(len(rim), rng.integers(3, 9)), replace=False))]
    else:
        ring = _densified(rim, rng, 2)
    rings = [_maybe_rounded(ring, rng)]
    if rng.random() < 0.4:
        middle = rim.mean(axis=0)
        rings.append(middle + (ring - middle) * rng.choice([0.5, 1.0, 1.5]))
    pick = rng.integers(0, len(xy), (rng.integers(0, 3), 2))
    return xy, [xy[p] for p in pick if p[0] != p[1]], rings


def _grid_places(rng, count, size):
    return rng.integers(0, size, (count, 2)).astype(float)


def _grid_rings(rng, size):
    return [_grid_places(rng, rng.integers(3, 8), size) for _ in range(rng.integers(1, 5))]


def _lattice(rng):
    size = int(rng.integers(3, 8))
    places = _grid_places(rng, rng.integers(4, 40), size)
    lines = [_grid_places(rng, rng.integers(2, 5), size) for _ in range(rng.integers(0, 4))]
    return places, lines, _grid_rings(rng, size + 2)


def _collinear(rng):
    direction = rng.uniform(-30, 30, 2)
    along = np.sort(rng.uniform(0, 1, rng.integers(3, 9)))
    places = np.round(rng.uniform(-40, 40, 2) + along[:, None] * direction * 2, 2)
    if rng.random() < 0.5:
        places = np.vstack((places, rng.uniform(-50, 50, (rng.integers(1, 4), 2)).round(2)))
    rings = [np.round(rng.uniform(-60, 90, (rng.integers(3, 6), 2)), 2) for _ in range(rng.integers(1, 3))]
    lines = [places[[0, -1]]] if rng.random() < 0.5 else []
    return places, lines, rings


def _clusters(rng):
    base = SITE if rng.random() < 0.5 else np.zeros(2)
    middles = rng.uniform(0, 100, (rng.integers(1, 4), 2))
    spread = 10.0 ** rng.uniform(-9, 1)
    places = middles[rng.integers(0, len(middles), 25)] + rng.normal(0, spread, (25, 2))
    places = np.vstack((places, rng.uniform(0, 100, (5, 2))))
    rings = [places[rng.choice(len(places), rng.integers(3, 8), replace=False)] for _ in range(rng.integers(1, 4))]
    lines = [places[rng.choice(len(places), rng.integers(2, 5), replace=False)] for _ in range(rng.integers(0, 4))]
    return base + places, [base + line for line in lines], [base + ring for ring in rings]


def _scales(rng):
    base = np.zeros(2) if rng.random() < 0.7 else SITE
    places = rng.uniform(-1, 1, (30, 2)) * 10.0 ** rng.uniform(-6, 6, (30, 1))
    lines = [places[rng.choice(30, rng.integers(2, 4), replace=False)] for _ in range(rng.integers(0, 4))]
    rings = [
        rng.uniform(-1, 1, (rng.integers(3, 7), 2)) * 10.0 ** rng.uniform(-6, 6) for _ in range(rng.integers(1, 4))
    ]
    return base + places, [base + line for line in lines], [base + ring for ring in rings]


def _thirds(rng):
    def some(count):
        return rng.integers(0, 16, (count, 2)) / rng.choice([1.0, 3.0, 7.0])

    ring = some(rng.integers(3, 7))
    if rng.random() < 0.5:
        ring = np.repeat(ring, rng.integers(1, 3, len(ring)), axis=0)
    lines = [some(rng.integers(2, 4)) for _ in range(rng.integers(0, 5))]
    return some(rng.integers(3, 15)), lines, [ring, *(some(4) for _ in range(rng.integers(0, 3)))]


def _bundle(rng):
    """Up to a thousand crossings at one place, or within a rounding of it."""
    base = SITE if rng.random() < 0.5 else np.zeros(2)
    count = int(rng.integers(3, 46))
    middle = rng.uniform(-5, 5, 2)
    angles = rng.uniform(0, np.pi, count)
    away = np.column_stack((np.cos(angles), np.sin(angles))) * rng.uniform(10, 60, (count, 1))
    jitter = rng.normal(0, 10.0 ** rng.uniform(-12, -2), (count, 2))
    ends = np.stack((middle - away + jitter, middle + away + jitter), axis=1)
    ring = middle + rng.uniform(-1, 1, (int(rng.integers(3, 9)), 2)) * rng.choice([1e-7, 1e-3, 30.0])
    if rng.random() < 0.3:
        ring[0] = middle
    xy = np.vstack((ends.reshape(-1, 2), rng.uniform(-60, 60, (20, 2))))
    return base + xy, [base + line for line in ends], [base + ring]


def _nested(rng):
    size = 100.0
    base = SITE if rng.random() < 0.5 else np.zeros(2)
    xy = rng.uniform(0, size, (60, 2)).round(int(rng.integers(0, 4)))
    rings = []
    outer = np.array([[5.0, 5], [95, 5], [95, 95], [5, 95]]) + rng.uniform(-10, 10, (4, 2)).round(2)
    for k in range(int(rng.integers(1, 5))):
        ring = 50 + (outer - 50) * (1 - 0.2 * k)
        rings.append(_densified(ring, rng, 3) if rng.random() < 0.5 else ring)
    if rng.random() < 0.5:
        rings.append(rings[0][[0, 1]].tolist() + [[50.0, 50.0]])
    lines = [rings[0][:3], xy[:2]] if rng.random() < 0.5 else [xy[rng.choice(60, 3, replace=False)]]
    if rng.random() < 0.3:
        rings.append(xy[rng.choice(60, 5, replace=False)])
    return base + xy, [base + np.array(line) for line in lines], [base + np.array(ring) for ring in rings]


def _spikes(rng):
    base = SITE if rng.random() < 0.5 else np.zeros(2)
    xy = rng.uniform(0, 50, (30, 2)).round(2)
    ring = list(np.array([[3.0, 3], [47, 4], [46, 46], [4, 47]]) + rng.uniform(-6, 6, (4, 2)))
    for _ in range(int(rng.integers(1, 4))):
        k = int(rng.integers(1, len(ring)))
        tip = rng.uniform(-10, 60, 2)
        ring[k:k] = [ring[k - 1], tip, ring[k - 1]] if rng.random() < 0.5 else [ring[k - 1]]
    return base + xy, [base + xy[:2]], [base + np.array(ring)]


MAKERS = dict(
    zip(KINDS, (_rim, _hull, _lattice, _collinear, _clusters, _scales, _thirds, _bundle, _nested, _spikes), strict=True)
)


def make(kind, seed):
    """Return the field of a kind and a seed, always the same one."""
    rng = np.random.default_rng([KINDS.index(kind), seed])
    return Field(kind, seed, *MAKERS[kind](rng))


def expected_region(field):
    """Return ring (even-odd, every ring) within hull, in coordinates from an origin, and the origin."""
    origin = np.vstack((field.xy, *field.rings))[0]
    shots = np.vstack((field.xy, *field.lines))
    hull = shapely.MultiPoint(shots - origin).convex_hull
    rings = [ring - origin for ring in field.rings]
    work = [shapely.LinearRing(ring) for ring in rings if len(np.unique(ring, axis=0)) > 1]
    faces = shapely.get_parts(shapely.polygonize(shapely.get_parts(shapely.unary_union(work)))) if work else []
    inside = [face for face in faces if _is_inside(face.representative_point(), rings)]
    region = shapely.intersection(shapely.unary_union(inside), hull)
    solid = [part for part in shapely.get_parts(shapely.get_parts(region)) if part.geom_type == "Polygon"]
    return shapely.unary_union(solid), hull, origin


def _encloses_nothing(ring):
    if len(np.unique(ring, axis=0)) < 3:
        return True
    faces = shapely.get_parts(shapely.polygonize(shapely.get_parts(shapely.unary_union(shapely.LinearRing(ring)))))
    return not any(_is_inside(face.representative_point(), [ring]) for face in faces)


def _is_inside(point, rings):
    x, y = Fraction(point.x), Fraction(point.y)
    inside = False
    for ring in rings:
        for p, q in zip(ring, np.roll(ring, -1, axis=0), strict=True):
            (x0, y0), (x1, y1) = exact.point(p), exact.point(q)
            if (y0 <= y) != (y1 <= y):
                inside ^= (x0 + (y - y0) * (x1 - x0) / (y1 - y0)) > x
    return inside


def build(field, rings=None):
    return evrin.triangulate(field.points, field.breaklines, field.rings if rings is None else rings)


def is_flat(xy):
    xy = np.unique(xy, axis=0)
    return len(xy) < 3 or all(exact.turn(xy[0], xy[1], c) == 0 for c in xy[2:])


def judge(field):
    """Build a field and return what it breaks, in words; nothing where everything promised holds."""
    if is_flat(np.vstack((field.xy, *field.lines))):
        try:
            build(field)
        except (DataError, GeometryError):
            return []
        return ["shots on one line gave a surface"]
    region, hull, origin = expected_region(field)
    everything = np.vstack((field.xy, *field.lines, *field.rings))
    snap = snap_width(everything)
    length = hull.length + sum(shapely.LinearRing(ring - origin).length for ring in field.rings)
    length += sum(shapely.LineString(line - origin).length for line in field.lines)
    allowed = max(1e-9 * region.area, snap * length)
    try:
        ground = build(field)
    except DataError as error:
        return [] if any(_encloses_nothing(ring) for ring in field.rings) else [f"refused: {error}"]
    except GeometryError as error:
        if "no triangle is left" in str(error) and region.area <= allowed:
            return []
        return [f"refused: {error} (area {region.area:g})"]
    wrong = []
    xy = ground.vertices[:, :2]
    twice = [exact.turn(*xy[t]) for t in ground.triangles]
    if min(twice) <= 0:
        wrong.append(f"{sum(t <= 0 for t in twice)} triangles without area or upside down")
    area = float(sum(twice)) / 2.0
    if abs(area - region.area) > allowed:
        wrong.append(
            f"area {area:.9g}, expected {region.area:.9g}, off by {area - region.area:.3g}, allowed {allowed:.3g}"
        )
    if region.area > allowed:
        wrong += _judge_vertices(field, ground, region, origin, snap)
        wrong += _judge_lines(field, ground, region, origin, snap)
    return wrong


def _judge_vertices(field, ground, region, origin, snap):
    wrong = []
    there = {tuple(place) for place in ground.vertices[:, :2].tolist()}
    shots = np.vstack((field.xy, *field.lines)) + 0.0
    local = shapely.points(shots - origin)
    shapely.prepare(region)
    deep = shapely.covers(region, local) & (shapely.distance(region.boundary, local) > 4 * snap)
    away = scipy.spatial.cKDTree(ground.vertices[:, :2]).query(shots)[0]
    lost = [
        p
        for p, d, is_deep in zip(shots.tolist(), away, deep, strict=True)
        if is_deep and tuple(p) not in there and d > snap
    ]
    if lost:
        wrong.append(f"{len(lost)} shots well inside are no vertices, as {lost[0]}")
    size = max(np.abs(shots - shots[0]).max(), 1e-3)
    strays = np.abs(ground.vertices[:, 2] - field.plane(ground.vertices[:, :2]))
    if not strays.max() <= 4 * snap + 1e-7 * size:
        wrong.append(f"a height strays from the plane by {strays.max():.3g}")
    if ground.mates is not None and len(np.unique(np.sort(ground.edges, axis=1), axis=0)) != len(ground.edges):
        wrong.append("an edge with more than two triangles")
    return wrong


def _judge_lines(field, ground, region, origin, snap):
    """Every stretch of a breakline inside the surface is a chain of edges of that line."""
    rows, sides = np.nonzero(ground.edge_lines >= 0)
    ends = ground.triangles[rows, sides], ground.triangles[rows, (sides + 1) % 3]
    starts, stops = (ground.vertices[each, :2] - origin for each in ends)
    wrong = []
    inner = shapely.buffer(region, -8 * snap, quad_segs=1) if field.lines else region
    for line in field.lines:
        for a, b in zip(line[:-1] - origin, line[1:] - origin, strict=True):
            leg = b - a
            length = float(np.hypot(*leg))
            if length <= 8 * snap:
                continue
            unit = leg / length
            beside = [np.abs((p - a) @ np.array([-unit[1], unit[0]])) <= DRIFT * snap for p in (starts, stops)]
            on = beside[0] & beside[1]
            spans = np.sort(np.column_stack(((starts[on] - a) @ unit, (stops[on] - a) @ unit)), axis=1)
            needed = shapely.intersection(shapely.LineString([a, b]), inner)
            for part in shapely.get_parts(needed):
                if part.length > 16 * snap:
                    low, high = sorted(float((np.array(p) - a) @ unit) for p in (part.coords[0], part.coords[-1]))
                    if not _is_covered(spans, low, high, 2 * DRIFT * snap):
                        wrong.append(
                            f"the breakline {(a + origin).tolist()} to {(b + origin).tolist()} is not there whole"
                        )
    return wrong[:2]


def _is_covered(spans, low, high, slack):
    reached = low
    for start, stop in spans[np.argsort(spans[:, 0])].tolist():
        if start > reached + slack:
            break
        reached = max(reached, stop)
    return reached >= high - slack


def differs_in_another_order(field):
    """Whether another order of rows, or another start or direction of the rings, gives another surface."""
    rng = np.random.default_rng(field.seed)
    turned = [np.roll(ring[:: rng.choice([-1, 1])], rng.integers(0, len(ring)), axis=0) for ring in field.rings]
    rows = rng.permutation(len(field.xy))
    try:
        one = build(field)
        two = evrin.triangulate(field.points[rows], field.breaklines[::-1], turned[::-1])
    except (DataError, GeometryError):
        return False
    return not (np.array_equal(one.vertices, two.vertices) and np.array_equal(one.triangles, two.triangles))
