"""Pairs of random surfaces, and what Evrin makes of them."""

from __future__ import annotations

import tempfile
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import NamedTuple

import numpy as np
from numpy.random import Generator

import evrin
from evrin import Surface
from evrin.base.errors import EvrinError
from evrin.kernels import Floats
from evrin.making import Pad, combine, pad_to_ground
from evrin.making.patches.resettling import resettled

_FAR = np.array([431000.0, 5412000.0])
_SUFFIXES = (".xml", ".dxf", ".ply", ".obj", ".stl", ".shp", ".gpkg", ".geojson")
_ROUNDINGS = (None, 9, 6, 3, 2)


class Pair(NamedTuple):
    """Two surfaces that have ground in common, and what made them."""

    older: Surface
    newer: Surface
    rng: Generator
    origin: Floats


def _heights(xy: Floats, rng: Generator) -> Floats:
    return 10.0 + 0.02 * (xy[:, 0] - xy[0, 0]) + rng.normal(0.0, 1.0, len(xy))


def _lattice(rng: Generator) -> Floats:
    count, step, turn = int(rng.integers(2, 7)), rng.uniform(2.0, 12.0), rng.uniform(0.0, 6.28)
    grid = step * np.array([[i, j] for i in range(count) for j in range(count)]) - 0.5 * step * (count - 1)
    return grid @ np.array([[np.cos(turn), -np.sin(turn)], [np.sin(turn), np.cos(turn)]])


def pair_of(seed: int) -> Pair:
    """Return two surfaces that share ground, of a kind that follows from the number."""
    rng = np.random.default_rng(seed)
    origin = _FAR if seed % 2 else np.zeros(2)
    digits = _ROUNDINGS[seed % len(_ROUNDINGS)]

    def surface(xy: Floats, name: str) -> Surface:
        placed = xy + origin
        rounded = placed if digits is None else np.round(placed, digits)
        return evrin.triangulate(np.column_stack((rounded, _heights(xy, rng))), name=name)

    older = surface(rng.uniform(-60.0, 60.0, (int(rng.integers(5, 80)), 2)) if seed % 4 else _lattice(rng), "older")
    kind = seed % 7
    if kind < 3:
        return Pair(older, surface(_lattice(rng), "newer"), rng, origin)
    if kind == 3:
        return Pair(older, surface(rng.uniform(-40.0, 40.0, (30, 2)), "newer"), rng, origin)
    if kind == 4:
        ring = origin + [[-20, -15], [25, -20], [15, 22], [-18, 12]] + rng.uniform(-5, 5, (4, 2))
        part = older.clip(keep=ring)
        return Pair(older, part.renamed(name="newer"), rng, origin)
    if kind == 5:
        found = older.contours(0.5)
        rows = np.column_stack((found.points, np.repeat(found.levels[found.level_of], np.diff(found.starts))))
        return Pair(older, evrin.triangulate(rows, name="newer"), rng, origin)
    moved = older.vertices * (1.0 + 2.0**-52, 1.0, 1.0) + (0.0, 0.0, 0.5)
    again = Surface.from_arrays(moved, older.triangles, name="newer")
    return Pair(older, older if again.faults() else again, rng, origin)


def _combined(rule: str, **asked: float) -> Callable[[Pair], Surface]:
    def work(pair: Pair) -> Surface:
        made = combine([pair.older, pair.newer], rule, **asked).surface
        if asked.get("band", 0.0) == 0.0:
            _check_heights(pair, made, rule, fills="across" in asked)
        return made

    return work


def _check_heights(pair: Pair, made: Surface, rule: str, *, fills: bool) -> None:
    """Compare heights at random places with those of the two, but where an edge is so near that both may count."""
    xy = pair.origin + pair.rng.uniform(-60.0, 60.0, (400, 2))
    old, new, got = (surface.height(xy[:, 0], xy[:, 1]) for surface in (pair.older, pair.newer, made))
    wanted = {
        "newer": np.where(np.isnan(new), old, new),
        "higher": np.fmax(old, new),
        "lower": np.fmin(old, new),
    }[rule]
    off = np.abs(got - wanted) > 1e-5
    off |= np.isnan(got) & ~np.isnan(wanted)
    if off.any():
        raise AssertionError(f"{int(off.sum())} heights off")
    shared = pair.newer.volume_above(pair.older).total.common_area
    ground = pair.older.plan_area + pair.newer.plan_area - shared
    # Gaps that were filled add area.
    if made.plan_area < ground * (1.0 - 1e-8) or (not fills and made.plan_area > ground * (1.0 + 1e-8)):
        raise AssertionError(f"area {made.plan_area} for {ground}")


def _edited(pair: Pair) -> Surface:
    return _edited_further(pair.older, pair)


