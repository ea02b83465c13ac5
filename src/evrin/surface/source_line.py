"""`SourceLine`: a breakline or a ring that a surface was made with."""

from __future__ import annotations

from dataclasses import dataclass

from evrin.kernels import Floats


@dataclass(frozen=True)
class SourceLine:
    """A named line of places, such as a breakline or a boundary ring, as put into a surface.

    Attributes
    ----------
    name : str
        What it is called.
    points : (k, 3) float64
        Height NaN if the line has no height there.
    closed : bool
        Whether it ends where it begins; the first place is not repeated.
    effect : str
        ``"breakline"``, ``"contour"``, ``"flat"`` for the shore of an area held level, ``"keep"`` or ``"cut"``.
    where : str
        Where it was, as in ``banks.csv lines 4 to 19``; empty where it came from no file.
    description : str
        What its file states of it besides its name.

    Examples
    --------
    >>> import evrin
    >>> import numpy as np
    >>> evrin.SourceLine("kerb", np.array([[0.0, 0, 1], [5, 0, 1]])).is_ring
    False
    """

    name: str
    points: Floats
    closed: bool = False
    effect: str = "breakline"
    where: str = ""
    description: str = ""

    @property
    def is_ring(self) -> bool:
        """Whether it limits a surface instead of shaping it."""
        return self.effect in ("keep", "cut")
