"""The steps of a build as they are told: which ran, how long each took, what each did, and which were not needed."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, field

Progress = Callable[[str], None]


@dataclass(frozen=True)
class Stage:
    """One step of a build: its name, how long it took, what it did, and whether an earlier result was used again."""

    name: str
    seconds: float
    did: str
    reused: bool = False


@dataclass
class Stages:
    """Collects the steps of a build."""

    progress: Progress | None = None
    done: list[Stage] = field(default_factory=list)
    _started: float = 0.0
    _name: str = ""

    def start(self, name: str) -> None:
        """Begin a step."""
        self._name, self._started = name, time.perf_counter()
        if self.progress is not None:
            self.progress(name)

    def end(self, did: str, *, reused: bool = False) -> None:
        """End the step that was begun."""
        self.done.append(Stage(self._name, time.perf_counter() - self._started, did, reused))
