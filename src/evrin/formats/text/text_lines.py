"""The lines of delimited text that hold rows, and rows divided into fields."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Iterator
from pathlib import Path

from evrin.base.errors import DataError
from evrin.formats.text.text_layout import is_comment

_LONGEST_ROW, _MOST_COLUMNS = 100_000, 2000
# A field in quotation marks that goes on in the next line, and the line that ends it.
_OPENS_QUOTE = re.compile(r'(?:^|[,;\t|])\s*"[^"]*$')
_CLOSES_QUOTE = re.compile(r'(?:[^"]|"")*"\s*(?:[,;\t|]|$)')
_MOST_QUOTED = 40


def content_lines(text: str) -> tuple[list[int], list[str]]:
    """Return the lines that hold something, and their numbers; comments hold nothing."""
    # Only line ends end a line, as in any editor: not form feeds, nor separators within a text.
    rows = text.replace("\r\n", "\n").replace("\r", "\n").split("\n")
    numbered = enumerate(rows, 1) if '"' not in text else _with_quoted_ends(rows)
    lines = [(number, line) for number, line in numbered if line.strip() and not is_comment(line)]
    return [number for number, _ in lines], [line for _, line in lines]


def _with_quoted_ends(rows: list[str]) -> Iterator[tuple[int, str]]:
    """Number the rows, those joined whose line ends are within quotation marks."""
    k = 0
    while k < len(rows):
        first, row = k, rows[k]
        if row.count('"') % 2 and _OPENS_QUOTE.search(row):
            for last in range(k + 1, min(k + _MOST_QUOTED, len(rows))):
                if '"' in rows[last]:
                    if _CLOSES_QUOTE.match(rows[last]):
                        row, k = " ".join(rows[first : last + 1]), last
                    break
        yield first + 1, row
        k += 1


def without_counts(lines: list[int], content: list[str], rows: int) -> tuple[list[int], list[str]] | None:
    """Return a list of points without the lines that state how many follow; None where it does not begin with one.

    Parameters
    ----------
    lines, content : list
        Lines that hold something, and their numbers.
    rows : int
        How many such lines the file has in all, if *content* is only a part of them.
    """
    counts = [k for k, line in enumerate(content) if line.strip().isdigit()]
    if not counts or counts[0] != 0:
        return None
    stated = sum(int(content[k].strip()[:18]) for k in counts)
    if stated != rows - len(counts):
        return None
    left = sorted(set(range(len(content))) - set(counts))
    return [lines[k] for k in left], [content[k] for k in left]


def check_widths(path: Path, lines: list[int], content: list[str]) -> None:
    """Refuse rows that no survey has before they are taken apart."""
    longest = max(range(len(content)), key=lambda k: len(content[k]), default=0)
    if content and len(content[longest]) > _LONGEST_ROW:
        raise DataError(
            f"{path} line {lines[longest]}: the row is {len(content[longest]):,} characters long; at most "
            f"{_LONGEST_ROW:,} are read. Is this a table of points?"
        )
    if content and (fields := max(content[0].count(each) for each in "\t;,|")) > _MOST_COLUMNS:
        raise DataError(f"{path} line {lines[0]}: it has {fields + 1:,} columns; at most {_MOST_COLUMNS:,} are read")


def split_rows(content: list[str], delimiter: str, width: int | None) -> list[list[str]]:
    """Split lines into fields, of which the last of *width* takes the rest of its line."""
    most = width - 1 if width else -1
    if delimiter == " ":
        return [line.split(None, most) for line in content]
    if any('"' in line for line in content):
        rows = list(csv.reader(io.StringIO("\n".join(content)), delimiter=delimiter))
        # A stray quotation mark would swallow lines, so every line is then taken literally.
        if len(rows) == len(content):
            return [[*row[:most], delimiter.join(row[most:])] if 0 <= most < len(row) else row for row in rows]
    return [line.split(delimiter, most) for line in content]
