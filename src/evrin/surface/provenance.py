"""Where things came from: file, line, point number and code of every shot."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import overload

import numpy as np
from numpy.typing import ArrayLike, NDArray

from evrin.kernels import Indices, Ints
from evrin.kernels.text_column import TextColumn, Texts

ADDED_BY_HAND = "added by hand"
_LATE = ("numbers", "codes")
EXTRAPOLATED = "extrapolated to boundary"


class NamedShot(str):
    """A shot as the surveyor knows it, in words, which carry number, code, file and where in it for those that read on.

    Examples
    --------
    >>> named = NamedShot("shot 7, day1.csv line 9", number="7", file="day1.csv", where="line 9")
    >>> named, named.record()["where"]
    ('shot 7, day1.csv line 9', 'line 9')
    """

    number: str
    code: str
    file: str
    where: str

    def __new__(cls, text: str, number: str = "", code: str = "", file: str = "", where: str = "") -> NamedShot:
        """Return the words with what they are made of."""
        made = super().__new__(cls, text)
        made.number, made.code, made.file, made.where = number, code, file, where
        return made

    def record(self) -> dict[str, str]:
        """Return text, number, code, file and where in it.

        Returns
        -------
        dict of str
        """
        return {"text": str(self), "number": self.number, "code": self.code, "file": self.file, "where": self.where}

    def followed_by(self, words: str) -> NamedShot:
        """Return the same shot with more words.

        Parameters
        ----------
        words : str
            Words to add.

        Returns
        -------
        NamedShot
        """
        return NamedShot(f"{self}, {words}", self.number, self.code, self.file, self.where)


class _TextsOnDemand:
    """A field of texts, which may be given as a column: that makes them when the field is looked at."""

    def __set_name__(self, owner: type, name: str) -> None:
        self._name = f"_{name}"

    @overload
    def __get__(self, shots: None, owner: type) -> _TextsOnDemand: ...
    @overload
    def __get__(self, shots: object, owner: type) -> Texts: ...
    def __get__(self, shots: object | None, owner: type) -> Texts | _TextsOnDemand:
        if shots is None:
            # Without a value on the class the field has no default.
            raise AttributeError(self._name)
        kept: Texts | TextColumn = vars(shots)[self._name]
        return kept.all() if isinstance(kept, TextColumn) else kept

    def __set__(self, shots: object, texts: Texts | TextColumn) -> None:
        vars(shots)[self._name] = texts


@dataclass(frozen=True, eq=False)
class Shots:
    """Rows read from files, in the surveyor's terms.

    Attributes
    ----------
    files : tuple of str
        Names of the files.
    file_of : (n,) int32
        Entry of *files*.
    line_of : (n,) int64
        Line in the file, from 1, or whatever else *words* counts.
    numbers, codes : (n,) object
        Point number and code as text; empty where there is none.
    descriptions : (n,) object, optional
        What the files state of each besides its code.
    words : tuple of str
        What *line_of* counts in each file: ``line``, ``point``, ``feature``, ``cell``, or ``entity`` for the handle of
        a drawing's entity, which is written as a hexadecimal number. ``line`` in every file if not given.

    Examples
    --------
    >>> import evrin
    >>> from evrin.demo import small_site
    >>> build = evrin.Recipe.read(small_site()).build()
    >>> shots = build.surface.provenance.shots
    >>> str(shots.describe(0))
    'shot 1, code GRASS, shots.csv line 1'
    """

    files: tuple[str, ...]
    file_of: Ints
    line_of: Indices
    numbers: _TextsOnDemand = _TextsOnDemand()
    codes: _TextsOnDemand = _TextsOnDemand()
    words: tuple[str, ...] = ()
    descriptions: Texts | None = None

    @classmethod
    def of_file(
        cls,
        file: str,
        line_of: ArrayLike,
        numbers: Texts | TextColumn | str = "",
        codes: Texts | TextColumn | str = "",
        word: str = "line",
        descriptions: Texts | None = None,
    ) -> Shots:
        """Return rows of one file; a single text is used for all of them.

        Parameters
        ----------
        file : str
            Name of the file.
        line_of : (n,) array_like of int
            Line of the file, or the row's number where it has no lines.
        numbers, codes : (n,) array of str, or str
            Point number and code of each row, or one for all.
        word : str
            What *line_of* counts.
        descriptions : (n,) array of str, optional
            What the file states of each besides.

        Returns
        -------
        Shots
        """
        lines = np.asarray(line_of, np.int64)
        own = descriptions if descriptions is not None and (descriptions != "").any() else None
        texts = (_all(numbers, lines), _all(codes, lines))
        return cls((file,), np.zeros(len(lines), np.int32), lines, *texts, (word,), own)

    def __len__(self) -> int:
        return len(self.file_of)

    def as_given(self, name: str) -> Texts | TextColumn:
        """Return ``numbers`` or ``codes`` as they were given: texts, or a column that makes them when asked.

        Parameters
        ----------
        name : {"numbers", "codes"}
            Which texts.

        Returns
        -------
        (n,) object or TextColumn
        """
        column: Texts | TextColumn = vars(self)[f"_{name}"]
        return column

    def with_columns(self) -> Shots:
        """Return the same with numbers and codes as columns, where they can be.

        Returns
        -------
        Shots
        """
        numbers, codes = (_column(self.as_given(name)) for name in _LATE)
        return Shots(
            files=self.files,
            file_of=self.file_of,
            line_of=self.line_of,
            numbers=numbers,
            codes=codes,
            words=self.words,
            descriptions=self.descriptions,
        )

    def has_repeated_numbers(self, rows: Indices) -> bool:
        """Return whether two of some rows have the same number.

        Parameters
        ----------
        rows : (k,) int64
            The rows to look at.

        Returns
        -------
        bool
        """
        column = _column(self.as_given("numbers"))
        if isinstance(column, TextColumn):
            return column.has_repeats(rows)
        texts = [text for text in column[rows].tolist() if text != ""]
        return len(set(texts)) < len(texts)

    def describe(self, row: int) -> NamedShot:
        """Name one shot, as in ``shot 264, code LAWN, day1.csv line 270``.

        Parameters
        ----------
        row : int
            Of the shots.

        Returns
        -------
        NamedShot
        """
        number, code = (_text(self.as_given(name), row) for name in _LATE)
        of_file = int(self.file_of[row])
        file = self.files[of_file]
        where = f"{self._word(of_file)} {self._place(of_file, int(self.line_of[row]))}"
        parts = [f"shot {number}"] if number else []
        parts += [f"code {code}"] if code else []
        description = str(self.descriptions[row]) if self.descriptions is not None else ""
        parts += [description] if description else []
        return NamedShot(", ".join([*parts, f"{file} {where}"]), number, code, file, where)

    def _word(self, file: int) -> str:
        return self.words[file] if self.words else "line"

    def _place(self, file: int, line: int) -> str:
        return f"{line:X}" if self._word(file) == "entity" else str(line)

    def span(self) -> str:
        """Name the stretch of file that all rows come from, as in ``banks.csv lines 4 to 19``.

        Returns
        -------
        str
        """
        if len(self) == 0:
            return ""
        first, last = int(self.line_of.min()), int(self.line_of.max())
        file = int(self.file_of[0])
        start, end = self._place(file, first), self._place(file, last)
        word = self._word(file)
        several = "entities" if word == "entity" else word + "s"
        return f"{self.files[file]} " + (f"{word} {start}" if first == last else f"{several} {start} to {end}")

    def take(self, rows: Indices | Ints | NDArray[np.bool_]) -> Shots:
        """Return some of the rows.

        Parameters
        ----------
        rows : (k,) array of int or (n,) array of bool
            The rows to keep.

        Returns
        -------
        Shots
        """
        own = None if self.descriptions is None else self.descriptions[rows]
        numbers, codes = (_taken(self.as_given(name), rows) for name in _LATE)
        return Shots(
            files=self.files,
            file_of=self.file_of[rows],
            line_of=self.line_of[rows],
            numbers=numbers,
            codes=codes,
            words=self.words,
            descriptions=own,
        )

    @classmethod
    def joined(cls, parts: list[Shots]) -> Shots:
        """Return all rows of several tables, one after another.

        Parameters
        ----------
        parts : list of Shots
            In order.

        Returns
        -------
        Shots
        """
        if not parts:
            return cls((), np.empty(0, np.int32), np.empty(0, np.int64), np.empty(0, object), np.empty(0, object))
        files: dict[tuple[str, str], int] = {}
        for part in parts:
            for k, name in enumerate(part.files):
                files.setdefault((name, part._word(k)), len(files))
        moved = [
            np.array([files[name, part._word(k)] for k, name in enumerate(part.files)], np.int32)[part.file_of]
            for part in parts
        ]
        numbers, codes = (_joined([part.as_given(name) for part in parts]) for name in _LATE)
        descriptions = None
        if any(part.descriptions is not None for part in parts):
            descriptions = np.concatenate(
                [repeated("", len(part)) if part.descriptions is None else part.descriptions for part in parts]
            )
        return cls(
            tuple(name for name, _ in files),
            np.concatenate(moved),
            np.concatenate([part.line_of for part in parts]),
            numbers,
            codes,
            tuple(word for _, word in files),
            descriptions,
        )


def _column(texts: Texts | TextColumn) -> Texts | TextColumn:
    if isinstance(texts, TextColumn):
        return texts
    column = TextColumn.of(texts)
    return texts if column is None else column


def _text(texts: Texts | TextColumn, row: int) -> str:
    return texts.text(row) if isinstance(texts, TextColumn) else str(texts[row] or "")


def _taken(texts: Texts | TextColumn, rows: Indices | Ints | NDArray[np.bool_]) -> Texts | TextColumn:
    return texts.take(rows) if isinstance(texts, TextColumn) else texts[rows]


def _joined(parts: list[Texts | TextColumn]) -> Texts | TextColumn:
    if len(parts) == 1:
        return parts[0]
    if any(isinstance(part, TextColumn) for part in parts):
        columns = [_column(part) for part in parts]
        text_columns = [column for column in columns if isinstance(column, TextColumn)]
        if len(text_columns) == len(parts):
            return TextColumn.joined(text_columns)
    return np.concatenate([part.all() if isinstance(part, TextColumn) else part for part in parts])


def _all(texts: Texts | TextColumn | str, like: Indices) -> Texts | TextColumn:
    return repeated(texts, len(like)) if isinstance(texts, str) else texts


def repeated(text: str, count: int) -> Texts:
    """Return a text *count* times over, as a read-only view of one: a cloud repeats some of them by the million."""
    return np.broadcast_to(np.array(text, object), count)


@dataclass(frozen=True, eq=False)
class Provenance:
    """Which shot each vertex of a surface came from.

    Attributes
    ----------
    shots : Shots
        The shots.
    shot_of : (n,) int32
        Row of *shots* for each vertex; -1 where the vertex was made, at a crossing or on a boundary.
    made : dict of int to str
        What an added vertex is, by vertex.
    changed : dict of int to str
        What edits did to a vertex.

    Examples
    --------
    >>> import evrin
    >>> from evrin.demo import small_site
    >>> build = evrin.Recipe.read(small_site()).build()
    >>> str(build.surface.provenance.describe(0))
    'shot 1, code GRASS, shots.csv line 1'
    """

    shots: Shots
    shot_of: Ints
    made: dict[int, str] = field(default_factory=dict)
    changed: dict[int, str] = field(default_factory=dict)

    def describe(self, vertex: int) -> NamedShot:
        """Return where a vertex came from.

        Parameters
        ----------
        vertex : int
            Of the surface.

        Returns
        -------
        NamedShot
        """
        row, changed = int(self.shot_of[vertex]), self.changed.get(int(vertex))
        what = self.shots.describe(row) if row >= 0 else NamedShot(self.made.get(int(vertex), "added vertex"))
        return what if changed is None else what.followed_by(changed)
