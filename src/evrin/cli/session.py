"""How the running command was asked to speak, and to load what it is given."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass, field
from enum import StrEnum
from pathlib import Path


class Spoken(StrEnum):
    """How results are printed."""

    tables = "tables"
    json = "json"
    ndjson = "ndjson"


@dataclass
class Session:
    """What holds for a command as a whole.

    Attributes
    ----------
    command : str
        Its name.
    quiet : bool
        Whether progress and notes are left out.
    spoken : Spoken
        How results are printed.
    fresh : bool
        Whether recipes are built again, whatever is kept.
    name : str
        Which surface is wanted of a file with several.
    results_to_stderr : bool
        Whether a file is written to stdout, so that tables must not.
    in_place_of : dict of str to str
        Files in place of stdin and stdout.
    built : list of (Path, dict of str to str)
        Recipes that were built, and what each rests on.
    """

    command: str = ""
    quiet: bool = False
    spoken: Spoken = Spoken.tables
    fresh: bool = False
    name: str = ""
    results_to_stderr: bool = False
    in_place_of: dict[str, str] = field(default_factory=dict)
    built: list[tuple[Path, dict[str, str]]] = field(default_factory=list)

    def shown(self, text: str) -> str:
        """Return a text with ``stdin`` and ``stdout`` in place of their files."""
        for path, name in self.in_place_of.items():
            text = text.replace(path, name)
        return text


_QUIET: ContextVar[bool] = ContextVar("quiet", default=False)
_CURRENT: ContextVar[Session | None] = ContextVar("session", default=None)


def session() -> Session:
    """Return that of the running command, or a plain one."""
    return _CURRENT.get() or Session()


def start(*, quiet: bool) -> None:
    """Note what was asked before the name of a command."""
    _QUIET.set(quiet)


def is_quiet_from_the_start() -> bool:
    """Whether --quiet came before the name of the command."""
    return _QUIET.get()


@contextmanager
def running(current: Session) -> Iterator[Session]:
    """Make a session that of the running command."""
    token = _CURRENT.set(current)
    try:
        yield current
    finally:
        _CURRENT.reset(token)
