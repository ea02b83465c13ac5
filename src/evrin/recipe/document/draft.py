"""A first recipe for a folder of files: what part each plays is guessed, and every guess explained."""

from __future__ import annotations

import os
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
import tomlkit

from evrin.errors import DataError, EvrinError
from evrin.formats import look
from evrin.formats.searching import found_files
from evrin.recipe.document.draft_codes import guessed_codes
from evrin.survey.contents import BLOCK, POINT, TEXT, Contents, Line, Points
from evrin.survey.file_inventory import bare_code, is_far_away
from evrin.survey.heights import has_no_height, heights_in
from evrin.survey.unset_heights import find_unset_heights
from evrin.wording import counted

Progress = Callable[[str], None]
_LIMITS = ("limit", "bound", "outline", "extent", "perimeter")
_HOLES = ("barn", "building", "house", "hole", "roof")
_LEVELS = ("level", "height", "elevation", "elev", "z", "rl")
_MOST_NUMBERS = 12


@dataclass
class Guess:
    """A table of the recipe: its kind, its keys, why it was guessed so, and whether it holds measured ground."""

    table: str
    keys: dict[str, Any]
    why: list[str] = field(default_factory=list)
    is_measured: bool = False
    is_finished: bool = False

    def off(self, why: str) -> Guess:
        """Switch it off, with the reason."""
        self.keys["on"] = False
        self.why.append(why)
        return self


@dataclass(frozen=True)
class Draft:
    """A first recipe: its text, the guesses behind it, and files that were ignored with the reason."""

    text: str
    guesses: list[Guess]
    ignored: list[tuple[Path, str]]


def draft(paths: Sequence[Path], target: Path, progress: Progress | None = None) -> Draft:
    """Draft a recipe from files and folders.

    Parameters
    ----------
    paths : sequence of Path
        Folders are searched through.
    target : Path
        Where the recipe will be; its files are named from there.
    progress : callable, optional
        Called with the name of each file.

    Returns
    -------
    Draft

    Raises
    ------
    DataError
        Where no file could go into a surface.

    Examples
    --------
    >>> from evrin.demo import small_site
    >>> from evrin.recipe import draft
    >>> path = small_site().with_name("shots.csv")
    >>> [guess.table for guess in draft([path], path.with_name("first.toml")).guesses]
    ['source']
    """
    guesses: list[Guess] = []
    codes: list[str] = []
    missing = [path for path in paths if not path.exists()]
    if missing:
        raise DataError(f"{missing[0]}: no such file or folder")
    found, ignored = found_files(paths)
    for path in found:
        if progress is not None:
            progress(path.name)
        name = os.path.relpath(path, target.parent).replace(os.sep, "/")
        try:
            contents = look(path)
            guesses += _guesses(contents, path, name)
            codes += [] if contents.form != "delimited text" else contents.points.shots.codes.tolist()
        except EvrinError as error:
            ignored.append((path, str(error).splitlines()[0]))
    _settle(guesses)
    if not any(guess.table == "source" and guess.keys.get("on", True) for guess in guesses):
        described = "; ".join(why for _, why in ignored) or "no file"
        raise DataError(f"nothing here could go into a surface: {described}")
    return Draft(_text(guesses, target, guessed_codes(codes), ignored), guesses, ignored)


def _guesses(contents: Contents, path: Path, name: str) -> list[Guess]:
    found = [*_point_guesses(contents, name), *_line_guesses(contents, path, name)]
    for surface in contents.surfaces:
        keys: dict[str, Any] = {"name": surface.name, "file": name, "role": "surface"}
        if len(contents.surfaces) > 1:
            keys["keep"] = {"names": [surface.name]}
        triangles = counted(len(surface.triangles), "triangle")
        found.append(Guess("source", keys, [f"a finished surface of {triangles}, kept unchanged"], is_finished=True))
    for grid in contents.grids:
        keys = {"name": grid.name, "file": name, "role": "grid", "thin": {"tolerance": 0.05}}
        cells = counted(int(grid.has_height.sum()), "cell")
        found.append(Guess("source", keys, [f"a grid of {cells} with heights, thinned"], is_measured=True))
    if not found:
        raise DataError(f"{path.name}: nothing in it could go into a surface")
    return found


