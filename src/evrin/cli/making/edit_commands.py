"""`evrin edit`: changing a recipe; each kind of edit is a sub-command made from its declaration."""

from __future__ import annotations

import difflib
import hashlib
import inspect
import types
import typing
from collections.abc import Callable
from contextvars import ContextVar
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from evrin.base.cache_folder import locked, program_stamp, remembered
from evrin.base.errors import DataError
from evrin.base.named_values import Row
from evrin.cli.asking.compare_and_freeze import print_comparison
from evrin.cli.guarding import guarded
from evrin.cli.options.shared_options import AsJson, RecipeFile
from evrin.cli.parsing import ListingGroup, made_commands
from evrin.cli.terminal import DONE, load_build, messages, output, place, places, print_answer, print_rows, progress

if TYPE_CHECKING:
    from evrin.recipe.document.recipe_text import RecipeDocument
    from evrin.recipe.edits import Edit
    from evrin.recipe.recipe import Recipe

Why = Annotated[str, typer.Option(metavar="REASON", help="The reason, kept in the recipe.", show_default=False)]
DryRun = Annotated[
    bool, typer.Option("--dry-run", help="Print what would change, in the recipe and on the ground; change nothing.")
]
TableName = Annotated[str, typer.Argument(metavar="TABLE", help="A table, as in edit:2, source:1 or trim.")]
_METAVARS = {"place": "E,N", "places": "PLACES", "number": "NUMBER", "flag": ""}
Change = Callable[["RecipeDocument"], None]
_RECIPE: ContextVar[Path] = ContextVar("recipe")


class EditGroup(ListingGroup):
    """The sub-commands of ``evrin edit``, made when one is wanted, so that other commands start sooner."""

    def list_commands(self, ctx: object) -> list[str]:
        """Return the names of the sub-commands."""
        return list(_commands())

    def get_command(self, ctx: object, cmd_name: str) -> Any:
        """Return a sub-command; listing needs no kind of edit to be known."""
        if cmd_name == "list":
            return made_commands({"list": guarded(list_tables, draws=False)})["list"]
        return _commands().get(cmd_name)


edit = typer.Typer(
    cls=EditGroup,
    name="edit",
    add_completion=False,
    rich_markup_mode=None,
    invoke_without_command=True,
    help="Change a recipe: edits of triangles and vertices, and any other table. Comments and order are kept.",
)


@edit.callback()
def _start(context: typer.Context, recipe: RecipeFile) -> int:
    _RECIPE.set(recipe)
    if context.invoked_subcommand is None:
        return int(guarded(list_tables, draws=False)(as_json=False, ndjson=False, quiet=False, verbose=False))
    return DONE


def list_tables(as_json: AsJson = False) -> int:
    """List the tables of the recipe, in the order of the work, with what each does and why."""
    rows = _rows_of(_recipe())
    if as_json:
        print_answer(rows)
        return DONE
    cells = [[row["table"], "on" if row["on"] else "off", row["what"], row["why"]] for row in rows]
    print_rows(["table", "state", "what", "why"], cells)
    return DONE


def _rows_of(recipe: Path) -> list[Row]:
    """The tables of a recipe; of one that was found free of faults before, without loading what looks for them."""

    def rows() -> list[Row]:
        from evrin.recipe.document.recipe_text import RecipeDocument

        return RecipeDocument(recipe).rows()

    try:
        digest = hashlib.sha256(recipe.read_bytes()).hexdigest()
    except OSError:
        return rows()
    tables: list[dict[str, object]] = remembered("listed-tables", f"{program_stamp()} {digest}", rows, most=20)
    return tables


def put(
    table: Annotated[
        str, typer.Argument(metavar="TABLE", help="A table, as in trim or source:2; without a number one is added.")
    ],
    values: Annotated[
        list[str],
        typer.Argument(metavar="KEY=VALUE...", help="Keys and their values, as in longest_edge=35 or file=limit.csv."),
    ],
    why: Why = "",
    dry_run: DryRun = False,
) -> int:
    """Set keys of a table, or add a table."""
    from evrin.recipe.document.values import parsed_values

    kind, number = _table(table)
    keys = parsed_values(values) | ({"why": why} if why else {})

    def change(document: RecipeDocument) -> None:
        messages().print(f"put into {document.put(kind, number, keys)}")

    return _changed(change, dry_run=dry_run)


