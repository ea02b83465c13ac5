"""`evrin inspect` and `evrin draft`."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer
from rich.text import Text

from evrin.base.errors import DataError, EvrinError
from evrin.base.wording import one_line
from evrin.cli.options.shared_options import AsJson, Columns, Label, PictureOut, sorted_outputs, write_outputs
from evrin.cli.options.what_is_written import WRITES
from evrin.cli.terminal import (
    BAD_INPUT,
    DONE,
    open_because,
    output,
    print_answer,
    print_rows,
    progress,
    say_written,
)

if TYPE_CHECKING:
    from matplotlib.figure import Figure

    from evrin.survey.file_inventory import Inventory


def inspect(
    files: Annotated[
        list[Path],
        typer.Argument(metavar="FILE…", help="Files of any format that can be read, or folders; - is stdin."),
    ],
    out: PictureOut = None,
    only: Annotated[
        list[str] | None,
        typer.Option("--only", metavar="LAYER", help="Only this layer or code, or a pattern; may be given again."),
    ] = None,
    label: Annotated[
        Label,
        typer.Option("--label", metavar="WHAT", help="What is written beside points in a picture.", show_default=False),
    ] = Label.none,
    columns: Columns = None,
    as_json: AsJson = False,
) -> int:
    """List what is in files, by kind, layer, code and class, and what looks wrong. Exit code 1: something does.

    Folders are searched through; what Evrin itself keeps there, and what no format knows, is ignored. In a picture of
    several files each has its colour.
    """
    from evrin.formats.door.searching import found_files
    from evrin.survey.file_inventory import record

    wanted = sorted_outputs(out, pictures=True)
    searched, ignored = found_files(files)
    inventories, unread = _read(searched, columns, only or [])
    between = _between(inventories)
    if as_json:
        file_rows = [record(each) for each in inventories]
        rows = [{"file": each.contents.file, **row} for each in inventories for row in each.rows()]
        print_answer(rows, files=file_rows, between_files=between, unread=unread, ignored=[str(p) for p, _ in ignored])
    else:
        for each in inventories:
            _print_inventory(each)
        for text in between:
            output().print(Text.assemble(("between the files", "bold"), f": {one_line(text)}"), soft_wrap=True)
        for path, why in ignored:
            output().print(f"ignored {path}: {why}", soft_wrap=True)

    def sheet() -> Figure:
        from evrin.draw.sheets.contents_sheet import contents_sheet

        drawn = [each for each in inventories if not each.contents.is_empty]
        if not drawn:
            raise DataError(f"nothing to draw: no layer and no code is {' or '.join(only or ['there'])}")
        return contents_sheet(drawn, "" if label is Label.none else label.value)

    write_outputs(wanted, sheet=sheet)
    for text in unread:
        print(f"error: {text}", file=sys.stderr)
    if unread:
        return BAD_INPUT
    wrong = sum(bool(each.looks_wrong) for each in inventories)
    reasons = [f"files that look wrong: {wrong}"] if wrong else []
    reasons += [f"contradictions between files: {len(between)}"] if between else []
    return open_because("; ".join(reasons)) if reasons else DONE


def _read(paths: list[Path], columns: str | None, only: list[str]) -> tuple[list[Inventory], list[str]]:
    """What each file holds, and why others cannot be read; a single one that cannot be is refused."""
    from evrin.formats.door.readers import look
    from evrin.survey.file_inventory import inventory

    inventories, unread = [], []
    with progress() as step:
        for path in paths:
            step(f"read {path.name}")
            try:
                contents = look(path, columns)
                inventories.append(inventory(contents.only(only) if only else contents))
            except EvrinError as error:
                if len(paths) == 1:
                    raise
                unread.append(str(error))
    return inventories, unread


def _between(inventories: list[Inventory]) -> list[str]:
    """What looks wrong between the files: those that do not fit the rest."""
    from evrin.recipe.sources.frame_findings import mismatched
    from evrin.surface.frame import DEGREES
    from evrin.survey.file_inventory import all_places
    from evrin.survey.mismatch import Extent, Located

    located = []
    for each in inventories:
        contents, xyz = each.contents, all_places(each.contents)
        if len(xyz):
            degrees = contents.stated.units == DEGREES
            stated = bool(contents.stated.units or contents.stated.crs)
            located.append(Located(contents.file, Extent.of(xyz), len(xyz), stated, degrees))
    return [f"{finding.message}; {finding.fix}" for finding in mismatched(located)]


def _print_inventory(inventory: Inventory) -> None:
    from evrin.surface.frame import system_name

    contents = inventory.contents
    console = output()
    stated = contents.stated
    units = stated.units or stated.hinted_units or "not stated"
    heights = f", heights {stated.height_units}" if stated.height_units else ""
    system = system_name(stated.crs) or "not stated"
    summary = f"{contents.form}; units {units}{heights}; reference system {system}"
    console.print(Text.assemble((one_line(contents.file), "bold"), ": ", summary), soft_wrap=True)
    heads = ["kind", "layer", "code or class", "count", "vertices", "closed", "easting", "northing", "heights"]
    heads += ["at zero", "no height"]
    rows = []
    for row in inventory.rows():
        closed = "" if row["closed"] is None else f"{row['closed']:,}"
        rows.append(
            [
                *(
                    row["kind"],
                    one_line(row["layer"]),
                    one_line(row["code"]),
                    f"{row['count']:,}",
                    f"{row['vertices']:,}",
                    closed,
                ),
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
        console.print(Text.assemble("  ", ("•", "dim"), f" {one_line(text)}"), soft_wrap=True)
    if inventory.looks_wrong:
        console.print("looks wrong:")
    for text in inventory.looks_wrong:
        console.print(Text.assemble("  ", ("•", "red"), f" {one_line(text)}"), soft_wrap=True)
    console.print()


def _unless_none(count: int) -> str:
    return f"{count:,}" if count else ""


def _span(low: float | None, high: float | None, decimals: int) -> str:
    if low is None or high is None:
        return "–"
    return f"{low:.{decimals}f}" if low == high else f"{low:.{decimals}f} to {high:.{decimals}f}"


def draft(
    files: Annotated[list[Path], typer.Argument(metavar="FILE…", help="Files, or folders to search through.")],
    out: Annotated[Path, typer.Option("--out", "-o", metavar="RECIPE", help="The recipe to write (.toml).")],
    as_json: AsJson = False,
) -> int:
    """Write a first recipe, every guess explained in its comments."""
    from evrin.base.files import whole_text_file
    from evrin.formats.door.writers import check_folder
    from evrin.recipe.document.draft import draft as drafted

    if out.suffix.lower() != ".toml":
        raise DataError(f"{out}: a recipe is a .toml file")
    if out.exists():
        raise DataError(f"{out}: there is a file of that name already; a draft does not replace it")
    check_folder(out)
    with progress() as step:
        made = drafted(files, out, lambda name: step(f"read {name}"))
    with whole_text_file(out) as stream:
        stream.write(made.text)
    say_written(out)
    if as_json:
        guesses = [{"table": guess.table, "keys": guess.keys, "why": guess.why} for guess in made.guesses]
        site = {
            "units": made.site.units,
            "crs": made.site.crs,
            "drawing_units": made.site.drawing_units or None,
            "why": made.site.why,
        }
        print_answer(
            guesses,
            site=site,
            needs=made.needs,
            ignored=[{"file": str(path), "why": why} for path, why in made.ignored],
        )
        return DONE
    rows = [
        [str(guess.keys.get("role", guess.table)), str(guess.keys.get("file", "")), str(guess.keys.get("name", "")),
         "on" if guess.keys.get("on", True) else "off", "; ".join(guess.why)]
        for guess in made.guesses
    ]  # fmt: skip
    print_rows(["role", "file", "name", "", "why"], rows, "Guesses")
    reasons = "; ".join(made.site.why)
    output().print(Text.assemble(("site", "bold"), f": {made.site.frame}; {reasons}"), soft_wrap=True)
    for path, why in made.ignored:
        output().print(f"ignored {path}: {why}", soft_wrap=True)
    for text in made.needs:
        output().print(Text.assemble(("to fill in", "bold"), f" before it builds: {text}"), soft_wrap=True)
    return DONE


def init(
    out: Annotated[Path, WRITES, typer.Argument(metavar="RECIPE", help="The recipe to write (.toml).")],
) -> int:
    """Write an empty recipe, its tables in comments, to be filled in by hand."""
    from importlib.resources import files

    from evrin.base.files import whole_text_file
    from evrin.formats.door.writers import check_folder

    if out.suffix.lower() != ".toml":
        raise DataError(f"{out}: a recipe is a .toml file")
    check_folder(out)
    with whole_text_file(out) as stream:
        stream.write(files("evrin.recipe.document").joinpath("blank.toml").read_text(encoding="utf-8"))
    say_written(out)
    return DONE


COMMANDS = (inspect, draft, init)