def _edited_further(surface: Surface, pair: Pair, times: int = 60) -> Surface:
    editor = evrin.Editor.of(surface, reach=5.0)
    for _ in range(times):
        now = editor.surface()
        at = tuple(pair.origin + pair.rng.uniform(-50, 50, 2))
        middle = tuple(now.vertices[now.edges[int(pair.rng.integers(len(now.edges)))], :2].mean(axis=0))
        try:
            match int(pair.rng.integers(5)):
                case 0:
                    editor.add(middle)
                case 1:
                    editor.flip(middle)
                case 2:
                    editor.delete(at)
                case 3:
                    editor.remove(at=middle)
                case _:
                    editor.force((at, middle))
        except EvrinError:
            continue
    return editor.surface()


def _taken_up_again(pair: Pair) -> Surface:
    edited = _edited(pair)
    again = evrin.Editor.of(edited).surface()
    if not _same_triangles(edited, again):
        raise AssertionError("other triangles")
    return again


def _written(suffix: str) -> Callable[[Pair], Surface]:
    """Written and read, one that was edited and, edited further, the same again; or one with a step."""

    def work(pair: Pair) -> Surface:
        has_step = pair.rng.random() < 0.5
        made = combine([pair.older, pair.newer]).surface if has_step else _edited(pair)
        back = _there_and_back(made, suffix)
        return back if has_step else _there_and_back(_edited_further(back, pair, 20), suffix)

    return work


def _there_and_back(surface: Surface, suffix: str) -> Surface:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / f"a{suffix}"
        evrin.write(path, surface)
        back = Surface.read(path)
    if not _same_triangles(surface, back):
        raise AssertionError(f"{len(surface.triangles)} triangles come back as {len(back.triangles)} others")
    return back


def _same_triangles(one: Surface, other: Surface) -> bool:
    keys = [{tuple(sorted(map(tuple, face))) for face in s.vertices[s.triangles].tolist()} for s in (one, other)]
    return keys[0] == keys[1]


def _clipped(pair: Pair) -> Surface:
    return pair.older.clip(keep=pair.newer.vertices[pair.newer.rim()[0], :2])


def _less_clipped(pair: Pair) -> Surface:
    ring = pair.origin + [[-20, -15], [25, -20], [15, 22], [-18, 12]]
    return pair.newer.less(pair.older).clip(keep=ring)


def _in_feet(pair: Pair) -> Surface:
    return pair.newer.transform(evrin.Frame("ft"))


def _next_zone(pair: Pair) -> Surface:
    return pair.newer.renamed(crs="EPSG:25832").transform("EPSG:25833") if pair.origin[0] > 0.0 else pair.newer


def _rounded(pair: Pair) -> Surface:
    """Arrays as a file in millimetres has them; what is wrong then is rounding's doing, and settled."""
    rounded = np.round(pair.newer.vertices, 3)
    return resettled(Surface.from_arrays(rounded, pair.newer.triangles, name="rounded"))


def _under(pair: Pair) -> Surface:
    lowered = pair.newer.vertices - (0.0, 0.0, 1.0)
    layer = Surface.from_arrays(lowered, pair.newer.triangles, name="layer")
    return combine([pair.older, layer], "lower").surface


def _pad(pair: Pair) -> Surface:
    ring = pair.origin + [[-6, -5], [5, -6], [7, 6], [-5, 4]] + pair.rng.uniform(-1, 1, (4, 2))
    level = float(pair.older.height(*ring.mean(axis=0))) + pair.rng.uniform(-1.0, 1.0)
    return pad_to_ground(pair.older, Pad.of(ring, level)).surface if np.isfinite(level) else pair.older


WORKS: dict[str, Callable[[Pair], Surface]] = {
    "combine newer": _combined("newer"),
    "combine higher": _combined("higher"),
    "combine lower": _combined("lower"),
    "combine band": _combined("newer", band=2.0),
    "combine across": _combined("newer", across=5.0),
    "less": lambda pair: pair.newer.less(pair.older),
    "less, clipped": _less_clipped,
    "clip": _clipped,
    "pad": _pad,
    "layer": _under,
    "feet": _in_feet,
    "zone": _next_zone,
    "rounded": _rounded,
    "edit": _edited,
    "edit, taken up again": _taken_up_again,
    **{f"written as {suffix}": _written(suffix) for suffix in _SUFFIXES},
}


def judged(work: Callable[[Pair], Surface], seeds: range) -> Iterator[tuple[int, str]]:
    """Yield what came of each seed: nothing where it is right."""
    for seed in seeds:
        try:
            pair = pair_of(seed)
        except EvrinError:
            continue
        try:
            found = work(pair).faults()
        except EvrinError as error:
            yield seed, "" if "in common" in str(error) or "leave nothing" in str(error) else f"refused: {error}"
        except Exception as error:
            yield (
                seed,
                f"{type(error).__name__} {error}"[:60] if isinstance(error, AssertionError) else type(error).__name__,
            )
        else:
            yield seed, ", ".join(fault.kind for fault in found)
