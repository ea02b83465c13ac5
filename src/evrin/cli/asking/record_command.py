"""`evrin record`, and adding to a record and making it again."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from evrin.base.named_values import Row
from evrin.base.wording import counted
from evrin.cli.options.shared_options import AsJson, PictureOrTableOut, sorted_outputs, write_outputs
from evrin.cli.session import session
from evrin.cli.terminal import DONE, OPEN, messages, open_because, print_answer, print_frame, progress, records

if TYPE_CHECKING:
    from matplotlib.figure import Figure

    from evrin.recipe import RecordEntry
    from evrin.recipe.handover.measuring import MeasuredVolume
    from evrin.recipe.tables.volume_table import VolumeTable

_PARTS = ("base", "top", "within", "toe", "strip_within", "along")


def record(
    file: Annotated[Path, typer.Argument(metavar="RECORD", help="A record of volumes (.jsonl).")],
    out: PictureOrTableOut = None,
    again: Annotated[
        bool, typer.Option("--again", help="Measure every entry again, and report those that no longer agree.")
    ] = False,
    as_json: AsJson = False,
) -> int:
    """Print the volumes on record, and their change since the last entry and the first; draw them over time.

    Exit code 1: with --again, an entry no longer agrees, or a line of the record holds none.
    """
    from evrin.recipe.handover.volume_record import read_record, series_of

    wanted = sorted_outputs(out, pictures=True, tables=True)
    entries, broken = read_record(file)
    if broken:
        messages().print(f"{file}: no entry in line {', '.join(map(str, broken))}, as after a kill", soft_wrap=True)
    if again:
        return again_of(file, entries, as_json=as_json) or (OPEN if broken else DONE)
    table = series_of(entries)

    def sheet() -> Figure:
        from evrin.draw.sheets.volume_sheets import series_sheet

        return series_sheet(table, entries[0].units)

    write_outputs(wanted, table, sheet)
    if as_json:
        print_answer(records(table))
    else:
        print_frame(table, f"{file.name}: {counted(len(entries), 'entry', 'entries')}, {entries[0].units}³")
    return open_because(f"lines of the record without an entry: {len(broken)}") if broken else DONE


def again_of(path: Path, entries: list[RecordEntry], *, as_json: bool) -> int:
    """Measure entries again, print which agree; exit code 1 where one does not."""
    import pandas as pd
    from pydantic import ValidationError

    from evrin.base.errors import EvrinError
    from evrin.recipe.document.recipe_faults import in_words
    from evrin.recipe.handover.measuring import measured_volume
    from evrin.recipe.handover.volume_record import changed_files, disagreements
    from evrin.recipe.tables.volume_table import VolumeTable

    rows = []
    with progress() as step:
        for entry in entries:
            step(f"measure entry {entry.line}, {entry.date[:10]}")
            wrong = changed_files(path, entry)
            try:
                asked = _asked_again(path, entry)
                convert = bool(asked.pop("convert", False))
                measured = measured_volume(VolumeTable(**asked), convert=convert)
                wrong += disagreements(entry, measured.kept_rows())
            except ValidationError as error:
                wrong.append(f"what it asks for cannot be measured: {in_words(error)}")
            except (EvrinError, ValueError) as error:
                wrong.append(str(error))
            state = "; ".join(wrong) if wrong else "agrees"
            rows.append({"entry": entry.line, "date": entry.date[:10], "name": entry.name, "state": state})
    if as_json:
        print_answer(rows)
    else:
        print_frame(pd.DataFrame(rows), f"{path.name}, measured again")
    unlike = sum(row["state"] != "agrees" for row in rows)
    return open_because(f"entries that no longer agree: {unlike} of {len(rows)}") if unlike else DONE


def _asked_again(path: Path, entry: RecordEntry) -> Row:
    """What an entry asks for, its files found from the record's folder."""
    asked = {key: value for key, value in entry.asked.items() if key != "files"}
    for part, text in list(asked.items()):
        if part in entry.asked.get("files", {}):
            _, comma, claim = str(text).partition(",")
            asked[part] = f"{path.parent / entry.asked['files'][part]}{comma}{claim}"
    return asked


def add_to_record(record: Path, asked: VolumeTable, measured: MeasuredVolume, day: str, *, convert: bool) -> None:
    """Add what was measured to a record, with the digests of all files behind it."""
    from evrin.formats.door.claims import Claim
    from evrin.recipe.handover.volume_record import append_entry

    stated = asked.model_dump(mode="json", exclude_defaults=True) | ({"convert": True} if convert else {})
    files = {part: Claim.parsed(text)[0] for part in _PARTS if (text := getattr(asked, part))}
    for recipe, parts in session().built:
        for name in parts:
            if name.startswith("file "):
                files[f"{recipe}: {name}"] = recipe.parent / name.removeprefix("file ")
    line = append_entry(record, asked.name, stated, files, measured.top.units, measured.kept_rows(), day)
    messages().print(f"entry {line} of {record}", style="dim", soft_wrap=True)


COMMANDS = (record,)
