"""`evrin edit`: changing a recipe; each kind of edit is a sub-command made from its declaration."""

from __future__ import annotations

import hashlib
import inspect
import types
import typing
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from evrin.base.cache_folder import program_stamp, remembered
from evrin.base.errors import DataError, EditError
from evrin.base.named_values import Row
from evrin.cli.guarding import guarded
from evrin.cli.making.recipe_changing import RECIPE, changed, recipe_of_command
from evrin.cli.options.shared_options import AsJson, RecipeFile
from evrin.cli.parsing import ListingGroup, made_commands
from evrin.cli.terminal import DONE, load_build, messages, place, places, print_answer, print_rows, progress

if TYPE_CHECKING:
    from evrin.recipe.build import Build
    from evrin.recipe.document.recipe_text import RecipeDocument
    from evrin.recipe.edits import Edit

Why = Annotated[str, typer.Option(metavar="REASON", help="The reason, kept in the recipe.", show_default=False)]
DryRun = Annotated[
    bool, typer.Option("--dry-run", help="Print what would change, in the recipe and on the ground; change nothing.")
]
TableNames = Annotated[
    list[str],
    typer.Argument(
        metavar="TABLE...", help="Tables: kind and number, as in edit:2; a kind; a name; a file; or a pattern of names."
    ),
]
Near = Annotated[
    float | None,
    typer.Option("--near", metavar="LENGTH", help="Take the nearest vertex within this distance.", show_default=False),
]
_METAVARS = {"place": "E,N", "places": "PLACES", "number": "NUMBER", "flag": ""}


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
    RECIPE.set(recipe)
    if context.invoked_subcommand is None:
        return int(guarded(list_tables, draws=False)(as_json=False, ndjson=False, quiet=False, verbose=False))
    return DONE


def list_tables(as_json: AsJson = False) -> int:
    """List the tables of the recipe, in the order of the work, with what each does and why."""
    rows = _rows_of(recipe_of_command())
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
        str,
        typer.Argument(
            metavar="TABLE",
            help="A table, as in trim, source:2, its name or its file; where there is none it is added.",
        ),
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

    keys = parsed_values(values) | ({"why": why} if why else {})

    def change(document: RecipeDocument) -> None:
        kind, number = document.table_to_put(table)
        messages().print(f"put into {document.put(kind, number, keys)}")

    return changed(change, dry_run=dry_run)


def boundary(
    file: Annotated[str, typer.Argument(metavar="FILE", help="The file with the ring.")] = "",
    corners: Annotated[
        str, typer.Option("--places", metavar="PLACES", help="Its corners, instead of a file.", show_default=False)
    ] = "",
    effect: Annotated[str, typer.Option(metavar="keep|cut", help="What it does to the inside.")] = "keep",
    why: Why = "",
    dry_run: DryRun = False,
) -> int:
    """Add a boundary."""
    if bool(file) == bool(corners):
        raise DataError("give a file with the ring, or its corners: --places 'E,N E,N E,N'")
    ring = {"file": file} if file else {"places": [list(each) for each in places(corners)]}
    keys: dict[str, object] = {**ring, "effect": effect, **({"why": why} if why else {})}
    return changed(lambda document: _append(document, "boundary", keys), dry_run=dry_run)


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
    built = load_build(recipe_of_command())
    meant = meant_finding(built.findings, finding, place(at) if at else None, built.accept_reach)
    where = {"at": [round(each, 3) for each in meant.place]} if meant.place is not None else {}
    return changed(
        lambda document: _append(document, "accept", {"finding": finding, **where, "why": why}), dry_run=dry_run
    )


def on(tables: TableNames, why: Why = "", dry_run: DryRun = False) -> int:
    """Switch tables on."""
    return changed(
        lambda document: _each(document, tables, lambda k, n: document.switch(k, n, True, why)), dry_run=dry_run
    )


def off(tables: TableNames, why: Why = "", dry_run: DryRun = False) -> int:
    """Switch tables off; they remain in the recipe, with the reason behind that of each."""
    return changed(
        lambda document: _each(document, tables, lambda kind, number: document.switch(kind, number, False, why)),
        dry_run=dry_run,
        without=tables,
    )


