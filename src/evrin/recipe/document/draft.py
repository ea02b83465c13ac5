"""A first recipe for a folder of files: what part each plays is guessed, and every guess explained."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

import tomlkit

from evrin.base.errors import DataError, EvrinError
from evrin.formats.door.readers import look
from evrin.formats.door.searching import found_files
from evrin.recipe.document.draft_codes import guessed_codes
from evrin.recipe.document.draft_guesses import Guess, guesses_of
from evrin.recipe.document.draft_settling import settle
from evrin.recipe.document.draft_site import DraftedSite, Looked, chosen_site

Progress = Callable[[str], None]
_ORDER = {"source": 0, "flat": 1, "busts": 2, "boundary": 3, "trim": 4, "check_points": 5}
_SINGLE = ("busts", "trim")
_PROPOSED = ("proposed", "design", "planung", "projet", "proyecto")


@dataclass(frozen=True)
class Draft:
    """A first recipe: its text, the guesses behind it, files that were ignored with the reason, and the site."""

    text: str
    guesses: list[Guess]
    ignored: list[tuple[Path, str]]
    site: DraftedSite

    @property
    def needs(self) -> list[str]:
        """What a person has to fill in before it builds."""
        return [f"{guess.keys['file']}: {guess.needs}" for guess in self.guesses if guess.needs and guess.is_on]


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
    missing = [path for path in paths if not path.exists()]
    if missing:
        raise DataError(f"{missing[0]}: no such file or folder")
    found_paths, ignored = found_files(paths)
    files: list[Looked] = []
    for path in found_paths:
        if progress is not None:
            progress(path.name)
        name = os.path.relpath(path, target.parent).replace(os.sep, "/")
        try:
            files.append(Looked(path, name, look(path)))
        except EvrinError as error:
            ignored.append((path, str(error).splitlines()[0]))
    site = chosen_site(files)
    guesses: list[Guess] = []
    for looked in files:
        try:
            guesses += guesses_of(looked)
        except EvrinError as error:
            ignored.append((looked.path, str(error).splitlines()[0]))
    guesses = settle(guesses, files, site)
    if not any(guess.table == "source" and guess.is_on for guess in guesses):
        reasons = [f"{guess.keys['file']}: {'; '.join(guess.why)}" for guess in guesses if "file" in guess.keys]
        reasons_in_words = "; ".join([*(why for _, why in ignored), *reasons]) or "no file"
        raise DataError(f"nothing here could go into a surface: {reasons_in_words}")
    codes = [code for looked in files if looked.contents.form == "delimited text" for code in _codes(looked)]
    return Draft(
        _text(guesses, target, site, _handed_on(guesses, files), guessed_codes(codes), ignored), guesses, ignored, site
    )


def _codes(looked: Looked) -> list[str]:
    return [str(code) for code in looked.contents.points.shots.codes.tolist()]


def _handed_on(guesses: list[Guess], files: list[Looked]) -> dict[str, str]:
    """Name, description, kind and colour of a surface that is all a recipe rests on, to be handed back with them."""
    sources = [guess for guess in guesses if guess.table == "source" and guess.is_on]
    if len(sources) != 1 or sources[0].keys.get("role") != "surface":
        return {}
    given = [each for looked in files if looked.name == sources[0].keys["file"] for each in looked.contents.surfaces]
    if len(given) != 1:
        return {}
    stated = {key: str(getattr(given[0], key)) for key in ("name", "description", "kind", "colour")}
    if any(word in sources[0].keys["file"].lower() for word in _PROPOSED):
        stated["kind"] = "proposed"
    return {key: value for key, value in stated.items() if value and (key, value) != ("kind", "existing")}


def _text(
    guesses: list[Guess],
    target: Path,
    site: DraftedSite,
    named: dict[str, str],
    codes: tuple[str, list[str]],
    ignored: list[tuple[Path, str]],
) -> str:
    title = target.parent.resolve().name.replace("-", " ")
    parts = [
        "# A first recipe, drafted from the files. Each guess is explained above its table: read them, correct them,",
        "# and look at a map before anything is built on it.",
        "",
        *(f"# {line}" for line in site.why),
        "[site]",
        f"name  = {_item(named.pop('name', f'{title}, existing ground'))}",
        *(f"{key} = {_item(value)}" for key, value in named.items()),
        f"units = {_item(site.units)}",
        f"crs   = {_item(site.crs)}",
        *([f"drawing_units = {_item(site.drawing_units)}"] if site.drawing_units else []),
    ]
    for guess in sorted(guesses, key=lambda guess: _ORDER[guess.table]):
        head = f"[{guess.table}]" if guess.table in _SINGLE else f"[[{guess.table}]]"
        parts += ["", *(f"# {line}" for line in guess.why), *([f"# {guess.needs}"] if guess.needs else []), head]
        parts += [f"{key} = {_item(value)}" for key, value in guess.keys.items()]
        if guess is _last(guesses, "source"):
            parts += codes[1]
    for path, why in ignored:
        parts += ["", f"# ignored: {path.name}: {why}"]
    return "\n".join(parts) + "\n"


def _last(guesses: list[Guess], table: str) -> Guess:
    return [guess for guess in guesses if guess.table == table][-1]


def _item(value: object) -> str:
    if isinstance(value, dict):
        inside = ", ".join(f"{key} = {_item(inner)}" for key, inner in value.items())
        return f"{{ {inside} }}" if inside else "{}"
    if isinstance(value, list) and any(isinstance(inner, dict) for inner in value):
        return f"[{', '.join(_item(inner) for inner in value)}]"
    return str(tomlkit.item(value).as_string())
