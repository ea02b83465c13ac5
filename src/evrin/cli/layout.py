"""Tables that fit the terminal and never lose a digit: wide ones go on below, very wide ones become records."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from itertools import zip_longest

from rich.cells import cell_len
from rich.console import Console
from rich.table import Table
from rich.text import Text

from evrin.base.wording import literal

_GAP = 2
_NARROWEST_TEXT = 12
# A place or a code is not broken.
_SHORT_TEXT = 18
_AT_ONCE = 500


@dataclass(frozen=True)
class _Column:
    head: str
    cells: tuple[str, ...]
    is_number: bool

    @cached_property
    def natural(self) -> int:
        """The width that needs no wrapping."""
        return max(cell_len(self.head), self._widest_line)

    @cached_property
    def least(self) -> int:
        """The width below which something would be lost or unreadable; numbers never wrap, heads do between words."""
        whole = max(self._widest_line, _longest_word([self.head]))
        if self.is_number or whole <= _SHORT_TEXT:
            return whole
        return max(_NARROWEST_TEXT, _longest_word(self.cells))

    @cached_property
    def _widest_line(self) -> int:
        return max((cell_len(line) for cell in self.cells for line in cell.split("\n")), default=0)


def _longest_word(cells: Sequence[str]) -> int:
    return min(24, max((cell_len(word) for cell in cells for word in cell.split()), default=0))


def print_table(
    console: Console, heads: Sequence[str], rows: Sequence[Sequence[str]], numeric: Sequence[bool] | None = None
) -> None:
    """Print rows under heads, in as many blocks of whole columns as the console's width needs.

    Each block begins with the first column. Where even one column does not fit beside the first, each row becomes a
    record of one line a value.
    """
    columns = [
        _Column(literal(head), tuple(literal(row[k]) for row in rows), bool(numeric and numeric[k]))
        for k, head in enumerate(heads)
    ]
    blocks = _blocks(columns, console.width)
    if blocks is None:
        _print_records(console, columns, len(rows))
        return
    for number, block in enumerate(blocks):
        if number:
            console.print()
        if _total_natural(block) <= console.width:
            _print_plain(console, block)
        else:
            console.print(_table(block, console.width))


def _total_natural(columns: list[_Column]) -> int:
    return sum(column.natural for column in columns) + _GAP * (len(columns) - 1)


def _print_plain(console: Console, columns: list[_Column]) -> None:
    """Print columns that need no wrapping, which for many rows is far quicker than a table that could."""

    def line(cells: Sequence[str]) -> str:
        padded = []
        for column, cell in zip(columns, cells, strict=True):
            spaces = " " * (column.natural - cell_len(cell))
            padded.append(spaces + cell if column.is_number else cell + spaces)
        return (" " * _GAP).join(padded).rstrip()

    console.print(Text(line([column.head for column in columns]), style="bold"), soft_wrap=True)
    rows = []
    for cells in zip(*(column.cells for column in columns), strict=True):
        rows += [line(parts) for parts in zip_longest(*(cell.split("\n") for cell in cells), fillvalue="")]
    for first in range(0, len(rows), _AT_ONCE):
        console.print(Text("\n".join(rows[first : first + _AT_ONCE])), soft_wrap=True)


def _blocks(columns: list[_Column], width: int) -> list[list[_Column]] | None:
    first, *others = columns
    blocks = [[first]]
    for column in others:
        if len(blocks[-1]) > 1 and _total([*blocks[-1], column]) > width:
            blocks.append([first])
        blocks[-1].append(column)
    return blocks if all(_total(block) <= width for block in blocks) else None


def _total(columns: list[_Column]) -> int:
    return sum(column.least for column in columns) + _GAP * (len(columns) - 1)


def _table(columns: list[_Column], width: int) -> Table:
    widths = [column.least for column in columns]
    spare = width - _total(columns)
    # What is left is given, bit by bit, to the column with the smallest part of what it needs.
    while spare > 0 and any(each < column.natural for each, column in zip(widths, columns, strict=True)):
        k = min(
            range(len(columns)), key=lambda j: (widths[j] >= columns[j].natural, widths[j] / max(columns[j].natural, 1))
        )
        widths[k] += 1
        spare -= 1
    table = Table(box=None, pad_edge=False)
    for column, each in zip(columns, widths, strict=True):
        table.add_column(
            Text(column.head), justify="right" if column.is_number else "left", overflow="fold", width=max(each, 1)
        )
    for row in range(len(columns[0].cells)):
        table.add_row(*(Text(column.cells[row]) for column in columns))
    return table


def _print_records(console: Console, columns: list[_Column], count: int) -> None:
    for row in range(count):
        if row:
            console.print()
        for column in columns:
            console.print(Text(f"{column.head or 'number'}: {column.cells[row]}"), soft_wrap=True)
