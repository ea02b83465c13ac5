"""What part each thing in a file plays in a drafted recipe, with the reason."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from evrin.base.errors import DataError
from evrin.base.named_values import Row
from evrin.base.wording import counted
from evrin.recipe.document.draft_lines import across_contours
from evrin.recipe.document.draft_shapes import look_like_contours, ring_around
from evrin.recipe.document.draft_site import Looked
from evrin.surface.validity.overlaps import under_others
from evrin.survey.codes import bare_code
from evrin.survey.contents import BLOCK, POINT, SYMBOL, TEXT, Contents, Line, Points
from evrin.survey.file_inventory import is_far_away
from evrin.survey.heights import LEVEL_NAMES, has_no_height, height_attribute, heights_in
from evrin.survey.lines.end_to_end import joined_end_to_end
from evrin.survey.lines.strands import Strand
from evrin.survey.unset_heights import find_unset_heights

_LIMITS = ("limit", "bound", "outline", "extent", "perimeter", "grenze", "limite", "perimetro", "border")
_HOLES = ("barn", "building", "house", "hole", "roof", "gebaeude", "gebäude", "batiment", "bâtiment", "edificio")
_CONTOURS = ("contour", "isoline", "isohyps", "höhenlinie", "hoehenlinie", "courbe", "curva", "niveau")
_CHECKS = ("check", "control", "kontroll", "verif", "contrôle", "controle")
_WATER = (
    "pond",
    "lake",
    "water",
    "reservoir",
    "teich",
    "gewaess",
    "gewäss",
    "etang",
    "étang",
    "plan d'eau",
    "estanque",
)
_CONTROL = ("CTRL", "CONTROL", "STN", "TBM")
_MOST_NUMBERS = 12
_JOINED = 0.05
_FEWEST_CONTOURS = 3


@dataclass
class Guess:
    """A table of the recipe.

    Attributes
    ----------
    table : str
        Its kind.
    keys : dict
        What the drafted table states.
    why : list of str
        The reasons, in words.
    is_measured : bool
        Whether it holds measured ground, and *is_points* whether as points.
    is_finished : bool
        Whether it holds ground that was made from other data.
    needs : str
        A line that a person has to fill in before the recipe builds.
    """

    table: str
    keys: Row
    why: list[str] = field(default_factory=list)
    is_measured: bool = False
    is_finished: bool = False
    is_points: bool = False
    needs: str = ""

    @property
    def is_on(self) -> bool:
        """Whether it is on."""
        return bool(self.keys.get("on", True))

    def off(self, why: str) -> Guess:
        """Switch it off, with the reason."""
        self.keys["on"] = False
        self.why.append(why)
        return self


def guesses_of(looked: Looked) -> list[Guess]:
    """Return the tables for what a file holds.

    Raises
    ------
    DataError
        Where nothing in it could go into a surface.
    """
    contents, path, name = looked.contents, looked.path, looked.name
    guesses = [*_point_guesses(looked), *_line_guesses(contents, path, name)]
    for surface in contents.surfaces:
        keys: dict[str, object] = {"name": surface.name, "file": name, "role": "surface"}
        why = [f"a finished surface of {counted(len(surface.triangles), 'triangle')}, kept unchanged"]
        if contents.is_loose and not contents.is_y_up and under_others(surface):
            keys["sheet"] = "top"
            why.append("it covers places more than once: its top is taken")
        if surface.name in contents.hidden:
            why.append(
                f"its layer is {contents.hidden[surface.name]} in the drawing; what it holds is ground all the same"
            )
        if len(contents.surfaces) > 1:
            keys["keep"] = {"names": [surface.name]}
        guesses.append(Guess("source", keys, why, is_finished=True))
    for grid in contents.grids:
        keys = {"name": grid.name, "file": name, "role": "grid", "thin": {"tolerance": 0.05}}
        cells = counted(int(grid.has_height.sum()), "cell")
        guesses.append(Guess("source", keys, [f"a grid of {cells} with heights, thinned"], True, is_points=True))
    if not guesses:
        raise DataError(f"{path.name}: nothing in it could go into a surface")
    for guess in guesses:
        guess.keys |= looked.stated_keys
        guess.why += looked.why
        if looked.off:
            guess.off(looked.off)
    return guesses


def _point_guesses(looked: Looked) -> Iterator[Guess]:
    contents, name = looked.contents, looked.name
    points = contents.points
    if not len(points):
        return
    keys: dict[str, object] = {"name": Path(name).stem, "file": name}
    if "class" in points.columns:
        yield _cloud_guess(points, keys)
        return
    kinds = points.column("kind", POINT)
    in_sight = ~np.isin(points.column("layer").astype(str), list(contents.hidden))
    solid, texts = points.take((kinds != TEXT) & in_sight), points.take((kinds == TEXT) & in_sight)
    given = int(np.isfinite(heights_in(texts.column("text"))).sum())
    why = _column_notes(looked, keys)
    if not len(solid):
        if given:
            layers = _layers(texts.take(np.isfinite(heights_in(texts.column("text")))))
            keys |= {"role": "points", "heights": "text", "keep": {"layers": layers}}
            several = counted(given, "text")
            yield Guess("source", keys, [f"{several} that give heights, and no points"], True, is_points=True)
        return
    keys["role"] = "points"
    blocks = solid.take(solid.column("kind") == BLOCK)
    attribute = height_attribute(blocks.columns)
    if 0 < len(blocks) < len(solid) and has_no_height(blocks.xyz[:, 2]).all() and attribute:
        # Blocks whose height is an attribute are a source of their own beside points with heights.
        own = {"name": f"{keys['name']} blocks", "heights": {"attribute": attribute}, "keep": {"kinds": [BLOCK]}}
        several = counted(len(blocks), "block")
        yield Guess(
            "source", {**keys, **own}, [f"{several} at height zero: heights from {attribute}"], True, is_points=True
        )
        solid = solid.take(solid.column("kind") != BLOCK)
        keys["keep"] = {"kinds": [POINT]}
    if _is_drawing(contents):
        _describe_drawn(points, solid, given, keys, why)
    if has_no_height(solid.xyz[:, 2]).all() and "heights" not in keys:
        yield Guess("source", keys, [*why, f"{counted(len(solid), 'point')} at height zero"]).off(
            "without heights they give no ground"
        )
        return
    leave_out, busts = _left_out(solid, why, skip_zero="heights" in keys)
    if leave_out:
        keys["leave_out"] = leave_out
    is_check = any(word in Path(name).stem.lower() for word in _CHECKS)
    yield Guess("source", keys, why or ["points"], True, is_points=not is_check)
    if busts:
        kinds_of_busts = {"leave_out": busts}
        yield Guess("busts", kinds_of_busts, ["heights that were never set, left out; each is reported"])


def _describe_drawn(points: Points, solid: Points, given: int, keys: Row, why: list[str]) -> None:
    """Describe what the points of a drawing are, and where their heights come from."""
    blocks = int((solid.column("kind") == BLOCK).sum())
    symbols = int((solid.column("kind") == SYMBOL).sum())
    kinds = ((blocks, "block"), (symbols, "symbol"), (len(solid) - blocks - symbols, "point"))
    counts_in_words = " and ".join(counted(count, kind) for count, kind in kinds if count)
    why.append(f"{counts_in_words} of a drawing")
    bare = has_no_height(solid.xyz[:, 2])
    attribute = height_attribute(solid.columns)
    if bare.all() and attribute:
        keys["heights"] = {"attribute": attribute}
        why.append(f"all at height zero: heights from the attribute {attribute}")
    elif bare.any() and given:
        keys["heights"] = "text nearby"
        why.append(f"{int(bare.sum())} at height zero take it from the numbers beside them")
    if len(set(_layers(points))) > 1:
        keys["keep"] = {**keys.get("keep", {}), "layers": _layers(solid)}


def _is_drawing(contents: Contents) -> bool:
    return contents.form.startswith("DXF")


def _layers(points: Points) -> list[str]:
    return sorted({str(layer) for layer in points.column("layer").tolist()})


def _column_notes(looked: Looked, keys: dict[str, object]) -> list[str]:
    guessed = looked.contents.guessed_columns
    notes = [*looked.contents.doubts]
    notes += [note for note in looked.contents.notes if note.startswith(("columns ", "point numbers", "X is taken"))]
    if not guessed:
        return notes
    if looked.keys.get("exchanged", False):
        guessed = guessed.translate(str.maketrans("NEXY", "ENYX"))
    keys["columns"] = guessed
    return [f"{note}: look at the map" if note.startswith("columns") else note for note in notes]


def _cloud_guess(points: Points, keys: dict[str, object]) -> Guess:
    classes = set(np.unique(points.columns["class"]).tolist())
    keys |= {"role": "cloud"}
    if 2 in classes:
        keys["keep"] = {"classes": [2]}
        why = [f"a cloud of {len(points):,} points with classes; class 2 is ground"]
    else:
        keys["ground_filter"] = {}
        why = [f"a cloud of {len(points):,} points without classes; the ground is filtered out of it"]
    keys["thin"] = {"tolerance": 0.05}
    why.append("thinned to what holds it within 0.05")
    return Guess("source", keys, why, True, is_points=True)


def _left_out(points: Points, why: list[str], *, skip_zero: bool) -> tuple[dict[str, list[str]], list[str]]:
    """Codes of points far away, numbers of those whose height was never set; of a great many, which kinds."""
    out: dict[str, list[str]] = {}
    busts: list[str] = []
    far = is_far_away(points.xyz[:, :2])
    codes = {bare_code(str(code)) for code in points.shots.codes[far].tolist()}
    stays = {bare_code(str(code)) for code in points.shots.codes[~far].tolist()}
    control = {code for code in stays if code.upper().startswith(_CONTROL)}
    if control:
        out["codes"] = sorted(f"{code}*" for code in control)
        why.append(f"{', '.join(sorted(control))}: control by its code, left out; keep it where it is on the ground")
    if codes - stays - {""}:
        out["codes"] = sorted({*out.get("codes", []), *(f"{code}*" for code in codes - stays - {""})})
        why.append(f"{counted(int(far.sum()), 'point')} far away, such as control, left out by code")
    for unset in find_unset_heights(points.xyz[:, 2]):
        if skip_zero and unset.kind == "zero":
            continue
        numbers = [str(number) for number in points.shots.numbers[unset.rows].tolist()]
        if all(numbers) and len(numbers) <= _MOST_NUMBERS:
            out.setdefault("numbers", []).extend(numbers)
            why.append(f"{', '.join(numbers)} at height {unset.height:g}, left out by number: never set")
        else:
            busts.append(unset.kind)
            several = counted(len(numbers), "point")
            why.append(f"{several} at height {unset.height:g}, never set: left out by [busts]")
    return out, busts


def _line_guesses(contents: Contents, path: Path, name: str) -> Iterator[Guess]:
    by_layer: dict[str, list[Line]] = {}
    for line in contents.lines:
        by_layer.setdefault(str(line.facts.get("layer", "")), []).append(line)
    limit = _limit_among(contents, by_layer)
    if limit is not None:
        layer, line = limit
        by_layer[layer] = [each for each in by_layer[layer] if each is not line]
        keep = {"names": [line.name]}
        why = [f"{line.name}, closed, is around nearly all the rest"]
        yield Guess("boundary", {"name": line.name, "file": name, "effect": "keep", "keep": keep}, why)
    for layer, lines in by_layer.items():
        called = path.stem if layer in ("", path.stem) else f"{path.stem} {layer}"
        keys: dict[str, object] = {"name": called, "file": name}
        if len(by_layer) > 1 or len(contents.points):
            keys["keep"] = {"layers": [layer]}
        guess = _lines_guess(lines, keys, called.lower(), contents)
        if guess is not None:
            how = contents.hidden.get(layer)
            yield guess.off(f"its layer is {how} in the drawing") if how else guess


def _limit_among(contents: Contents, by_layer: dict[str, list[Line]]) -> tuple[str, Line] | None:
    """The closed line around nearly all the rest, with its layer, where it is alone of its kind among others."""
    solid = contents.points.xyz[contents.points.column("kind", POINT) != TEXT]
    line = ring_around(contents.lines, solid[:, :2])
    if line is None or (not has_no_height(line.xyz[:, 2]).all() and np.ptp(line.xyz[:, 2]) > 0.0):
        return None
    layer = str(line.facts.get("layer", ""))
    is_alone = len(by_layer[layer]) == 1 or sum(each.name == line.name for each in contents.lines) > 1
    return None if is_alone or _names_any(layer.lower(), _CONTOURS) else (layer, line)


def _lines_guess(lines: list[Line], keys: dict[str, object], called: str, contents: Contents) -> Guess | None:
    many = counted(len(lines), "line")
    names = f"{called} {' '.join(line.name.lower() for line in lines[:20])}"
    rings = [line for line in lines if line.closed]
    all_closed = len(rings) == len(lines)
    if all_closed and _names_any(names, (*_LIMITS, *_HOLES)):
        effect = "keep" if _names_any(names, _LIMITS) else "cut"
        return Guess("boundary", {**keys, "effect": effect}, [f"closed, and its name means {effect}"])
    kinds = {str(line.facts.get("kind", "")) for line in lines}
    if kinds <= {"boundary", "alignment"} or (contents.surfaces and "effect" in lines[0].facts):
        return None
    attribute = _level_attribute(lines)
    bare = all(has_no_height(line.xyz[:, 2]).all() for line in lines)
    is_contour = _are_contours(lines) or kinds == {"contour"}
    role = "contours" if is_contour or _names_any(names, _CONTOURS) else "breaklines"
    if attribute and all_closed and _names_any(names, _WATER):
        keys |= {"attribute": attribute}
        return Guess("flat", keys, [f"{many} of water, each held at the level in the attribute {attribute}"])
    if bare and attribute:
        keys |= {"role": role, "heights": {"attribute": attribute}}
        return Guess("source", keys, [f"{many} in plan, with a level in the attribute {attribute}"], is_measured=True)
    if bare and all_closed and role == "breaklines" and kinds & {"polygon"}:
        return Guess("boundary", {**keys, "effect": "keep"}, [f"{many}, closed and without heights"])
    if bare and role == "contours":
        return _unlevelled(lines, keys)
    if bare and look_like_contours(lines):
        guess = _unlevelled(lines, keys)
        guess.why.append("taken for contours by their shape: long, alike, and one beside the other")
        return guess
    if bare and any(np.isnan(line.xyz[:, 2]).any() for line in lines):
        keys |= {"role": "breaklines", "heights": "shots"}
        return Guess("source", keys, [f"{many} in plan only, with heights from the shots they pass"])
    if bare:
        keys["role"] = "breaklines"
        return Guess("source", keys, [f"{many} at height zero"]).off("without heights they give no ground")
    if is_contour:
        keys["role"] = "contours"
        return Guess("source", keys, [f"{many}, each level along its length: contours"], is_finished=True)
    if _are_edges(lines):
        keys["role"] = "edges"
        why = [f"{counted(len(lines), 'loose edge')} that close into triangles: a surface of which only edges are left"]
        return Guess("source", keys, why, is_finished=True)
    keys["role"] = "breaklines"
    without = sum(bool(has_no_height(line.xyz[:, 2]).all()) for line in lines)
    why = [f"{many} with heights of their own"]
    if without:
        why.append(f"{without} of them at height zero: look at them before they are used")
    return Guess("source", keys, why, is_measured=not len(contents.points))


def _unlevelled(lines: list[Line], keys: dict[str, object]) -> Guess:
    """Contours without levels: a line across them, along which a person counts them."""
    pieces = [Strand.made(line.name, line.xyz, closed=line.closed) for line in lines]
    whole = joined_end_to_end(pieces, _JOINED)
    along = across_contours([line.xyz[:, :2] for line in whole])
    keys |= {"role": "contours", "heights": "levels", "ladder": [{"along": along}]}
    why = [f"{counted(len(lines), 'contour')} without levels; the ladder is a line across them"]
    if len(whole) < len(pieces):
        keys["join"] = _JOINED
        why.append(f"{counted(len(pieces), 'piece')} meet end to end: they are {counted(len(whole), 'line')}")
    needs = "add to the ladder: start = the level of the first contour it crosses, step = from one to the next"
    return Guess("source", keys, why, is_measured=True, needs=needs)


def _names_any(text: str, words: Iterable[str]) -> bool:
    return any(word in text for word in words)


def _level_attribute(lines: list[Line]) -> str:
    for key in lines[0].facts:
        if key.lower() in LEVEL_NAMES and all(
            np.isfinite(heights_in(np.array([line.facts.get(key, "")], object)))[0] for line in lines
        ):
            return key
    return ""


def _are_contours(lines: list[Line]) -> bool:
    level = [line for line in lines if np.ptp(line.xyz[:, 2]) == 0.0]
    is_enough = len(lines) >= _FEWEST_CONTOURS and len(level) == len(lines)
    return is_enough and len({float(line.xyz[0, 2]) for line in lines}) > 1


def _are_edges(lines: list[Line]) -> bool:
    """Whether most lines are single edges that meet as the edges of triangles do: about three edges to two vertices."""
    if len(lines) < 12 or any(len(line.xyz) != 2 for line in lines):
        return False
    ends = Counter(tuple(place) for line in lines for place in line.xyz.tolist())
    return len(lines) > 1.8 * len(ends)
