"""Where things came from: file, line, point number and code of every shot."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from evrin.tin.types import Ints

Texts = NDArray[np.object_]


@dataclass(frozen=True, eq=False)
class Shots:
    """Rows read from files, in the surveyor's terms.

    Attributes
    ----------
    files : tuple of str
    file_of : (n,) int32
        Entry of *files*.
    line_of : (n,) int32
        Line in the file, from 1.
    numbers, codes : (n,) object
        Point number and code as text; empty where there is none.
    """

    files: tuple[str, ...]
    file_of: Ints
    line_of: Ints
    numbers: Texts
    codes: Texts

    def __len__(self) -> int:
        return len(self.file_of)

    def describe(self, row: int) -> str:
        """Name one shot, as in ``shot 264, code LAWN, day1.csv line 270``."""
        parts = []
        if self.numbers[row]:
            parts.append(f"shot {self.numbers[row]}")
        if self.codes[row]:
            parts.append(f"code {self.codes[row]}")
        parts.append(f"{self.files[self.file_of[row]]} line {self.line_of[row]}")
        return ", ".join(parts)

    def span(self) -> str:
        """Name the stretch of file that all rows come from, as in ``banks.csv lines 4 to 19``."""
        if len(self) == 0:
            return ""
        first, last = int(self.line_of.min()), int(self.line_of.max())
        lines = f"line {first}" if first == last else f"lines {first} to {last}"
        return f"{self.files[self.file_of[0]]} {lines}"

    def take(self, rows: NDArray[np.int64] | NDArray[np.bool_]) -> Shots:
        """Return some of the rows."""
        return Shots(self.files, self.file_of[rows], self.line_of[rows], self.numbers[rows], self.codes[rows])

    @classmethod
    def joined(cls, parts: list[Shots]) -> Shots:
        """Return all rows of several tables, one after another."""
        if not parts:
            nothing = np.empty(0, np.int32)
            return cls((), nothing, nothing, np.empty(0, object), np.empty(0, object))
        files: list[str] = []
        for part in parts:
            files += [name for name in part.files if name not in files]
        moved = [np.array([files.index(name) for name in part.files], np.int32)[part.file_of] for part in parts]
        return cls(
            tuple(files),
            np.concatenate(moved),
            np.concatenate([part.line_of for part in parts]),
            np.concatenate([part.numbers for part in parts]),
            np.concatenate([part.codes for part in parts]),
        )


@dataclass(frozen=True, eq=False)
class Provenance:
    """Which shot each vertex of a surface came from.

    Attributes
    ----------
    shots : Shots
    shot_of : (n,) int32
        Row of *shots* for each vertex; -1 where the vertex was made, at a crossing or on a boundary.
    made : dict of int to str
        What a made vertex is, by vertex.
    """

    shots: Shots
    shot_of: Ints
    made: dict[int, str] = field(default_factory=dict)

    def describe(self, vertex: int) -> str:
        """Say where a vertex came from."""
        row = int(self.shot_of[vertex])
        return self.shots.describe(row) if row >= 0 else self.made.get(int(vertex), "made vertex")