def _point_guesses(contents: Contents, name: str) -> Iterator[Guess]:
    points = contents.points
    if not len(points):
        return
    keys: dict[str, Any] = {"name": Path(name).stem, "file": name}
    if "class" in points.columns:
        yield _cloud_guess(points, keys)
        return
    kinds = points.column("kind", POINT)
    in_sight = ~np.isin(points.column("layer").astype(str), list(contents.hidden))
    solid, texts = points.take((kinds != TEXT) & in_sight), points.take((kinds == TEXT) & in_sight)
    given = int(np.isfinite(heights_in(texts.column("text"))).sum())
    why = _column_notes(contents, keys)
    if not len(solid):
        if given:
            layers = _layers(texts.take(np.isfinite(heights_in(texts.column("text")))))
            keys |= {"role": "points", "heights": "text", "keep": {"layers": layers}}
            yield Guess(
                "source", keys, [f"{counted(given, 'text')} that give heights, and no points"], is_measured=True
            )
        return
    keys["role"] = "points"
    if _is_drawing(points):
        blocks = int((solid.column("kind") == BLOCK).sum())
        kinds_there = ((blocks, "block"), (len(solid) - blocks, "point"))
        described = " and ".join(counted(count, kind) for count, kind in kinds_there if count)
        why.append(f"{described} with heights of their own")
        bare = int(has_no_height(solid.xyz[:, 2]).sum())
        if bare and given:
            keys["heights"] = "text nearby"
            why.append(f"{bare} at height zero take it from the numbers beside them")
        if len(set(_layers(points))) > 1:
            keys["keep"] = {"layers": _layers(solid)}
    leave_out = _left_out(solid, why, skip_floor="heights" in keys)
    if leave_out:
        keys["leave_out"] = leave_out
    yield Guess("source", keys, why or ["points"], is_measured=True)


def _is_drawing(points: Points) -> bool:
    return "layer" in points.columns


def _layers(points: Points) -> list[str]:
    return sorted({str(layer) for layer in points.column("layer").tolist()})


def _column_notes(contents: Contents, keys: dict[str, Any]) -> list[str]:
    if contents.guessed_columns:
        keys["columns"] = contents.guessed_columns
    hint = ": look at the map" if contents.guessed_columns else ""
    return [note + hint for note in contents.notes if note.startswith("columns ")]


def _cloud_guess(points: Points, keys: dict[str, Any]) -> Guess:
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
    return Guess("source", keys, why, is_measured=True)


def _left_out(points: Points, why: list[str], *, skip_floor: bool) -> dict[str, list[str]]:
    """Codes of points far away, and numbers of those at zero height."""
    out: dict[str, list[str]] = {}
    far = is_far_away(points.xyz[:, :2])
    codes = {bare_code(str(code)) for code in points.shots.codes[far].tolist()}
    stays = {bare_code(str(code)) for code in points.shots.codes[~far].tolist()}
    if codes - stays - {""}:
        out["codes"] = sorted(f"{code}*" for code in codes - stays - {""})
        why.append(f"{counted(int(far.sum()), 'point')} far away, such as control, left out by code")
    for unset in find_unset_heights(points.xyz[:, 2]):
        numbers = [str(number) for number in points.shots.numbers[unset.rows].tolist() if number]
        if numbers and not (skip_floor and unset.kind == "zero") and len(numbers) <= _MOST_NUMBERS:
            out.setdefault("numbers", []).extend(numbers)
            why.append(f"{', '.join(numbers)} at height {unset.height:g}, left out by number: never set")
    return out


def _line_guesses(contents: Contents, path: Path, name: str) -> Iterator[Guess]:
    by_layer: dict[str, list[Line]] = {}
    for line in contents.lines:
        by_layer.setdefault(str(line.facts.get("layer", "")), []).append(line)
    for layer, lines in by_layer.items():
        called = path.stem if layer in ("", path.stem) else f"{path.stem} {layer}"
        keys: dict[str, Any] = {"name": called, "file": name}
        if len(by_layer) > 1 or len(contents.points):
            keys["keep"] = {"layers": [layer]}
        guess = _lines_guess(lines, keys, called.lower(), len(contents.points) > 0)
        if guess is not None:
            how = contents.hidden.get(layer)
            yield guess.off(f"its layer is {how} in the drawing") if how else guess


