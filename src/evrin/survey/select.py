"""Choosing shots by code and number."""

from __future__ import annotations

from dataclasses import dataclass
from fnmatch import fnmatchcase

import numpy as np
import pandas as pd

from evrin.surface import Shots
from evrin.surface.provenance import Texts
from evrin.tin.types import Flags


@dataclass(frozen=True)
class Selection:
    """Patterns (``*``, ``?``, ``[…]``) for codes and point numbers; a shot that matches any of them is meant."""

    codes: tuple[str, ...] = ()
    numbers: tuple[str, ...] = ()

    def matches(self, shots: Shots) -> Flags:
        """Tell which shots are meant."""
        return _match(shots.codes, self.codes) | _match(shots.numbers, self.numbers)


def _match(texts: Texts, patterns: tuple[str, ...]) -> Flags:
    if not patterns:
        return np.zeros(len(texts), np.bool_)
    rows, distinct = pd.factorize(texts)
    hit = [any(fnmatchcase(text, pattern) for pattern in patterns) for text in distinct]
    return np.array(hit, np.bool_)[rows]
