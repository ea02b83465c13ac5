"""The few kinds of things that every reader gives."""

from __future__ import annotations

from dataclasses import dataclass, field

from evrin.surface import Shots
from evrin.tin.types import Floats


@dataclass(frozen=True)
class Refusal:
    """A row that could not be used: where it stands, and why."""

    where: str
    reason: str


@dataclass(frozen=True, eq=False)
class Points:
    """Shots with their places.

    Attributes
    ----------
    xyz : (n, 3) float64
    shots : Shots
    refused : tuple of Refusal
        Rows that hold no point.
    notes : tuple of str
        What the reader guessed.
    """

    xyz: Floats
    shots: Shots
    refused: tuple[Refusal, ...] = ()
    notes: tuple[str, ...] = field(default=())


@dataclass(frozen=True, eq=False)
class Line:
    """A named line of vertices.

    Attributes
    ----------
    name : str
    xyz : (k, 3) float64
        Height NaN where the line has none.
    shots : Shots
        One row a vertex.
    closed : bool
        Whether it was drawn so that it ends where it began; the repeated vertex is left off.
    """

    name: str
    xyz: Floats
    shots: Shots
    closed: bool = False

    @property
    def drawn(self) -> int:
        """How many vertices were drawn, the one that repeats the first included."""
        return len(self.xyz) + self.closed


@dataclass(frozen=True)
class Lines:
    """Lines read from a file, the rows that hold no vertex, and what the reader guessed."""

    lines: tuple[Line, ...]
    refused: tuple[Refusal, ...] = ()
    notes: tuple[str, ...] = ()
