"""What commands share: results on stdout, the rest on stderr, and errors in words."""

from __future__ import annotations

import json
import os
import sys
import threading
import time
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any, TextIO, TypeVar

from rich.console import Console
from rich.text import Text

from evrin.base import progress as far
from evrin.base.errors import DataError
from evrin.base.named_values import Row
from evrin.base.wording import duration, literal, one_line, unsigned
from evrin.cli.layout import print_table
from evrin.cli.session import Spoken, session

if TYPE_CHECKING:
    import pandas as pd

    from evrin.check import Finding
    from evrin.recipe.build import Build
    from evrin.surface.surface import Surface

T = TypeVar("T")

DONE, OPEN, BAD_INPUT, DEFECT, STOPPED = 0, 1, 2, 70, 130
_PLAIN_WIDTH = 140
_LONGEST_SILENCE = 2.5


def output() -> Console:
    """The console for results."""
    stream = sys.stderr if session().results_to_stderr else sys.stdout
    return _LiteralConsole(file=stream, width=_width(stream))


def messages() -> Console:
    """The console for progress and notes; silent with --quiet."""
    return _LiteralConsole(stderr=True, width=_width(sys.stderr), quiet=session().quiet)


class _LiteralConsole(Console):
    """A console that prints texts literally: what others wrote is not markup, and controls nothing."""

    def __init__(self, **settings: Any) -> None:
        super().__init__(markup=False, emoji=False, highlight=False, **settings)

    def print(self, *objects: Any, **style: Any) -> None:
        """Print, with control characters escaped."""
        super().print(*(literal(each) if isinstance(each, str) else each for each in objects), **style)


def _width(stream: TextIO) -> int | None:
    """That of the terminal, or that of COLUMNS, or wide enough for most tables where there is no terminal."""
    asked = os.environ.get("COLUMNS", "")
    if asked.isdigit() and int(asked) > 0:
        return max(int(asked), 20)
    return None if stream.isatty() else _PLAIN_WIDTH


@contextmanager
def progress() -> Iterator[Callable[[str], None]]:
    """Show which stage is under way, and report when kernels have to be compiled first."""
    with _stages() as stages:
        yield stages.begin


@contextmanager
def writing(target: Path) -> Iterator[None]:
    """Show that a file is being written, and report that it was."""
    with progress() as step:
        step(f"write {target.name}")
        yield
    say_written(target)


@contextmanager
def progress_by_parts() -> Iterator[Callable[[str, int, int], None]]:
    """Show which stage is under way, how many of its parts are done, and how long the rest will take."""
    with _stages() as stages:
        yield stages.reach


@contextmanager
def _stages() -> Iterator[_Stages]:
    stages = _Stages(messages())
    far.compiling_listeners.append(stages.compiling)
    far.listeners.append(stages.within)
    try:
        with stages:
            yield stages
    finally:
        far.listeners.remove(stages.within)
        far.compiling_listeners.remove(stages.compiling)


class _Stages:
    """Reports which stage is under way, and at intervals for how long it has been."""

    def __init__(self, console: Console) -> None:
        self._console = console
        self._status = console.status("starting")
        self._name = "starting"
        self._done_parts = self._parts = 0
        self._of = self._compiles = ""
        self._began = self._parts_began = self._spoke = time.monotonic()
        self._done = threading.Event()
        self._watch = threading.Thread(target=self._speak_at_intervals, daemon=True)

    def __enter__(self) -> None:
        self._status.start()
        self._watch.start()

    def __exit__(self, *raised: object) -> None:
        self._done.set()
        self._status.stop()

    def begin(self, name: str) -> None:
        """Report that a stage begins."""
        self._name, self._of = name, ""
        self._began = self._parts_began = time.monotonic()
        self._done_parts = self._parts = 0
        self._say(f"{name} …")

    def reach(self, name: str, done: int, parts: int) -> None:
        """Report how many parts of a stage are done."""
        if name != self._name or done < self._done_parts:
            self.begin(name)
        self._done_parts, self._parts = done, parts

    def within(self, done: int, parts: int, what: str) -> None:
        """Report how far the work within the stage is."""
        if (parts, what) != (self._parts, self._of) or done < self._done_parts:
            self._parts_began = time.monotonic()
        self._done_parts, self._parts, self._of = done, parts, what

    def compiling(self, kernel: str, seconds: float) -> None:
        """Report, once in a stage, that it waits for kernels to be compiled."""
        if self._compiles != self._name:
            self._compiles = self._name
            lasting = f"about {duration(seconds)} for the first" if seconds >= 1.0 else "a moment"
            text = f"{self._name}: compiling kernels, once on this machine, {lasting} …"
            self._console.print(text, style="dim", soft_wrap=True)

    def _described(self, seconds: float) -> str:
        if self._parts < 2 or (self._of and self._done_parts >= self._parts):
            return f"{self._name} … {seconds:.0f} s"
        spent = time.monotonic() - self._parts_began
        left = spent / self._done_parts * (self._parts - self._done_parts) if self._done_parts else 0.0
        rest = f", about {duration(left)} left" if left > 1.0 else ""
        of = f" {self._of}" if self._of else ""
        return f"{self._name} … {self._done_parts:,} of {self._parts:,}{of}, {duration(seconds)}{rest}"

    def _say(self, text: str) -> None:
        self._spoke = time.monotonic()
        if self._console.is_terminal:
            self._status.update(Text(text))
        else:
            self._console.print(text, style="dim", soft_wrap=True)

    def _speak_at_intervals(self) -> None:
        while not self._done.wait(0.5):
            if self._console.is_terminal or time.monotonic() - self._spoke > _LONGEST_SILENCE:
                seconds = time.monotonic() - self._began
                if seconds > 1.0:
                    self._say(self._described(seconds))


