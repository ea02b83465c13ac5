"""Commands that take their options as one object: a data class whose fields are the options."""

from __future__ import annotations

import functools
import inspect
from collections.abc import Callable
from dataclasses import MISSING, fields
from typing import TypeVar, get_type_hints

Options = TypeVar("Options")


def with_options(command: Callable[[Options], int]) -> Callable[..., int]:
    """Return a command whose parameters are the fields of the options that it takes, for the parser to read.

    Parameters
    ----------
    command : callable
        A function of one parameter, which is annotated with a data class.

    Returns
    -------
    callable
        Takes the fields by name.
    """
    (name,) = inspect.signature(command).parameters
    kind = get_type_hints(command)[name]
    hints = get_type_hints(kind, include_extras=True)
    parameters = [
        inspect.Parameter(
            each.name,
            inspect.Parameter.KEYWORD_ONLY,
            default=inspect.Parameter.empty if each.default is MISSING else each.default,
            annotation=hints[each.name],
        )
        for each in fields(kind)
    ]

    @functools.wraps(command)
    def run(**given: object) -> int:
        return command(kind(**given))

    run.__signature__ = inspect.Signature(parameters, return_annotation=int)  # type: ignore[attr-defined]
    run.__annotations__ = {each.name: each.annotation for each in parameters}
    return run