def _lines_guess(lines: list[Line], keys: dict[str, Any], called: str, has_points: bool) -> Guess | None:
    many = counted(len(lines), "line")
    names = f"{called} {' '.join(line.name.lower() for line in lines[:20])}"
    rings = [line for line in lines if line.closed]
    if len(rings) == len(lines) and _names_any(names, (*_LIMITS, *_HOLES)):
        effect = "keep" if _names_any(names, _LIMITS) else "cut"
        return Guess("boundary", {**keys, "effect": effect}, [f"closed, and its name means {effect}"])
    if _names_any(" ".join(str(line.facts.get("kind", "")) for line in lines[:5]), ("boundary", "alignment")):
        return None
    attribute = _level_attribute(lines)
    bare = all(has_no_height(line.xyz[:, 2]).all() for line in lines)
    if bare and attribute:
        keys |= {"role": "breaklines", "heights": {"attribute": attribute}}
        return Guess("source", keys, [f"{many} in plan, with a level in the attribute {attribute}"], is_measured=True)
    if bare and any(np.isnan(line.xyz[:, 2]).any() for line in lines):
        keys |= {"role": "breaklines", "heights": "shots"}
        return Guess("source", keys, [f"{many} in plan only, led through the shots they pass"])
    if bare:
        keys["role"] = "breaklines"
        return Guess("source", keys, [f"{many} at height zero"]).off("without heights they give no ground")
    if _are_contours(lines):
        keys["role"] = "contours"
        return Guess("source", keys, [f"{many}, each level along its length: contours"], is_finished=True)
    if _are_edges(lines):
        keys["role"] = "edges"
        why = [f"{counted(len(lines), 'loose edge')} that close into triangles: a surface of which only edges are left"]
        return Guess("source", keys, why, is_finished=True)
    keys["role"] = "breaklines"
    return Guess("source", keys, [f"{many} with heights of their own"], is_measured=not has_points)


def _names_any(text: str, words: Iterable[str]) -> bool:
    return any(word in text for word in words)


def _level_attribute(lines: list[Line]) -> str:
    for key in lines[0].facts:
        if key.lower() in _LEVELS and all(
            np.isfinite(heights_in(np.array([line.facts.get(key, "")], object)))[0] for line in lines
        ):
            return key
    return ""


def _are_contours(lines: list[Line]) -> bool:
    level = [line for line in lines if np.ptp(line.xyz[:, 2]) == 0.0]
    return len(lines) > 2 and len(level) == len(lines) and len({float(line.xyz[0, 2]) for line in lines}) > 1


def _are_edges(lines: list[Line]) -> bool:
    """Whether most lines are single edges that meet as the edges of triangles do: about three edges to two vertices."""
    if len(lines) < 12 or any(len(line.xyz) != 2 for line in lines):
        return False
    ends = Counter(tuple(place) for line in lines for place in line.xyz.tolist())
    return len(lines) > 1.8 * len(ends)


def _settle(guesses: list[Guess]) -> None:
    """Switch off what would give the same ground twice."""
    measured = any(guess.is_measured for guess in guesses)
    clouds = [guess for guess in guesses if guess.keys.get("role") == "cloud"]
    # One that states what is ground comes before one that has to be filtered.
    for guess in sorted(clouds, key=lambda guess: "ground_filter" in guess.keys)[1:]:
        guess.off("another cloud is on already")
    for guess in guesses:
        if not guess.keys.get("on", True):
            continue
        if guess.is_finished and measured:
            guess.off("made from other data; there is measured ground here")
    finished = [guess for guess in guesses if guess.is_finished and guess.keys.get("on", True)]
    for guess in finished[1:]:
        guess.off("another surface is on already")


def _text(guesses: list[Guess], target: Path, codes: tuple[str, list[str]], ignored: list[tuple[Path, str]]) -> str:
    order = {"source": 0, "boundary": 1}
    title = target.parent.resolve().name.replace("-", " ")
    parts = [
        "# A first recipe, drafted from the files. Each guess is explained above its table: read them, correct them,",
        "# and look at a map before anything is built on it.",
        "",
        "[site]",
        f"name  = {_item(f'{title}, existing ground')}",
        'units = "m"                    # a guess: m, ft or ftUS',
        'crs   = "local"                # or "EPSG:nnnn"',
    ]
    for guess in sorted(guesses, key=lambda guess: order[guess.table]):
        parts += ["", *(f"# {line}" for line in guess.why), f"[[{guess.table}]]"]
        parts += [f"{key} = {_item(value)}" for key, value in guess.keys.items()]
        if guess is _last(guesses, "source"):
            parts += codes[1]
    for path, why in ignored:
        parts += ["", f"# ignored: {path.name}: {why}"]
    return "\n".join(parts) + "\n"


def _last(guesses: list[Guess], table: str) -> Guess:
    return [guess for guess in guesses if guess.table == table][-1]


def _item(value: Any) -> str:
    if isinstance(value, dict):
        inside = ", ".join(f"{key} = {_item(inner)}" for key, inner in value.items())
        return f"{{ {inside} }}" if inside else "{}"
    return str(tomlkit.item(value).as_string())
