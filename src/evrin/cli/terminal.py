"""What commands share: results on stdout, the rest on stderr, and errors told in words."""

from __future__ import annotations

import json
import os
import sys
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any, TextIO

from rich.console import Console

from evrin.cli.layout import print_table
from evrin.errors import DataError

if TYPE_CHECKING:
    import pandas as pd

    from evrin.check import Finding
    from evrin.surface import Surface

DONE, OPEN, BAD_INPUT, DEFECT, STOPPED = 0, 1, 2, 70, 130
_PLAIN_WIDTH = 140


def output() -> Console:
    """The console for results."""
    return Console(width=_width(sys.stdout), highlight=False)


def messages() -> Console:
    """The console for progress and warnings."""
    return Console(stderr=True, width=_width(sys.stderr), highlight=False)


def _width(stream: TextIO) -> int | None:
    """That of the terminal, or what COLUMNS says, or wide enough for most tables where there is no terminal."""
    asked = os.environ.get("COLUMNS", "")
    if asked.isdigit() and int(asked) > 0:
        return max(int(asked), 20)
    return None if stream.isatty() else _PLAIN_WIDTH


@contextmanager
def progress() -> Iterator[Callable[[str], None]]:
    """Show which stage is under way, and say when kernels have to be compiled first."""
    from numba.core import event

    console = messages()
    told = False

    class Compiling(event.Listener):
        def on_start(self, event: Any) -> None:
            nonlocal told
            if not told:
                told = True
                console.print("preparing kernels, once on this machine: this takes about a minute …", style="dim")

        def on_end(self, event: Any) -> None:
            pass

    listener = Compiling()
    event.register("numba:compile", listener)  # type: ignore[no-untyped-call]
    try:
        with console.status("starting") as status:

            def step(name: str) -> None:
                if console.is_terminal:
                    status.update(f"{name} …")
                else:
                    console.print(f"{name} …", style="dim")

            yield step
    finally:
        event.unregister("numba:compile", listener)  # type: ignore[no-untyped-call]


def load_surface(path: Path, name: str = "") -> Surface:
    """Build a recipe, or read a surface file, the surface of that name where it holds several."""
    from evrin.formats import read_surface

    with progress() as step:
        if path.suffix.lower() == ".toml":
            from evrin.recipe import Recipe

            return Recipe.read(path).build(step, keep=True).surface
        step("read")
        return read_surface(path, name)


def place(text: str) -> tuple[float, float]:
    """Return easting and northing from ``4120.6,2877.3``.

    Raises
    ------
    DataError
        For anything else.
    """
    try:
        x, y = (float(part) for part in text.split(","))
    except ValueError as error:
        raise DataError(f"{text!r} is not a place; write easting,northing as in 4120.6,2877.3") from error
    return x, y


def places(text: str) -> list[tuple[float, float]]:
    """Return places from ``10,20 30,20 30,40``.

    Raises
    ------
    DataError
        For anything else.
    """
    return [place(part) for part in text.split()]


def say_written(path: Path) -> None:
    """Tell where an output went."""
    messages().print(f"wrote {path}", style="dim")


def print_json(value: Any) -> None:
    """Print a value as JSON; numbers that are not finite become null."""
    print(json.dumps(_plain(value), indent=2, ensure_ascii=False))


def _plain(value: Any) -> Any:
    if isinstance(value, dict):
        return {key: _plain(inner) for key, inner in value.items()}
    if isinstance(value, (list, tuple)):
        return [_plain(inner) for inner in value]
    if isinstance(value, float) and not (abs(value) < float("inf")):
        return None
    return value.item() if hasattr(value, "item") else value


def print_frame(frame: pd.DataFrame, title: str = "", decimals: int = 3) -> None:
    """Print a table with numbers to the right."""
    rows = [[_cell(value, decimals) for value in row] for row in frame.itertuples(index=False)]
    numeric = [kind in "iuf" for kind in (dtype.kind for dtype in frame.dtypes)]
    print_rows([str(name).replace("_", " ") for name in frame.columns], rows, title, numeric)


def print_rows(
    heads: Sequence[str], rows: Sequence[Sequence[str]], title: str = "", numeric: Sequence[bool] | None = None
) -> None:
    """Print rows of text under heads."""
    if title:
        output().print(title, style="bold", markup=False)
    print_table(output(), heads, rows, numeric)


def _cell(value: Any, decimals: int) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, float):
        return f"{value:.{decimals}f}" if value == value else "–"
    return f"{value:,}" if isinstance(value, int) else str(value)


def finding_record(number: int, finding: Finding) -> dict[str, Any]:
    """A finding as plain values."""
    return {
        "number": number,
        "code": finding.code,
        "severity": finding.severity,
        "open": finding.is_open,
        "place": finding.place,
        "message": finding.message,
        "shots": list(finding.shots),
        "mend": finding.mend,
        "snippet": finding.snippet,
        "acceptance": finding.acceptance if finding.is_open else "",
        "accepted": finding.accepted,
    }