def drop(tables: TableNames, dry_run: DryRun = False) -> int:
    """Delete tables from the recipe, each with the comment just above it."""
    return changed(lambda document: _each(document, tables, document.drop), dry_run=dry_run, without=tables)


def undo(dry_run: DryRun = False) -> int:
    """Take back the last change that Evrin made to the recipe; again takes back the one before."""
    from evrin.recipe.document.recipe_text import RecipeDocument

    return changed(RecipeDocument.take_back, dry_run=dry_run)


def _each(document: RecipeDocument, words: list[str], change: Callable[[str, int | None], None]) -> None:
    """Change each table that words mean, those with higher numbers first, since dropping one renumbers the rest."""
    meant = dict.fromkeys(table for word in words for table in document.tables_named(word))
    if len(meant) > 1 or ":" not in words[0]:
        messages().print(f"tables: {', '.join(map(str, meant))}")
    for kind, number in sorted(meant, key=lambda table: -(table.number or 0)):
        change(kind, number)


list_tables.__name__ = "edit"
_OWN: dict[str, Callable[..., int]] = {
    "accept": accept,
    "boundary": boundary,
    "put": put,
    "on": on,
    "off": off,
    "drop": drop,
    "undo": undo,
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
        dry_run, why, near = given.pop("dry_run"), given.pop("why"), given.pop("near", None)
        keys: Row = {"do": verb}
        keys |= {name: _value(shapes[name], value) for name, value in given.items() if value not in (None, "", False)}
        keys |= {"why": why} if why else {}
        return changed(lambda document: _append_edit(document, keys, model.vertex_keys, near), dry_run=dry_run)

    parameters = []
    for name, shape in shapes.items():
        help_text = meanings_of(model).get(name)
        option = typer.Option(f"--{name}", metavar=_METAVARS[shape], help=help_text, show_default=False)
        kind: Any = {"flag": bool, "number": float | None}.get(shape, str)
        default = {"flag": False, "number": None}.get(shape, "")
        parameters.append(_parameter(name, default, Annotated[kind, option]))
    parameters += [_parameter("near", None, Near)] if model.vertex_keys else []
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


def _append(document: RecipeDocument, kind: str, values: dict[str, object]) -> None:
    document.append(kind, **values)


def _append_edit(
    document: RecipeDocument, keys: dict[str, object], vertex_keys: tuple[str, ...], near: float | None
) -> None:
    """Try the edit, print what it does, and write it with the keys that complete it."""
    from evrin.recipe.edits import checked_edit

    try:
        wanted = checked_edit(keys)
    except DataError as error:
        raise DataError(f"{error}. Each key is an option of the same name: --at E,N sets at") from error
    with progress() as step:
        if near is not None:
            keys |= _at_vertices(document.recipe().build(step, keep=True), keys, vertex_keys, near)
            wanted = checked_edit(keys)
        try:
            preview = document.recipe().preview_edit(wanted, step, keep=True)
        except EditError as error:
            hint = ". --near 5 takes the nearest vertex within 5" if vertex_keys and "vertex" in str(error) else ""
            raise EditError(f"{error}{hint}") from error
    messages().print(preview.did)
    why = {"why": keys.pop("why")} if "why" in keys else {}
    document.append("edit", **keys, **preview.keys, **why)


def _at_vertices(built: Build, keys: dict[str, object], vertex_keys: tuple[str, ...], near: float) -> Row:
    """The places of an edit that mean vertices, each at the nearest one, which is named."""
    from evrin.recipe.handover.nearest_vertex import nearest_vertex

    moved: Row = {}
    for key in vertex_keys:
        given = typing.cast("list[typing.Any]", keys.get(key))
        if given is None:
            continue
        is_one = isinstance(given[0], float)
        found = [nearest_vertex(built.surface, (x, y), near) for x, y in ([given] if is_one else given)]
        for each in found:
            messages().print(f"{each.distance:.3f} {built.surface.units} away: {each.name}")
        moved[key] = list(found[0].place) if is_one else [list(each.place) for each in found]
    return moved
