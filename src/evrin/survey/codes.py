"""Field codes: what a shot's code means, and which shots join into lines."""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from fnmatch import fnmatchcase
from typing import Literal

import numpy as np

from evrin.kernels import Flags, Floats, Indices
from evrin.survey.contents import Points
from evrin.survey.curves import arc_by_three, smooth_through

Meaning = Literal["spot", "line", "boundary", "hole", "water", "leave out"]
Join = Literal["straight", "smooth"]
_CODE = re.compile(r"^(.*?)(\d*)$")
_JOINED = ("line", "boundary", "hole", "water")


def bare_code(text: str) -> str:
    """Return a shot's code without string number and marks.

    Examples
    --------
    >>> from evrin.survey.codes import bare_code
    >>> bare_code("TOP12 ST"), bare_code("")
    ('TOP', '')
    """
    first = text.split()[0] if text.split() else ""
    match = _CODE.match(first)
    return match.group(1) if match else first


@dataclass(frozen=True)
class CodeRule:
    """A pattern for the code without its string number, what it means, and how such shots are joined.

    Parameters
    ----------
    match : str
        The code, or a pattern such as ``KB*``.
    means : str
        What such shots are.
    join : str
        How they are joined.
    level : float, optional
        Of water.

    Examples
    --------
    >>> from evrin.survey import CodeRule
    >>> CodeRule("TOP*", "line").means
    'line'
    """

    match: str
    means: Meaning
    join: Join = "straight"
    level: float | None = None


@dataclass(frozen=True)
class CodeTable:
    """What code patterns mean, and the marks that start, end, close and bend a line.

    A shot's code reads ``CODE[string number] [mark …] [CODE[string number] [mark …]] … [anything]``, as in ``TOP2 ST``:
    code ``TOP``, string 2, start; or ``KERB1 END WALL3 ST``, which is in two lines. Marks belong to the code before
    them. Anything else, such as an offset, is left alone.

    Attributes
    ----------
    rules : tuple of CodeRule
        The first that fits counts, and a spot if none does.
    start, end, close : str
        The marks; empty for none.
    arc : str
        Marks the middle one of three shots on an arc.
    smooth : str
        Marks shots through which the line runs as a smooth curve.

    Examples
    --------
    >>> from evrin.survey import CodeRule, CodeTable
    >>> table = CodeTable((CodeRule("TOP*", "line"),), start="ST", end="END")
    >>> table.start
    'ST'
    """

    rules: tuple[CodeRule, ...] = ()
    start: str = ""
    end: str = ""
    close: str = ""
    arc: str = ""
    smooth: str = ""

    def rule(self, code: str) -> CodeRule:
        """Return the rule for a code without its string number.

        Parameters
        ----------
        code : str
            What findings, messages and `[[accept]]` call it.

        Returns
        -------
        CodeRule
        """
        return next((rule for rule in self.rules if fnmatchcase(code, rule.match)), CodeRule(code, "spot"))

    def meaning(self, text: str) -> Meaning:
        """Return what a shot's code means.

        Parameters
        ----------
        text : str
            A code as the crew wrote it.

        Returns
        -------
        Meaning

        Examples
        --------
        >>> CodeTable((CodeRule("TOP", "line"),)).meaning("TOP2 ST")
        'line'
        """
        return self.rule(_split(text.split()[0])[0] if text.split() else "").means

    def memberships(self, text: str) -> list[Membership]:
        """Return the lines that a shot is in, with the marks of each.

        Parameters
        ----------
        text : str
            A code as the crew wrote it.

        Returns
        -------
        list of Membership

        Examples
        --------
        >>> table = CodeTable((CodeRule("KERB", "line"), CodeRule("WALL", "line")), start="ST", end="END")
        >>> [(line.name, line.marks) for line in table.memberships("KERB1 END WALL3 ST left of gate")]
        [('KERB1', {'end'}), ('WALL3', {'start'})]
        """
        words = {word: name for name in ("start", "end", "close", "arc", "smooth") if (word := getattr(self, name))}
        members: list[Membership] = []
        for place, token in enumerate(text.split()):
            code, string = _split(token)
            rule = self.rule(code)
            if token in words:
                if members:
                    members[-1].marks.add(words[token])
            elif rule.means in _JOINED and (place == 0 or members):
                members.append(Membership(code + string, rule))
        return members


@dataclass(frozen=True)
class Membership:
    """A line that a shot is in: its name, the rule behind it, and the marks that the shot bears for it."""

    name: str
    rule: CodeRule
    marks: set[str] = field(default_factory=set)


def _split(token: str) -> tuple[str, str]:
    match = _CODE.match(token)
    return (match.group(1), match.group(2)) if match else (token, "")


