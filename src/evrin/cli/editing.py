"""`evrin edit`: changing a recipe without disturbing its comments."""

from __future__ import annotations

import difflib
from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from evrin.cli.building import AsJson, RecipeFile
from evrin.cli.terminal import DONE, messages, output, place, print_json, print_rows, progress
from evrin.errors import DataError

if TYPE_CHECKING:
    from evrin.recipe import RecipeDocument


class Action(StrEnum):
    """What to do to a recipe."""

    list = "list"
    flip = "flip"
    accept = "accept"
    boundary = "boundary"
    on = "on"
    off = "off"
    drop = "drop"


def edit(
    recipe: RecipeFile,
    action: Annotated[Action, typer.Argument(help="What to do.")] = Action.list,
    what: Annotated[
        str, typer.Argument(help="on, off, drop: a table, as in edit:2. accept: a finding's code. boundary: a file.")
    ] = "",
    at: Annotated[str, typer.Option(help="The place, as in 4120.6,2877.3.")] = "",
    why: Annotated[str, typer.Option(help="The reason, kept in the recipe.")] = "",
    effect: Annotated[str, typer.Option(help="What a boundary does: keep or cut.")] = "keep",
    dry_run: Annotated[
        bool, typer.Option("--dry-run", help="Print what would change and leave the file alone.")
    ] = False,
    as_json: AsJson = False,
) -> int:
    """List a recipe's tables, append a flip, an acceptance or a boundary, or switch one on or off or drop it."""
    from evrin.recipe import RecipeDocument

    document = RecipeDocument(recipe)
    if action is Action.list:
        _list(document, as_json)
        return DONE
    before = document.text
    _change(document, action, what, at, why, effect)
    diff = difflib.unified_diff(before.splitlines(), document.text.splitlines(), "before", "after", lineterm="", n=1)
    for line in diff:
        output().print(line, markup=False)
    if dry_run:
        messages().print("left as it was (--dry-run)", style="dim")
    else:
        document.save()
        messages().print(f"changed {recipe}", style="dim")
    return DONE


COMMANDS = (edit,)


def _list(document: RecipeDocument, as_json: bool) -> None:
    rows = document.rows()
    if as_json:
        print_json(rows)
        return
    cells = [[row["table"], "on" if row["on"] else "off", row["what"], row["why"]] for row in rows]
    print_rows(["table", "state", "what", "why"], cells)


def _change(document: RecipeDocument, action: Action, what: str, at: str, why: str, effect: str) -> None:
    if action in (Action.on, Action.off, Action.drop):
        kind, number = _table(what)
        if action is Action.drop:
            document.drop(kind, number)
        else:
            document.switch(kind, number, action is Action.on)
    elif action is Action.flip:
        where = place(_needed(at, "--at", "the place of the edge to flip"))
        _say_what_flips(document.path, where)
        document.append("edit", do="flip", at=list(where), **({"why": why} if why else {}))
    elif action is Action.accept:
        values: dict[str, object] = {"finding": _needed(what, "a finding's code", "as evrin check prints it")}
        if at:
            values["at"] = list(place(at))
        document.append("accept", **values, why=_needed(why, "--why", "the reason it may stand"))
    else:
        document.append("boundary", file=_needed(what, "a file", "with the ring"), effect=effect)


def _needed(value: str, what: str, meaning: str) -> str:
    if not value:
        raise DataError(f"{what} is needed: {meaning}")
    return value


def _table(text: str) -> tuple[str, int]:
    kind, _, number = text.partition(":")
    if not number.isdigit():
        raise DataError(
            f"{text!r} names no table; write kind and number, as in edit:2 (evrin edit RECIPE list shows them)"
        )
    return kind, int(number)


def _say_what_flips(recipe: Path, where: tuple[float, float]) -> None:
    """Refuse a flip that does not fit the surface as it stands, and name the shots of one that does."""
    from evrin.recipe import Recipe
    from evrin.recipe.schema import Edit

    with progress() as step:
        preview = Recipe.read(recipe).preview_edit(Edit(do="flip", at=where), step)
    messages().print(preview.did, markup=False)
