"""Settling the guesses of a draft against each other: nothing twice, nothing that hides the rest, voids left open."""

from __future__ import annotations

import numpy as np
import scipy

from evrin.base.errors import GeometryError
from evrin.base.tolerances import METRES, SHOT_REACH
from evrin.kernels import Floats
from evrin.making.triangulation import Triangulation
from evrin.recipe.document.draft_guesses import Guess
from evrin.recipe.document.draft_site import DraftedSite, Looked
from evrin.survey.contents import TEXT
from evrin.tin.query.inside_rings import is_inside_rings

_FROZEN = ("vertex", "counts")
_INSIDE, _LEAST_INSIDE = 0.8, 0.2
# Of the area of a hull: what is farther from any point than several spacings is a void.
_VOID, _SPACINGS, _FEWEST, _MOST = 0.03, 3.5, 60, 50_000
# Of a thinned cloud: what is left of it lies farther apart than its points do.
_VOID_OF_THINNED = 0.12
_ON_SHOTS, _FEW_SPOTS, _LEFT, _BESIDE = 0.6, 0.1, 0.98, 0.05
_FEWEST_HEIGHTS, _ABSURD = 10, 20.0


def settle(guesses: list[Guess], files: list[Looked], site: DraftedSite) -> list[Guess]:
    """Switch off what would give the same ground twice or cut it away, and add what the whole needs."""
    guesses = _frozen(guesses, files)
    guesses = _check_points(guesses)
    _same_ground_twice(guesses, files)
    _lines_through_shots(guesses, files, site)
    _rings_at_no_height(guesses, files)
    places = _places(guesses, files, site)
    _outlines(guesses, files, site, places)
    return [*_one_of_each(guesses), *_trim(places, guesses, site)]


def _frozen(guesses: list[Guess], files: list[Looked]) -> list[Guess]:
    """The table of a frozen surface is not points but the shots behind its vertices."""
    tables = {looked.name for looked in files if set(_FROZEN) <= set(looked.contents.points.columns)}
    out = []
    for guess in guesses:
        file = str(guess.keys.get("file", ""))
        if file in tables:
            continue
        table = file.rpartition(".")[0] + ".csv"
        if guess.keys.get("role") == "surface" and table in tables:
            guess.keys["traced_by"] = table
            guess.why.append("frozen: the table beside it has the shots behind its vertices")
        out.append(guess)
    return out


def _check_points(guesses: list[Guess]) -> list[Guess]:
    """Files of check points are compared with the surface where there is other ground."""
    others = any((guess.is_points or guess.is_finished) and guess.is_on for guess in guesses)
    out = []
    for guess in guesses:
        is_check = guess.keys.get("role") == "points" and not guess.is_points and guess.is_measured
        if is_check and others:
            keys = {key: value for key, value in guess.keys.items() if key != "role"}
            out.append(Guess("check_points", keys, [*guess.why, "its name means points measured to check the surface"]))
        else:
            guess.is_points |= is_check
            out.append(guess)
    return out


def _lines_through_shots(guesses: list[Guess], files: list[Looked], site: DraftedSite) -> None:
    """Lines at height zero whose vertices are shots take their heights from them."""
    on = {str(guess.keys.get("file")) for guess in guesses if guess.is_points and guess.is_on}
    shots = [_solid(looked, site) for looked in files if looked.name in on]
    places = np.concatenate([np.empty((0, 2)), *shots])
    if not len(places):
        return
    tree = scipy.spatial.cKDTree(places)
    reach = SHOT_REACH.in_units(site.units)
    by_name = {looked.name: looked for looked in files}
    for guess in guesses:
        if guess.table != "source" or guess.keys.get("role") != "breaklines" or guess.is_on:
            continue
        if "without heights" not in " ".join(guess.why):
            continue
        vertices = _vertices_of(guess, by_name[str(guess.keys["file"])], site)
        near = np.asarray(tree.query(vertices, distance_upper_bound=reach)[0]) <= reach
        if len(near) and near.mean() >= _ON_SHOTS:
            guess.keys.pop("on", None)
            guess.keys["heights"] = "shots"
            guess.why = [*guess.why[:-1], f"{100.0 * near.mean():.0f} % of its vertices are shots: heights from them"]


def _solid(looked: Looked, site: DraftedSite) -> Floats:
    """Places (n, 2) of the points of a file."""
    count = len(looked.contents.points)
    is_solid = np.asarray(looked.contents.points.column("kind") != TEXT)
    return np.asarray(looked.places(site.frame)[:count][is_solid, :2])


