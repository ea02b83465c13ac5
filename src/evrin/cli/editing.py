"""`evrin edit`: changing a recipe without disturbing its comments."""

from __future__ import annotations

import difflib
from enum import StrEnum
from typing import TYPE_CHECKING, Annotated, Any

import typer

from evrin.cli.comparing import print_comparison
from evrin.cli.options import AsJson, RecipeFile
from evrin.cli.terminal import DONE, messages, output, place, places, print_answer, print_rows, progress
from evrin.errors import DataError
from evrin.keeping import locked

if TYPE_CHECKING:
    from evrin.recipe import Recipe, RecipeDocument


class Action(StrEnum):
    """What to do to a recipe."""

    list = "list"
    flip = "flip"
    force = "force"
    remove = "remove"
    add = "add"
    move = "move"
    raise_ = "raise"
    set = "set"
    delete = "delete"
    accept = "accept"
    boundary = "boundary"
    put = "put"
    on = "on"
    off = "off"
    drop = "drop"


_EDITS = (
    *(Action.flip, Action.force, Action.remove, Action.add),
    *(Action.move, Action.raise_, Action.set, Action.delete),
)


def edit(
    recipe: RecipeFile,
    action: Annotated[Action, typer.Argument(metavar="ACTION", help=f"What to do: {', '.join(Action)}.")] = Action.list,
    what: Annotated[
        str,
        typer.Argument(
            metavar="[TABLE]",
            show_default=False,
            help="on, off, drop, put: a table, as in edit:2 or trim; put without a number appends. "
            "accept: a finding's code. boundary: a file.",
        ),
    ] = "",
    values: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[KEY=VALUE]...", help="put: keys and their values, as in longest_edge=35 or file=limit.csv"
        ),
    ] = None,
    at: Annotated[
        list[str] | None,
        typer.Option(metavar="E,N", help="The place, as in 4120.6,2877.3; of force, both ends: --at … --at …"),
    ] = None,
    to: Annotated[str, typer.Option(metavar="E,N", help="move: where to.", show_default=False)] = "",
    by: Annotated[float | None, typer.Option(metavar="HEIGHT", help="raise: by how much.")] = None,
    height: Annotated[float | None, typer.Option(metavar="HEIGHT", help="add, move, set: the height.")] = None,
    polygon: Annotated[
        str,
        typer.Option(
            metavar="PLACES", help='remove, raise, set: an area, as in "10,20 30,20 30,40".', show_default=False
        ),
    ] = "",
    line: Annotated[
        str,
        typer.Option(metavar="PLACES", help='remove: what lies under a line, as in "10,20 30,40".', show_default=False),
    ] = "",
    hole: Annotated[bool, typer.Option("--hole", help="remove: even where that opens a hole.")] = False,
    why: Annotated[
        str, typer.Option(metavar="REASON", help="The reason, kept in the recipe.", show_default=False)
    ] = "",
    effect: Annotated[str, typer.Option(metavar="EFFECT", help="What a boundary does: keep or cut.")] = "keep",
    dry_run: Annotated[
        bool,
        typer.Option("--dry-run", help="Print what would change, in the recipe and on the ground; change nothing."),
    ] = False,
    as_json: AsJson = False,
) -> int:
    """List a recipe's tables; write an edit, a boundary, an acceptance or any other table; switch one; drop one."""
    from evrin.recipe import RecipeDocument

    if action is Action.list:
        _list(RecipeDocument(recipe), as_json)
        return DONE
    with locked(recipe):
        document = RecipeDocument(recipe)
        keys = _edit_keys(action, at or [], to, by, height, polygon, line, hole, why) if action in _EDITS else {}
        _write(document, action, keys, (what, values or [], (at or [""])[0], why, effect), dry_run=dry_run)
    return DONE


def _write(
    document: RecipeDocument,
    action: Action,
    keys: dict[str, Any],
    words: tuple[str, list[str], str, str, str],
    *,
    dry_run: bool,
) -> None:
    """Change the recipe, print what has changed in it, and save it unless only that was asked for."""
    before, text = document.recipe(), document.text
    if action in _EDITS:
        _append_edit(document, keys)
    else:
        _change(document, action, *words)
    document.recipe()
    diff = difflib.unified_diff(text.splitlines(), document.text.splitlines(), "before", "after", lineterm="", n=1)
    for row in diff:
        output().print(row)
    if dry_run:
        _say_what_changes(before, document)
        messages().print("left as it was (--dry-run)", style="dim")
    else:
        document.save()
        messages().print(f"changed {document.path}", style="dim")


