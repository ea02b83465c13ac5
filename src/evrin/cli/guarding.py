"""Commands that write get `--overwrite`, and guard what they read."""

from __future__ import annotations

import functools
import inspect
import math
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Annotated, Any

import typer

from evrin.errors import DataError

# Parameters that name what is written; every other one that names a file names an input.
OUTPUTS = ("out", "picture", "look", "folder")
Overwrite = Annotated[
    bool, typer.Option("--overwrite", help="Replace existing files even if Evrin did not write them. Never an input.")
]


def guarded(command: Callable[..., int]) -> Callable[..., int]:
    """Return a command that never writes over its inputs, with `--overwrite` where it writes anything."""
    signature = inspect.signature(command, eval_str=True)
    writes = any(name in signature.parameters for name in OUTPUTS)

    @functools.wraps(command)
    def run(*, overwrite: bool = False, **given: Any) -> int:
        from evrin.formats.outputs import running_command

        for name, value in given.items():
            if isinstance(value, float) and not math.isfinite(value):
                raise DataError(f"--{name.replace('_', '-')} must be a finite number; got {value}")
        inputs = [path for name, value in given.items() if name not in OUTPUTS for path in _files(value)]
        with running_command(inputs, overwrite=overwrite):
            return command(**given)

    parameters = list(signature.parameters.values())
    if writes:
        switch = inspect.Parameter("overwrite", inspect.Parameter.KEYWORD_ONLY, default=False, annotation=Overwrite)
        parameters.append(switch)
    run.__signature__ = signature.replace(parameters=parameters)  # type: ignore[attr-defined]
    run.__annotations__ = {each.name: each.annotation for each in parameters}
    return run


def _files(value: Any) -> Iterator[Path]:
    """The files that an argument names."""
    if isinstance(value, (list, tuple)):
        for each in value:
            yield from _files(each)
    elif isinstance(value, Path) or (isinstance(value, str) and value):
        try:
            if Path(value).is_file():
                yield Path(value)
        except (OSError, ValueError):
            return
