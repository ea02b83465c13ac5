"""Which parameters of a command name what it writes: those of ``-o``, and those that are marked."""

from __future__ import annotations

from inspect import Parameter

_OUT = "-o"


class Writes:
    """Marks a parameter that names a file or folder to write: ``Annotated[Path, WRITES, typer.Option(…)]``."""


WRITES = Writes()


def is_written(parameter: Parameter) -> bool:
    """Return whether a parameter names what is written; one that names any other file names an input.

    Parameters
    ----------
    parameter : Parameter
        Of a command.

    Examples
    --------
    >>> from typing import Annotated
    >>> lines = Parameter("lines", Parameter.KEYWORD_ONLY, annotation=Annotated[str, WRITES])
    >>> is_written(lines)
    True
    """
    notes = getattr(parameter.annotation, "__metadata__", ())
    return any(isinstance(note, Writes) or _OUT in (getattr(note, "param_decls", None) or ()) for note in notes)