def boundary(
    file: Annotated[str, typer.Argument(metavar="FILE", help="The file with the ring.")],
    effect: Annotated[str, typer.Option(metavar="keep|cut", help="What it does to the inside.")] = "keep",
    why: Why = "",
    dry_run: DryRun = False,
) -> int:
    """Add a boundary."""
    reason = {"why": why} if why else {}
    return _changed(
        lambda document: _append(document, "boundary", {"file": file, "effect": effect, **reason}), dry_run=dry_run
    )


def accept(
    finding: Annotated[str, typer.Argument(metavar="CODE", help="Code of the finding, as evrin check prints it.")],
    why: Annotated[str, typer.Option(metavar="REASON", help="The reason, kept in the recipe.", show_default=False)],
    at: Annotated[
        str, typer.Option(metavar="E,N", help="Its place; needed where several have the code.", show_default=False)
    ] = "",
    dry_run: DryRun = False,
) -> int:
    """Accept a finding, with a reason."""
    from evrin.check.rule_registry import meant_finding

    if not why:
        raise DataError("--why is empty. Give the reason for accepting the finding")
    built = load_build(_recipe())
    meant = meant_finding(built.findings, finding, place(at) if at else None, built.accept_reach)
    where = {"at": [round(each, 3) for each in meant.place]} if meant.place is not None else {}
    return _changed(
        lambda document: _append(document, "accept", {"finding": finding, **where, "why": why}), dry_run=dry_run
    )


def on(table: TableName, why: Why = "", dry_run: DryRun = False) -> int:
    """Switch a table on."""
    kind, number = _table(table)
    return _changed(lambda document: document.switch(kind, number, True, why), dry_run=dry_run)


def off(table: TableName, why: Why = "", dry_run: DryRun = False) -> int:
    """Switch a table off; it remains in the recipe, with the reason behind that of the table."""
    kind, number = _table(table)
    return _changed(lambda document: document.switch(kind, number, False, why), dry_run=dry_run, without=(kind, number))


def drop(table: TableName, dry_run: DryRun = False) -> int:
    """Delete a table from the recipe, with the comment just above it."""
    kind, number = _table(table)
    return _changed(lambda document: document.drop(kind, number), dry_run=dry_run, without=(kind, number))


list_tables.__name__ = "edit"
_OWN: dict[str, Callable[..., int]] = {
    "accept": accept,
    "boundary": boundary,
    "put": put,
    "on": on,
    "off": off,
    "drop": drop,
}


def _commands() -> Row:
    """The sub-commands by name: listing, a command for each kind of edit, and changes of other tables."""
    from evrin.recipe.edits import EDITS, edit_models

    edit_models()
    functions: dict[str, Callable[..., int]] = {"list": list_tables}
    functions |= {name: _command_of(name, model) for name, model in EDITS.items()}
    return made_commands({name: guarded(each, draws=False) for name, each in (functions | _OWN).items()})


def _command_of(verb: str, model: type[Edit]) -> Callable[..., int]:
    """Return the command of a kind of edit, with an option for each of its keys."""
    from evrin.recipe.tables.base import meanings_of

    fields = model.model_fields.items()
    shapes = {name: _shape_of(field.annotation) for name, field in fields if name not in ("do", "on", "why")}

    def command(**given: Any) -> int:
        dry_run, why = given.pop("dry_run"), given.pop("why")
        keys: Row = {"do": verb}
        keys |= {name: _value(shapes[name], value) for name, value in given.items() if value not in (None, "", False)}
        keys |= {"why": why} if why else {}
        return _changed(lambda document: _append_edit(document, keys), dry_run=dry_run)

    parameters = []
    for name, shape in shapes.items():
        help_text = meanings_of(model).get(name)
        option = typer.Option(f"--{name}", metavar=_METAVARS[shape], help=help_text, show_default=False)
        kind: Any = {"flag": bool, "number": float | None}.get(shape, str)
        default = {"flag": False, "number": None}.get(shape, "")
        parameters.append(_parameter(name, default, Annotated[kind, option]))
    parameters += [_parameter("why", "", Why), _parameter("dry_run", False, DryRun)]
    command.__name__, command.__doc__ = verb, model.help
    command.__signature__ = inspect.Signature(parameters)  # type: ignore[attr-defined]
    return command