def _vertices_of(guess: Guess, looked: Looked, site: DraftedSite) -> Floats:
    """Places (n, 2) of the vertices of the lines that a guess is about."""
    layers = guess.keys.get("keep", {}).get("layers")
    moved, first = looked.places(site.frame), len(looked.contents.points)
    parts = [np.empty((0, 2))]
    for line in looked.contents.lines:
        if layers is None or str(line.facts.get("layer", "")) in layers:
            parts.append(moved[first : first + len(line.xyz), :2])
        first += len(line.xyz)
    return np.concatenate(parts)


def _rings_at_no_height(guesses: list[Guess], files: list[Looked]) -> None:
    """Closed lines that are all at one height, far from that of the points, are outlines and no breaklines."""
    heights = [
        looked.contents.points.xyz[looked.contents.points.column("kind") != TEXT][:, 2]
        for looked in files
        if any(guess.is_points and guess.is_on and guess.keys.get("file") == looked.name for guess in guesses)
    ]
    z = np.concatenate([np.empty(0), *heights])
    z = z[np.isfinite(z) & (z != 0.0)]
    by_name = {looked.name: looked for looked in files}
    for guess in guesses:
        if (
            guess.table != "source"
            or guess.keys.get("role") != "breaklines"
            or not guess.is_on
            or len(z) < _FEWEST_HEIGHTS
        ):
            continue
        layers = guess.keys.get("keep", {}).get("layers")
        lines = [
            line
            for line in by_name[str(guess.keys["file"])].contents.lines
            if layers is None or str(line.facts.get("layer", "")) in layers
        ]
        if not lines or not all(line.closed and np.ptp(line.xyz[:, 2]) == 0.0 for line in lines):
            continue
        low, high = np.quantile(z, [0.05, 0.95])
        off = max(abs(float(line.xyz[0, 2]) - float(np.clip(line.xyz[0, 2], low, high))) for line in lines)
        if off > max(3.0 * float(high - low), _ABSURD):
            guess.table = "boundary"
            del guess.keys["role"]
            guess.keys["effect"] = "keep"
            guess.why.append(f"closed and at {lines[0].xyz[0, 2]:g}, far from all heights: an outline")


def _same_ground_twice(guesses: list[Guess], files: list[Looked]) -> None:
    measured = any(guess.is_points and guess.is_on for guess in guesses)
    clouds = [guess for guess in guesses if guess.keys.get("role") == "cloud" and guess.is_on]
    # One that states what is ground comes before one that has to be filtered.
    for guess in sorted(clouds, key=lambda guess: "ground_filter" in guess.keys)[1:]:
        guess.off("another cloud is on already")
    few_spots = _spots_are_few(guesses, files)
    for guess in guesses:
        if guess.is_on and guess.is_finished and measured and not (few_spots and guess.keys.get("role") == "contours"):
            guess.off("made from other data; there is measured ground here")
    finished = [guess for guess in guesses if guess.is_finished and guess.is_on]
    for guess in finished[1:]:
        if not _lies_beside(guess, [each for each in finished if each is not guess and each.is_on], files):
            guess.off("another surface is on already")
    for guess in guesses:
        if guess.needs and guess.is_on and (measured or finished):
            # A table that is off must be whole too.
            del guess.keys["heights"], guess.keys["ladder"]
            guess.off("there is other ground here")
        if guess.keys.get("heights") == "shots" and guess.is_on and not measured:
            guess.off("there are no shots that it could take heights from")


def _lies_beside(guess: Guess, others: list[Guess], files: list[Looked]) -> bool:
    """Whether a surface covers other ground than those that are on already, as parts of one site do."""
    surfaces = {(looked.name, surface.name): surface for looked in files for surface in looked.contents.surfaces}
    own = surfaces.get((str(guess.keys["file"]), str(guess.keys.get("name", ""))))
    rest = [surfaces.get((str(each.keys["file"]), str(each.keys.get("name", "")))) for each in others]
    if own is None or not rest or any(each is None for each in rest):
        return False
    middles = own.vertices[own.triangles].mean(axis=1)[:, :2]
    covered = [each.triangles_at(*middles.T) >= 0 for each in rest if each is not None]
    return bool(np.any(covered, axis=0).mean() < _BESIDE)


def _spots_are_few(guesses: list[Guess], files: list[Looked]) -> bool:
    """Whether the points are so few beside the contours that they only add to them."""
    held = {looked.name: looked.contents for looked in files}
    on = [guess for guess in guesses if guess.is_on and str(guess.keys.get("file")) in held]
    spots = sum(len(held[str(guess.keys["file"])].points) for guess in on if guess.is_points)
    files_of = {str(guess.keys["file"]) for guess in on if guess.keys.get("role") == "contours"}
    vertices = sum(len(line.xyz) for name in files_of for line in held[name].lines)
    return spots < _FEW_SPOTS * vertices


