"""Lines on their way into a surface: vertices that know which row of the files they are."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from evrin.kernels import Floats, Indices


@dataclass(frozen=True, eq=False)
class Strand:
    """A line while it is cut, weeded, filled and moved.

    Attributes
    ----------
    name : str
        What it is called.
    xyz : (k, 3) float64
        Height NaN where the ground is to give it.
    rows : (k,) int64
        Which row of the files each vertex is, -1 for one that was added.
    closed : bool
        Whether it ends where it begins.
    where : str
        Where it was, as in ``banks.csv lines 4 to 19``.
    effect : str
        ``"breakline"``, ``"contour"`` or ``"flat"``.
    source : int
        Which source it came from.
    description : str
        What its file states of it besides its name.
    codes : frozenset of str
        Its layer, code and name in small letters, without string numbers: what shots of it are coded with.
    """

    name: str
    xyz: Floats
    rows: Indices
    closed: bool = False
    where: str = ""
    effect: str = "breakline"
    source: int = 0
    description: str = ""
    codes: frozenset[str] = frozenset()

    def __len__(self) -> int:
        return len(self.xyz)

    @classmethod
    def made(cls, name: str, xyz: Floats, *, closed: bool = False, where: str = "") -> Strand:
        """Return a line none of whose vertices is in a file."""
        return cls(name, xyz, np.full(len(xyz), -1, np.int64), closed, where, source=-1)

    def take(self, vertices: Indices) -> Strand:
        """Return the line through some of its vertices."""
        return replace(self, xyz=self.xyz[vertices], rows=self.rows[vertices])

    def around(self) -> Floats:
        """Return its vertices, with the first once more at the end of a ring."""
        return np.vstack((self.xyz, self.xyz[:1])) if self.closed else self.xyz