def _parameter(name: str, default: object, annotation: object) -> inspect.Parameter:
    return inspect.Parameter(name, inspect.Parameter.KEYWORD_ONLY, default=default, annotation=annotation)


def _shape_of(annotation: object) -> str:
    """What a key of an edit holds: a flag, a number, a place or places."""
    kind = _bare(annotation)
    if kind is bool:
        return "flag"
    if kind is float:
        return "number"
    inner = [_bare(each) for each in typing.get_args(kind)]
    return "place" if inner == [float, float] else "places"


def _bare(annotation: object) -> object:
    """The type without the notes of Annotated and without None."""
    while True:
        origin = typing.get_origin(annotation)
        if origin is Annotated:
            annotation = typing.get_args(annotation)[0]
        elif origin in (types.UnionType, typing.Union):
            annotation = next(each for each in typing.get_args(annotation) if each is not type(None))
        else:
            return annotation


def _value(shape: str, given: object) -> object:
    if shape == "place":
        return list(place(str(given)))
    if shape == "places":
        return [list(each) for each in places(str(given))]
    return given


def _recipe() -> Path:
    """The recipe named before the sub-command."""
    return _RECIPE.get()


def _append(document: RecipeDocument, kind: str, values: dict[str, object]) -> None:
    document.append(kind, **values)


def _append_edit(document: RecipeDocument, keys: dict[str, object]) -> None:
    """Try the edit, print what it does, and write it with the keys that complete it."""
    from evrin.recipe.edits import checked_edit

    try:
        wanted = checked_edit(keys)
    except DataError as error:
        raise DataError(f"{error}. Each key is an option of the same name: --at E,N sets at") from error
    with progress() as step:
        preview = document.recipe().preview_edit(wanted, step, keep=True)
    messages().print(preview.did)
    why = {"why": keys.pop("why")} if "why" in keys else {}
    document.append("edit", **keys, **preview.keys, **why)


def _changed(change: Change, *, dry_run: bool, without: tuple[str, int | None] | None = None) -> int:
    """Change the recipe, print what has changed in it, and save it unless only that was asked for."""
    from evrin.recipe.document.recipe_text import RecipeDocument

    recipe = _recipe()
    with locked(recipe):
        document = RecipeDocument(recipe, may_be_faulty=True)
        before, text = _as_it_is(document), document.text
        change(document)
        document.recipe()
        diff = difflib.unified_diff(text.splitlines(), document.text.splitlines(), "before", "after", lineterm="", n=1)
        for row in diff:
            output().print(row)
        if before is not None and without is not None and without[0] == "edit":
            messages().print(f"without it {_edit_of(before, without[1]).undone}")
        if dry_run:
            if before is not None:
                _print_effect(before, document)
            messages().print("recipe unchanged (--dry-run)", style="dim")
        else:
            document.save()
            messages().print(f"changed {document.path}", style="dim")
    return DONE


def _as_it_is(document: RecipeDocument) -> Recipe | None:
    """The recipe before it is changed; None where it has faults, as the change may be what corrects them."""
    from evrin.base.errors import RecipeError

    try:
        return document.recipe()
    except RecipeError:
        return None


def _edit_of(recipe: Recipe, number: int | None) -> Edit:
    edits: tuple[Edit, ...] = recipe.tables.edit  # type: ignore[attr-defined]
    return edits[(number or 1) - 1]


def _table(text: str) -> tuple[str, int | None]:
    kind, colon, number = text.partition(":")
    if not kind or (colon and not number.isdigit()):
        raise DataError(
            f"{text!r} names no table. Write kind and number, as in edit:2, or a kind of which there is one, as in "
            "trim; evrin edit RECIPE list shows them"
        )
    return kind, int(number) if colon else None


def _print_effect(before: Recipe, document: RecipeDocument) -> None:
    """Build the recipe before and after the change, and print what differs on the ground."""
    from evrin.recipe.handover.comparison import compare

    after = document.recipe()
    with progress() as step:
        builds = (before.build(step, keep=True), after.build(step, keep=True))
    comparison = compare(*builds, names=("before", "after"))
    for name, built in zip(comparison.names, builds, strict=True):
        surface = built.surface
        what = f"{len(surface.vertices):,} vertices, {len(surface.triangles):,} triangles"
        output().print(f"{name}: {what}, plan area {surface.plan_area:,.1f} {surface.units}²")
    print_comparison(comparison)