COMMANDS = (edit,)


def _list(document: RecipeDocument, as_json: bool) -> None:
    rows = document.rows()
    if as_json:
        print_answer(rows)
        return
    cells = [[row["table"], "on" if row["on"] else "off", row["what"], row["why"]] for row in rows]
    print_rows(["table", "state", "what", "why"], cells)


def _edit_keys(
    action: Action,
    at: list[str],
    to: str,
    by: float | None,
    height: float | None,
    polygon: str,
    line: str,
    hole: bool,
    why: str,
) -> dict[str, Any]:
    """The keys of an edit, as they were given."""
    where = [place(text) for text in at]
    keys: dict[str, Any] = {"do": action.value}
    if action is Action.force:
        if len(where) != 2:
            raise DataError("force joins two vertices: give --at twice")
        keys["joins"] = [list(end) for end in where]
    elif len(where) > 1:
        raise DataError(f"{action.value} takes one place; --at was given {len(where)} times")
    elif where:
        keys["at"] = list(where[0])
    given = {
        "to": list(place(to)) if to else None,
        "by": by,
        "height": height,
        "polygon": [list(corner) for corner in places(polygon)] if polygon else None,
        "line": [list(corner) for corner in places(line)] if line else None,
        "hole": hole or None,
        "why": why or None,
    }
    return {**keys, **{key: value for key, value in given.items() if value is not None}}


def _append_edit(document: RecipeDocument, keys: dict[str, Any]) -> None:
    """Try the edit, say what it does, and write it down with the vertices that a flip joins."""
    from evrin.recipe.schema import checked_edit

    try:
        wanted = checked_edit(keys)
    except DataError as error:
        raise DataError(f"{error} (options are named alike: --at, --to, --by, --height, --polygon, --line)") from error
    with progress() as step:
        preview = document.recipe().preview_edit(wanted, step, keep=True)
    messages().print(preview.did)
    if preview.joins is not None:
        why = keys.pop("why", None)
        keys["joins"] = [[round(x, 3), round(y, 3)] for x, y in preview.joins]
        keys |= {"why": why} if why else {}
    document.append("edit", **keys)


def _change(
    document: RecipeDocument, action: Action, what: str, values: list[str], at: str, why: str, effect: str
) -> None:
    if action in (Action.on, Action.off, Action.drop):
        kind, number = _table(what)
        if action is Action.drop:
            document.drop(kind, number)
        else:
            document.switch(kind, number, action is Action.on)
    elif action is Action.put:
        from evrin.recipe.document import parsed_values

        kind, number = _table(_needed(what, "a table", "such as trim, source:2, or flat for a new one"))
        keys = parsed_values(values) | ({"why": why} if why else {})
        if not keys:
            raise DataError("nothing to put: give keys and their values, as in longest_edge=35")
        messages().print(f"put into {document.put(kind, number, keys)}")
    elif action is Action.accept:
        keys = {"finding": _needed(what, "a finding's code", "as evrin check prints it")}
        if at:
            keys["at"] = list(place(at))
        document.append("accept", **keys, why=_needed(why, "--why", "the reason it may stand"))
    else:
        reason = {"why": why} if why else {}
        document.append("boundary", file=_needed(what, "a file", "with the ring"), effect=effect, **reason)


def _needed(value: str, what: str, meaning: str) -> str:
    if not value:
        raise DataError(f"{what} is needed: {meaning}")
    return value


def _table(text: str) -> tuple[str, int | None]:
    kind, colon, number = text.partition(":")
    if not kind or (colon and not number.isdigit()):
        raise DataError(
            f"{text!r} names no table; write kind and number, as in edit:2, or a kind of which there is one, as in "
            "trim (evrin edit RECIPE list shows them)"
        )
    return kind, int(number) if colon else None


def _say_what_changes(before: Recipe, document: RecipeDocument) -> None:
    """Build the recipe as it was and as it would be, and print what differs on the ground."""
    from evrin.recipe import compare

    after = document.recipe()
    with progress() as step:
        builds = (before.build(step, keep=True), after.build(step, keep=True))
    found = compare(("before", "after"), ("", ""), builds)
    for name, built in zip(found.names, builds, strict=True):
        surface = built.surface
        what = f"{len(surface.vertices):,} vertices, {len(surface.triangles):,} triangles"
        output().print(f"{name}: {what}, plan area {surface.plan_area:,.1f} {surface.units}²")
    print_comparison(found)
