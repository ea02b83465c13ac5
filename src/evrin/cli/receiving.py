"""`evrin inspect` and `evrin draft`."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from evrin.cli.options import AsJson
from evrin.cli.terminal import BAD_INPUT, DONE, OPEN, messages, output, print_json, print_rows, progress, say_written
from evrin.errors import DataError, EvrinError

if TYPE_CHECKING:
    from evrin.survey.inventory import Inventory


def inspect(
    files: Annotated[list[Path], typer.Argument(metavar="FILE…", help="Files of any format that can be read.")],
    picture: Annotated[
        Path | None, typer.Option(help="A plan beside an oblique view (.png, .pdf, .svg); of one file only.")
    ] = None,
    columns: Annotated[str | None, typer.Option(help="Columns of a text file, as in PNEZD.")] = None,
    as_json: AsJson = False,
) -> int:
    """Say what is in files, by kind, layer, code and class, and what looks wrong. Exit code 1: something does."""
    from evrin.formats import look
    from evrin.survey.inventory import inventory, record

    if picture is not None:
        from evrin.draw.sheet import check_picture

        if len(files) > 1:
            raise DataError("a picture is of one file; give one file only")
        check_picture(picture)
    found, unread = [], []
    with progress() as step:
        for path in files:
            step(f"read {path.name}")
            try:
                found.append(inventory(look(path, columns)))
            except EvrinError as error:
                if len(files) == 1:
                    raise
                unread.append(str(error))
    between = _between(found)
    if as_json:
        print_json({"files": [record(each) for each in found], "between_files": between})
    else:
        for each in found:
            _print_inventory(each)
        for text in between:
            output().print(f"[bold]between the files[/]: {text}", soft_wrap=True)
    if picture is not None:
        from evrin.draw.contents import contents_sheet
        from evrin.draw.sheet import save_sheet

        save_sheet(contents_sheet(found[0]), picture)
        say_written(picture)
    for text in unread:
        messages().print(f"error: {text}", markup=False, soft_wrap=True)
    if unread:
        return BAD_INPUT
    return OPEN if between or any(each.looks_wrong for each in found) else DONE


def _between(found: list[Inventory]) -> list[str]:
    """What looks wrong between the files: those that do not go together."""
    from evrin.recipe.remarks import about_mismatch
    from evrin.survey.inventory import all_places
    from evrin.survey.mismatch import Extent, mismatches

    places = [(each.contents.file, all_places(each.contents)) for each in found]
    places = [(name, xyz) for name, xyz in places if len(xyz)]
    extents = [Extent.of(xyz) for _, xyz in places]
    names = [name for name, _ in places]
    told = []
    for each in mismatches(extents, [len(xyz) for _, xyz in places]):
        low = extents[each.source].low
        finding = about_mismatch(each, names, (float(low[0]), float(low[1])))
        told.append(f"{finding.message}; {finding.mend}")
    return told


def _print_inventory(found: Inventory) -> None:
    contents = found.contents
    console = output()
    units = contents.units or contents.hinted_units or "not said"
    console.print(
        f"[bold]{contents.file}[/]: {contents.form}; units {units}; reference system {contents.crs or 'not said'}"
    )
    heads = ["kind", "layer", "code or class", "count", "vertices", "closed", "easting", "northing", "heights"]
    heads += ["at zero", "no height"]
    rows = []
    for row in found.rows():
        closed = "" if row["closed"] is None else f"{row['closed']:,}"
        rows.append(
            [
                *(row["kind"], row["layer"], row["code"], f"{row['count']:,}", f"{row['vertices']:,}", closed),
                *(_span(row["west"], row["east"], 1), _span(row["south"], row["north"], 1)),
                *(
                    _span(row["lowest"], row["highest"], 2),
                    _unless_none(row["at_zero"]),
                    _unless_none(row["no_height"]),
                ),
            ]
        )
    print_rows(heads, rows, numeric=[False] * 3 + [True] * 8)
    for text in contents.notes:
        console.print(f"  [dim]•[/] {text}", soft_wrap=True)
    if found.looks_wrong:
        console.print("looks wrong:")
    for text in found.looks_wrong:
        console.print(f"  [red]•[/] {text}", soft_wrap=True)
    console.print()


def _unless_none(count: int) -> str:
    return f"{count:,}" if count else ""


def _span(low: float | None, high: float | None, decimals: int) -> str:
    if low is None or high is None:
        return "–"
    return f"{low:.{decimals}f}" if low == high else f"{low:.{decimals}f} to {high:.{decimals}f}"


def draft(
    files: Annotated[list[Path], typer.Argument(metavar="FILE…", help="Files, or folders to search through.")],
    out: Annotated[Path, typer.Option("--out", "-o", help="The recipe to write (.toml).")],
) -> int:
    """Write a first recipe, every guess explained in its comments."""
    from evrin.formats.files import whole_text_file
    from evrin.formats.registry import check_folder
    from evrin.recipe.draft import draft as drafted

    if out.suffix.lower() != ".toml":
        raise DataError(f"{out}: a recipe is a .toml file")
    if out.exists():
        raise DataError(f"{out}: there is a file of that name already; a draft does not replace it")
    missing = [path for path in files if not path.exists()]
    if missing:
        raise DataError(f"{missing[0]}: there is no such file or folder")
    check_folder(out)
    with progress() as step:
        made = drafted(files, out, lambda name: step(f"read {name}"))
    with whole_text_file(out) as stream:
        stream.write(made.text)
    rows = [
        [str(guess.keys.get("role", guess.table)), str(guess.keys["file"]), str(guess.keys["name"]),
         "on" if guess.keys.get("on", True) else "off", "; ".join(guess.why)]
        for guess in made.guesses
    ]  # fmt: skip
    print_rows(["role", "file", "name", "", "why"], rows, "Guesses")
    for path, why in made.passed_over:
        output().print(f"passed over {path}: {why}", markup=False)
    say_written(out)
    return DONE


def init(
    out: Annotated[Path, typer.Argument(metavar="RECIPE", help="The recipe to write (.toml).")],
) -> int:
    """Write an empty recipe, its tables in comments, to be filled in by hand."""
    from importlib.resources import files

    from evrin.formats.files import whole_text_file
    from evrin.formats.registry import check_folder

    if out.suffix.lower() != ".toml":
        raise DataError(f"{out}: a recipe is a .toml file")
    check_folder(out)
    with whole_text_file(out) as stream:
        stream.write(files("evrin.recipe").joinpath("blank.toml").read_text(encoding="utf-8"))
    say_written(out)
    return DONE


COMMANDS = (inspect, draft, init)