def _places(guesses: list[Guess], files: list[Looked], site: DraftedSite) -> Floats:
    """Places (n, 2) of the ground that is on."""
    on = {str(guess.keys.get("file")) for guess in guesses if guess.is_on and (guess.is_measured or guess.is_finished)}
    places = [np.empty((0, 2))]
    for looked in files:
        if looked.name in on:
            xyz = looked.places(site.frame)
            count = len(looked.contents.points)
            solid = np.ones(len(xyz), np.bool_)
            solid[:count] = looked.contents.points.column("kind") != TEXT
            places.append(xyz[solid, :2])
    return np.concatenate(places)


def _outlines(guesses: list[Guess], files: list[Looked], site: DraftedSite, places: Floats) -> None:
    """An outline keeps the ground only where most of it is inside, and cuts only what is a small part of it."""
    by_name = {looked.name: looked for looked in files}
    for guess in guesses:
        if guess.table != "boundary" or not guess.is_on or not len(places):
            continue
        looked = by_name[str(guess.keys["file"])]
        layers = guess.keys.get("keep", {}).get("layers")
        share = _share_inside(layers, looked, site, places)
        is_named = any("name means" in why for why in guess.why)
        if share < _LEAST_INSIDE and guess.keys["effect"] == "keep":
            guess.off(f"only {100.0 * share:.0f} % of the ground is inside; is it a hole?")
        elif share < _INSIDE and not is_named:
            guess.off(f"{100.0 * share:.0f} % of the ground is inside: what it limits is not clear")
        elif share > _INSIDE and guess.keys["effect"] == "cut":
            guess.off(f"{100.0 * share:.0f} % of the ground is inside, and would be cut away")


def _share_inside(layers: object, looked: Looked, site: DraftedSite, places: Floats) -> float:
    """Which part of the ground lies inside the rings of some layers."""
    first = len(looked.contents.points)
    moved = looked.places(site.frame)
    rings = []
    for line in looked.contents.lines:
        is_of_layer = layers is None or str(line.facts.get("layer", "")) in layers  # type: ignore[operator]
        if line.closed and is_of_layer:
            rings.append(np.ascontiguousarray(moved[first : first + len(line.xyz), :2]))
        first += len(line.xyz)
    sample = np.ascontiguousarray(places[:: max(len(places) // 5000, 1)])
    return float(is_inside_rings(sample, rings).mean()) if rings else 0.0


def _one_of_each(guesses: list[Guess]) -> list[Guess]:
    """Join the guesses for tables of which there is one."""
    busts = [guess for guess in guesses if guess.table == "busts"]
    rest = [guess for guess in guesses if guess.table != "busts"]
    if not busts:
        return rest
    kinds = dict.fromkeys(kind for guess in busts for kind in guess.keys["leave_out"])
    return [*rest, Guess("busts", {"leave_out": list(kinds)}, busts[0].why)]


def _trim(places: Floats, guesses: list[Guess], site: DraftedSite) -> list[Guess]:
    """Trim the rim where triangles would bridge a large part of the hull without a point."""
    if any(guess.table == "boundary" and guess.keys.get("effect") == "keep" and guess.is_on for guess in guesses):
        return []
    if not any(guess.is_points and guess.is_on for guess in guesses) or len(places) < _FEWEST:
        return []
    sample = places[:: max(len(places) // _MOST, 1)]
    sample = np.unique(sample, axis=0)
    spacing, _ = scipy.spatial.cKDTree(sample).query(sample, k=4)
    usual = float(np.quantile(np.asarray(spacing)[:, 3], 0.9))
    longest = float(f"{_SPACINGS * usual:.2g}")
    try:
        work = Triangulation(np.column_stack((sample, np.zeros(len(sample)))))
        surface, _ = work.surface()
        work.mesh.trim(longest)
        left, _ = work.surface()
    except GeometryError:
        return []
    if len(left.vertices) < _LEFT * len(surface.vertices):
        return []
    is_long = surface.side_lengths.max(axis=1) > longest
    share = float(surface.triangle_areas[is_long].sum() / surface.plan_area)
    is_thinned = any("thin" in guess.keys and guess.is_on for guess in guesses)
    if share < (_VOID_OF_THINNED if is_thinned else _VOID) or longest <= 0.0 or longest > 1e4 / METRES[site.units]:
        return []
    why = f"{100.0 * share:.0f} % of the hull has no point within {longest:g}: its triangles are left out from the rim"
    return [Guess("trim", {"longest_edge": longest}, [why])]