@dataclass(frozen=True, eq=False)
class CodedLine:
    """A line joined from coded shots.

    Attributes
    ----------
    name : str
        What it is called.
    rows : (r,) int64
        The shots it joins.
    closed : bool
        Whether it ends where it begins.
    rule : CodeRule
        What its code means.
    xyz : (k, 3) float64
        Its vertices, those of its arcs and curves included.
    own_row : (k,) int64
        The shot that each vertex is, -1 for one on a curve.

    Examples
    --------
    >>> import numpy as np
    >>> from evrin.surface import Shots
    >>> from evrin.survey import CodeRule, CodeTable, Points, coded_lines
    >>> codes = np.array(["TOP1 ST", "TOP1 END", "GRASS"], object)
    >>> shots = Shots.of_file("day1.csv", [1, 2, 3], "", codes)
    >>> table = CodeTable((CodeRule("TOP", "line"),), start="ST", end="END")
    >>> stays, lines = coded_lines(Points(np.array([[0.0, 0, 1], [5, 0, 1], [2, 2, 1]]), shots), table)
    >>> [(line.name, line.rows.tolist()) for line in lines]
    [('TOP1', [0, 1])]
    """

    name: str
    rows: Indices
    closed: bool
    rule: CodeRule
    xyz: Floats
    own_row: Indices


@dataclass
class _Run:
    """A line while its shots come in."""

    name: str
    rule: CodeRule
    rows: list[int] = field(default_factory=list)
    marks: list[set[str]] = field(default_factory=list)
    closed: bool = False


def coded_lines(points: Points, table: CodeTable, chord: float = 0.02) -> tuple[Flags, list[CodedLine]]:
    """Sort shots by what their codes mean, and join those of one line code and string number in file order.

    Parameters
    ----------
    points : Points
        The shots.
    table : CodeTable
        What codes mean.
    chord : float
        How far an arc or curve may stray from its chords.

    Returns
    -------
    stays : (n,) bool
        False for shots to leave out.
    lines : list of CodedLine
        In the order in which they start. One of a single shot joins nothing and is in the list too.

    Examples
    --------
    >>> import numpy as np
    >>> from evrin.surface import Shots
    >>> from evrin.survey import CodeRule, CodeTable, Points, coded_lines
    >>> codes = np.array(["TOP1 ST", "TOP1 END", "GRASS"], object)
    >>> shots = Shots.of_file("day1.csv", [1, 2, 3], "", codes)
    >>> table = CodeTable((CodeRule("TOP", "line"),), start="ST", end="END")
    >>> stays, lines = coded_lines(Points(np.array([[0.0, 0, 1], [5, 0, 1], [2, 2, 1]]), shots), table)
    >>> [(line.name, line.rows.tolist()) for line in lines]
    [('TOP1', [0, 1])]
    """
    import pandas as pd

    rows_of, distinct = pd.factorize(points.shots.codes)
    meanings = [table.meaning(text) for text in distinct]
    stays = np.array([meaning != "leave out" for meaning in meanings], np.bool_)[rows_of]
    joins = np.array([meaning in _JOINED for meaning in meanings], np.bool_)[rows_of]
    started: list[_Run] = []
    running: dict[str, _Run] = {}
    for row in np.flatnonzero(joins).tolist():
        for member in table.memberships(points.shots.codes[row]):
            name, marks = member.name, member.marks
            if name not in running or "start" in marks:
                running[name] = _Run(name, member.rule)
                started.append(running[name])
            running[name].rows.append(row)
            running[name].marks.append(marks)
            if "close" in marks:
                running.pop(name).closed = True
            elif "end" in marks:
                del running[name]
    seen: dict[str, int] = {}
    lines = []
    for run in started:
        seen[run.name] = seen.get(run.name, 0) + 1
        label = run.name if seen[run.name] == 1 else f"{run.name} ({seen[run.name]})"
        lines.append(_drawn(label, run, points.xyz, chord))
    return stays, lines


def _drawn(name: str, run: _Run, xyz: Floats, chord: float) -> CodedLine:
    rows = np.array(run.rows, np.int64)
    closed = run.closed and len(rows) > 2
    smooth = [run.rule.join == "smooth" or "smooth" in marks for marks in run.marks]
    around = [*range(len(rows)), 0] if closed else list(range(len(rows)))
    vertices, own = [xyz[rows[:1]]], [rows[:1]]
    k = 0
    while k + 1 < len(around):
        # A leg, an arc over two legs, or a smooth run over as many as are marked.
        if k + 2 < len(around) and "arc" in run.marks[around[k + 1]]:
            last = k + 2
            start, middle, end = (xyz[rows[around[j]]] for j in (k, k + 1, k + 2))
            places = arc_by_three(start, middle, end, chord)
        else:
            last = k + 1
            while smooth[around[k]] and smooth[around[last]] and last + 1 < len(around) and smooth[around[last + 1]]:
                last += 1
            places = xyz[rows[around[k : last + 1]]]
            places = smooth_through(places, chord) if last > k + 1 else places
        vertices.append(places[1:])
        own.append(_own_rows(places[1:], rows[around[k + 1 : last + 1]], xyz))
        k = last
    drawn, row_of = np.concatenate(vertices), np.concatenate(own)
    if closed:
        drawn, row_of = drawn[:-1], row_of[:-1]
    return CodedLine(name=name, rows=rows, closed=closed, rule=run.rule, xyz=drawn, own_row=row_of)


def _own_rows(places: Floats, rows: Indices, xyz: Floats) -> Indices:
    """The shot that each place is, of *rows* in order; -1 for places between them."""
    out = np.full(len(places), -1, np.int64)
    at = 0
    for row in rows.tolist():
        hit = np.flatnonzero((places[at:] == xyz[row]).all(axis=1))
        if len(hit):
            out[at + hit[0]] = row
            at += int(hit[0]) + 1
    return out
