"""Options that commands have in common, given to each that can use them, and the guard over what it reads."""

from __future__ import annotations

import contextlib
import functools
import inspect
import math
from collections.abc import Callable
from typing import Annotated, Any

import typer

from evrin.base.errors import DataError, EvrinError
from evrin.cli.options.named_files import check_named_files, files_in
from evrin.cli.options.what_is_written import is_written
from evrin.cli.piping import Pipes
from evrin.cli.session import Session, Spoken, is_quiet_from_the_start, running

_DOTS = 100
_RECIPES = ("recipe", "surface", "surfaces", "first")

Quiet = Annotated[
    bool, typer.Option("--quiet", "-q", metavar="", help="Print results and errors only: no progress, no notes.")
]
Verbose = Annotated[bool, typer.Option("--verbose", "-v", metavar="", help="Print the traceback of an internal error.")]
Overwrite = Annotated[
    bool,
    typer.Option(
        "--overwrite", help="Replace existing files even if Evrin did not write them. Inputs are never replaced."
    ),
]
Fresh = Annotated[bool, typer.Option("--fresh", help="Build recipes again instead of using kept results.")]
Name = Annotated[
    str,
    typer.Option(
        "--name", metavar="NAME", help="Name of the surface to use, if a file holds several.", show_default=False
    ),
]
Lines = Annotated[bool, typer.Option("--ndjson", help="Print the rows as JSON, one row a line.")]
Size = Annotated[
    str,
    typer.Option(
        "--size",
        metavar="SIZE",
        help="Size of the sheet: A4, A3, A2, A1, or width x height in mm, as in 325x203.",
        show_default=False,
    ),
]
Resolution = Annotated[int, typer.Option("--dpi", metavar="DOTS", help="Resolution of a .png in dots per inch.")]


def guarded(command: Callable[..., int], *, draws: bool) -> Callable[..., int]:
    """Return a command with the options it shares with others, which never writes over its inputs."""
    signature = inspect.signature(command, eval_str=True)
    own = list(signature.parameters.values())
    outputs = {each.name for each in own if is_written(each)}
    added = _shared_options(set(signature.parameters), draws=draws, writes=bool(outputs))
    for parameter in (*own, *added):
        _leave_out_the_type_of_a_switch(parameter)

    @functools.wraps(command)
    def run(**given: Any) -> int:
        from evrin.base.written_files import running_command

        shared = {each.name: given.pop(each.name) for each in added if each.name in given}
        _refuse_what_is_not_finite({**given, **shared})
        spoken = Spoken.ndjson if shared.get("ndjson") else Spoken.json if given.get("as_json") else Spoken.tables
        if "as_json" in given:
            given["as_json"] = spoken is not Spoken.tables
        current = Session(
            command.__name__,
            quiet=shared["quiet"] or is_quiet_from_the_start(),
            spoken=spoken,
            fresh=shared.get("fresh", False),
            name=shared.get("name", ""),
        )
        with contextlib.ExitStack() as stack:
            pipes = stack.enter_context(Pipes(current))
            given = {key: pipes.resolved(value, writes=key in outputs) for key, value in given.items()}
            for each in own:
                if each.name not in outputs:
                    check_named_files(each, given.get(each.name))
            inputs = [path for key, value in given.items() if key not in outputs for path in files_in(value)]
            stack.enter_context(running_command(inputs, overwrite=shared.get("overwrite", False)))
            stack.enter_context(running(current))
            if draws and (shared["size"] or shared["dpi"] != _DOTS):
                from evrin.draw.paper import paper

                stack.enter_context(paper(shared["size"], shared["dpi"]))
            try:
                code = command(**given)
            except EvrinError as error:
                if current.shown(str(error)) == str(error):
                    raise
                raise DataError(current.shown(str(error))) from error
            pipes.flush()
            return code

    run.__signature__ = signature.replace(parameters=[*own, *added])  # type: ignore[attr-defined]
    run.__annotations__ = {each.name: each.annotation for each in [*own, *added]}
    return run


def _shared_options(names: set[str], *, draws: bool, writes: bool) -> list[inspect.Parameter]:
    """The options that a command with these parameters shares with others."""
    options: list[tuple[str, object, object, bool]] = [
        ("ndjson", False, Lines, "as_json" in names),
        ("fresh", False, Fresh, bool(names & set(_RECIPES))),
        ("name", "", Name, "surface" in names),
        ("size", "", Size, draws),
        ("dpi", _DOTS, Resolution, draws),
        ("overwrite", False, Overwrite, writes),
        ("quiet", False, Quiet, True),
        ("verbose", False, Verbose, True),
    ]
    return [
        inspect.Parameter(name, inspect.Parameter.KEYWORD_ONLY, default=default, annotation=annotation)
        for name, default, annotation, wanted in options
        if wanted
    ]


def _leave_out_the_type_of_a_switch(parameter: inspect.Parameter) -> None:
    """Leave a value out of the help of an option that takes none."""
    if isinstance(parameter.default, bool):
        for option in getattr(parameter.annotation, "__metadata__", ()):
            option.metavar = ""


def _refuse_what_is_not_finite(given: dict[str, object]) -> None:
    for name, value in given.items():
        if isinstance(value, float) and not math.isfinite(value):
            raise DataError(f"--{name.replace('_', '-')} must be a finite number; got {value}")