def load_surface(path: Path) -> Surface:
    """Build a recipe, or read a surface file, the surface of the name asked for where it holds several."""
    from evrin.formats.door.claims import Claim
    from evrin.formats.door.surface_files import claimed_surface

    file, claim = Claim.parsed(str(path))
    if file.suffix.lower() == ".toml":
        if not claim.is_empty:
            raise DataError(f"{path}: a recipe states units and crs itself, under [site]")
        return load_build(file).surface
    with progress() as step:
        step(f"read {file.name}")
        return claimed_surface(file, claim, session().name)


def worked_out(path: Path, name: str, make: Callable[[Surface], T]) -> tuple[Surface, T]:
    """Load a surface and return it with what is worked out of it; of a recipe, what was kept since it last changed."""
    if path.suffix.lower() == ".toml":
        built = load_build(path)
        return built.surface, built.kept(name, make)
    surface = load_surface(path)
    return surface, make(surface)


def load_surfaces(paths: Sequence[Path], *, convert: bool) -> dict[Path, Surface]:
    """Load surfaces that are to be compared; all in the unit and system of the first, where that is asked for.

    Raises
    ------
    DataError
        Where they are in unlike units or reference systems and conversion was not asked for.
    """
    from evrin.formats.door.surface_files import transformed
    from evrin.surface.frame import check_same_frame

    loaded = {path: load_surface(path) for path in paths}
    frame = next(iter(loaded.values())).frame
    if convert:
        return {
            path: ground if ground.frame.is_like(frame) else transformed(ground, frame)
            for path, ground in loaded.items()
        }
    check_same_frame([(str(path), ground.frame) for path, ground in loaded.items()])
    return loaded


def load_build(path: Path) -> Build:
    """Build a recipe, from what is kept where nothing has changed and --fresh was not given."""
    from evrin.recipe.recipe import Recipe

    with progress() as step:
        built = Recipe.read(path).build(step, keep=True, fresh=session().fresh)
    session().built.append((path, built.parts))
    return built


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
    """Print where an output was written, and note for `evrin status` of which recipes it is."""
    for recipe, parts in session().built:
        from evrin.recipe.building.status import note_written

        note_written(recipe, parts, path)
    messages().print(f"wrote {session().shown(str(path))}", style="dim", soft_wrap=True)


def records(frame: pd.DataFrame) -> list[Row]:
    """Return the rows of a table as plain values by column."""
    return [{str(name): value for name, value in row.items()} for row in frame.to_dict(orient="records")]


def print_answer(rows: Iterable[Mapping[str, object]], surface: Surface | None = None, /, **more: object) -> None:
    """Print JSON: version, command, units, reference system, rows, and whatever else a command answers.

    With ``--ndjson`` the rows alone, one a line. Numbers that are not finite become null.
    """
    stream = sys.stderr if session().results_to_stderr else sys.stdout
    if session().spoken is Spoken.ndjson:
        for row in rows:
            print(_json(row), file=stream)
        return
    of = {"units": surface.units, "crs": surface.crs} if surface is not None else {}
    print(_json({**answer_head(session().command), **of, **more, "rows": list(rows)}, indent=2), file=stream)


def print_error(error: str, code: int, command: str, *, is_line: bool) -> None:
    """Print an error as the JSON that the command was asked for."""
    answer = {**answer_head(command), "error": {"message": error, "exit_code": code}}
    print(_json(answer, indent=None if is_line else 2))


def answer_head(command: str) -> dict[str, object]:
    """What every answer in JSON begins with."""
    from evrin import __version__

    return {"version": __version__, "command": command}


def _json(value: object, indent: int | None = None) -> str:
    return json.dumps(_plain(value), indent=indent, ensure_ascii=False)


def _plain(value: object) -> object:
    if isinstance(value, str) and hasattr(value, "record"):
        return value.record()
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


def print_records(columns: Sequence[str], rows: Sequence[Sequence[object]], decimals: int = 3, title: str = "") -> None:
    """Print rows of values under columns, numbers to the right; a dash for a value that is missing."""
    cells = [["–" if value is None else _cell(_plain(value), decimals) for value in row] for row in rows]
    numeric = [any(isinstance(_plain(row[k]), (int, float)) for row in rows) for k in range(len(columns))]
    print_rows([name.replace("_", " ") for name in columns], cells, title, numeric)


def open_because(reason: str) -> int:
    """Print, as the last line, why the exit code is 1, and return that."""
    messages().print(f"exit code 1: {reason}", soft_wrap=True)
    return OPEN


def print_rows(
    heads: Sequence[str], rows: Sequence[Sequence[str]], title: str = "", numeric: Sequence[bool] | None = None
) -> None:
    """Print rows of text under heads."""
    if title:
        output().print(title, style="bold")
    print_table(output(), heads, rows, numeric)


def _cell(value: object, decimals: int) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, float):
        return unsigned(value, decimals, "")
    return f"{value:,}" if isinstance(value, int) else one_line(str(value))


def finding_record(number: int, finding: Finding) -> dict[str, object]:
    """A finding as plain values."""
    from evrin.surface.provenance import NamedShot

    return {
        "number": number,
        "code": finding.code,
        "severity": finding.severity,
        "open": finding.is_open,
        "easting": finding.place[0] if finding.place else None,
        "northing": finding.place[1] if finding.place else None,
        "message": finding.message,
        "shots": [shot if isinstance(shot, NamedShot) else NamedShot(shot) for shot in finding.shots],
        "fix": finding.fix,
        "snippet": finding.snippet,
        "acceptance": finding.acceptance if finding.is_open else "",
        "accepted": finding.accepted,
    }
