"""Write docs/commands.md and docs/answers/ from the commands themselves."""

import json
from collections import defaultdict
from pathlib import Path
from typing import Any

from evrin.cli.answers import ANSWERS, ERROR
from evrin.cli.catalogue import all_commands

HERE = Path(__file__).parent
HEAD = """\
# Commands and their options

Made from the commands by `make commands`. `evrin COMMAND -h` prints the same.

An option means the same wherever it is taken: `-o` names a file to write, its kind by extension, and may be given
again; `--interval` is the contour interval; `--every` a length along a line. `-` in place of a file is stdin or
stdout, as delimited text, and `-.xml`, `-.geojson` and the like as another format (as an argument, after `--`); tables
then go to stderr. Numbers are in the units of the surface. Commands that build a recipe use kept results unless
`--fresh` is given.

A file can be followed by what its coordinates are, where the file does not state it: `limit.csv,units=ft`,
`old.xml,crs=EPSG:25832`, `check.csv,columns=PNEZD,height_units=ft,exchanged`. It is converted to the coordinates of the
surface. Surfaces in unlike units or reference systems are compared only with `--convert`.

`--json` prints one object: `version`, `command`, `units` and `crs` of the surface, `rows`, and what a command has
besides; an error has `error` in place of rows, with its message and exit code. Places are `easting`, `northing`,
`height`; a shot has `number`, `code`, `file`, `where` in it, and `text`. What is not known is null. `--ndjson` prints
the rows alone, one a line. The shapes are described by JSON Schema, a file for each command: [answers](answers).

Colours are left out where the output is not a terminal, and with `NO_COLOR` set; `COLUMNS` sets the width of tables.
Shells complete commands and options after `evrin --install-completion`.
"""


def options_of(command: Any) -> list[tuple[str, str, str]]:
    """Return names, value and help of each option."""
    found = []
    for each in command.params:
        if each.param_type_name == "option" and each.name != "help":
            names = ", ".join(f"`{name}`" for name in sorted([*each.opts, *each.secondary_opts], key=len))
            found.append((names, (each.metavar or "").replace("|", ", "), each.help or ""))
    return found


def commands() -> dict[str, Any]:
    """Return every command by name, those of a group as ``group name``."""
    found: dict[str, Any] = {}
    for name, command in all_commands().items():
        found[name] = command
        if hasattr(command, "list_commands"):
            del found[name]
            for inner in command.list_commands(None):
                found[f"{name} {inner}"] = command.get_command(None, inner)
    return found


def usage(name: str, command: Any) -> str:
    """Return how a command is called, without its options."""
    arguments = [each.metavar or each.name.upper() for each in command.params if each.param_type_name == "argument"]
    group, _, inner = name.partition(" ")
    words = [group, "RECIPE", inner] if inner else [name]
    return " ".join(["evrin", *words, *arguments])


def page() -> str:
    """Return the page."""
    every = commands()
    takers: dict[tuple[str, str, str], list[str]] = defaultdict(list)
    for name, command in every.items():
        for option in options_of(command):
            takers[option].append(name)
    shared = [(option, names) for option, names in takers.items() if len(names) > 1]
    lines = [HEAD, "## Options that commands share", "", "| option | value | | commands |", "|---|---|---|---|"]
    for (names, value, text), users in sorted(shared, key=lambda each: (-len(each[1]), each[0])):
        where = "all" if len(users) == len(every) else ", ".join(users)
        lines.append(f"| {names} | {value} | {text} | {where} |")
    for name, command in every.items():
        lines += ["", f"## {usage(name, command)}", "", command.help]
        own = [option for option in options_of(command) if len(takers[option]) == 1]
        if own:
            lines += ["", "| option | value | |", "|---|---|---|"]
            lines += [f"| {names} | {value} | {text} |" for names, value, text in own]
        common = [option[0] for option in options_of(command) if 1 < len(takers[option]) < len(every)]
        if common:
            lines += ["", f"And {', '.join(common)}."]
        answer = name.partition(" ")[0]
        if answer in ANSWERS and name in (answer, f"{answer} list"):
            lines += ["", f"[Its answer with `--json`](answers/{answer}.schema.json)."]
    return "\n".join(lines) + "\n"


def schemas() -> dict[str, str]:
    """Return the text of each schema by the name of its file."""
    of = {**ANSWERS, "error": ERROR}
    return {f"{name}.schema.json": json.dumps(schema, indent=1) + "\n" for name, schema in of.items()}


if __name__ == "__main__":
    (HERE / "commands.md").write_text(page(), encoding="utf-8")
    (HERE / "answers").mkdir(exist_ok=True)
    for name, text in schemas().items():
        (HERE / "answers" / name).write_text(text, encoding="utf-8")
