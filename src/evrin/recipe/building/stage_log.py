"""The log of a build: which steps ran, how long each took, what each did, and which were not needed."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, field

Progress = Callable[[str], None]


@dataclass(frozen=True)
class Stage:
    """One step of a build: its name, how long it took, what it did, and whether an earlier result was used again.

    Parameters
    ----------
    name : str
        Of the stage.
    seconds : float
        How long it took.
    did : str
        What it did, in words.
    reused : bool
        Whether its result was kept from before.
    from_cache : tuple of str
        Parts of it whose earlier result was used, such as sources that were not read again.

    Examples
    --------
    >>> import evrin
    >>> from evrin.demo import small_site
    >>> build = evrin.Recipe.read(small_site()).build()
    >>> [stage.name for stage in build.stages]
    ['read', 'triangulate', 'check']
    """

    name: str
    seconds: float
    did: str
    reused: bool = False
    from_cache: tuple[str, ...] = ()

    @property
    def described(self) -> str:
        """What it did, and which parts of it came from cache."""
        return f"{self.did}; {', '.join(self.from_cache)} from cache, unchanged" if self.from_cache else self.did


@dataclass
class Stages:
    """Collects the steps of a build."""

    progress: Progress | None = None
    done: list[Stage] = field(default_factory=list)
    _started: float = 0.0
    _name: str = ""
    _from_cache: list[str] = field(default_factory=list)

    def start(self, name: str) -> None:
        """Begin a step."""
        self._name, self._started, self._from_cache = name, time.perf_counter(), []
        if self.progress is not None:
            self.progress(name)

    def note(self, what: str) -> None:
        """Report progress within a step."""
        if self.progress is not None:
            self.progress(what)

    def reuse_part(self, name: str) -> None:
        """Log a part of the step whose earlier result is used."""
        self._from_cache.append(name)

    def reuse(self, name: str, did: str) -> None:
        """Log a step whose earlier result is used."""
        self.done.append(Stage(name, 0.0, did, True))

    def end(self, did: str) -> None:
        """End the step that was begun."""
        self.done.append(
            Stage(self._name, time.perf_counter() - self._started, did, from_cache=tuple(self._from_cache))
        )
