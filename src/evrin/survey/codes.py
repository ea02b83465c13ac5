"""Field codes: what a shot's code says it is, and which shots join into lines."""

from __future__ import annotations

import re
from dataclasses import dataclass
from fnmatch import fnmatchcase
from typing import Literal

import numpy as np
import pandas as pd

from evrin.survey.things import Points
from evrin.tin.types import Flags

Meaning = Literal["spot", "line", "leave out"]
_CODE = re.compile(r"^(.*?)(\d*)$")


@dataclass(frozen=True)
class CodeTable:
    """What code patterns mean, and the marks that start, end and close a line.

    A shot's code reads ``CODE[string number] [mark …] [anything]``, as in ``TOP2 ST``: code ``TOP``, string 2, start.

    Attributes
    ----------
    meanings : tuple of (str, Meaning)
        Patterns for the code without its string number; the first that fits counts, and a spot if none does.
    start, end, close : str
        The marks; empty for none.
    """

    meanings: tuple[tuple[str, Meaning], ...] = ()
    start: str = ""
    end: str = ""
    close: str = ""

    def meaning(self, text: str) -> Meaning:
        """Say what a shot's code means.

        Examples
        --------
        >>> CodeTable((("TOP", "line"),)).meaning("TOP2 ST")
        'line'
        """
        code, _, _ = self._parts(text)
        for pattern, meaning in self.meanings:
            if fnmatchcase(code, pattern):
                return meaning
        return "spot"

    def _parts(self, text: str) -> tuple[str, str, list[str]]:
        first, *rest = text.split() or [""]
        match = _CODE.match(first)
        code, string = match.groups() if match else (first, "")
        return code, string, rest


@dataclass(frozen=True)
class CodedLine:
    """A line joined from coded shots: its name, the rows it joins, and whether it closes."""

    name: str
    rows: tuple[int, ...]
    closed: bool


def coded_lines(points: Points, table: CodeTable) -> tuple[Flags, list[CodedLine]]:
    """Sort shots by what their codes mean, and join those of one line code and string number in file order.

    Parameters
    ----------
    points : Points
    table : CodeTable

    Returns
    -------
    stays : (n,) bool
        False for shots to leave out.
    lines : list of CodedLine
        In the order in which they start. One of a single shot joins nothing and stands in the list all the same.
    """
    rows_of, distinct = pd.factorize(points.shots.codes)
    meanings = [table.meaning(text) for text in distinct]
    stays = np.array([meaning != "leave out" for meaning in meanings], np.bool_)[rows_of]
    is_line = np.array([meaning == "line" for meaning in meanings], np.bool_)[rows_of]
    started: list[tuple[str, list[int]]] = []
    running: dict[str, list[int]] = {}
    closed: set[int] = set()
    for row in np.flatnonzero(is_line).tolist():
        code, string, marks = table._parts(points.shots.codes[row])
        name = code + string
        if name not in running or (table.start and table.start in marks):
            running[name] = []
            started.append((name, running[name]))
        running[name].append(row)
        if table.close and table.close in marks:
            closed.add(id(running.pop(name)))
        elif table.end and table.end in marks:
            del running[name]
    seen: dict[str, int] = {}
    lines = []
    for name, rows in started:
        seen[name] = seen.get(name, 0) + 1
        label = name if seen[name] == 1 else f"{name} ({seen[name]})"
        lines.append(CodedLine(label, tuple(rows), id(rows) in closed and len(rows) > 2))
    return stays, lines
