"""Mends as recipe tables, ready to be pasted at the end of a recipe."""

from __future__ import annotations

import json
from collections.abc import Sequence
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from evrin.check.evidence import Finding
    from evrin.surface import Shots

Place = tuple[float, float]


def edit(do: str, why: str, **keys: object) -> str:
    """Return an ``[[edit]]``.

    Examples
    --------
    >>> print(edit("delete", "a bust", at=(10.0, 20.5)))
    [[edit]]
    do = "delete"
    at = [10.000, 20.500]
    why = "a bust"
    """
    rows = [f"{key} = {_told(value)}" for key, value in keys.items()]
    return "\n".join(["[[edit]]", f'do = "{do}"', *rows, f"why = {json.dumps(why, ensure_ascii=False)}"])


def leave_out(shots: Shots, row: int, why: str) -> str:
    """Return a ``[[leave_out]]`` for one shot: by number where it has one, else by its line."""
    file = shots.files[int(shots.file_of[row])]
    number = str(shots.numbers[row])
    which = f"numbers = [{_told(number)}]" if number else f"lines = [{int(shots.line_of[row])}]"
    return "\n".join(["[[leave_out]]", f"file = {_told(file)}", which, f"why = {_told(why)}"])


def acceptance(code: str, place: Place | None) -> str:
    """Return an ``[[accept]]`` whose reason is still to be written."""
    at = [f"at = {_told(place)}"] if place is not None else []
    return "\n".join(["[[accept]]", f'finding = "{code}"', *at, 'why = ""'])


def mend_tables(findings: Sequence[Finding]) -> str:
    """Return the tables that mend the open ones of some findings, each under a comment that tells which.

    Where a finding has no table of its own there is, as a comment, the one that accepts it.
    """
    parts = []
    for number, finding in enumerate(findings, 1):
        if not finding.is_open:
            continue
        head = [f"# {number}  {finding.code}: {finding.message}", *(f"#    {shot}" for shot in finding.shots[:4])]
        body = finding.snippet
        if not body:
            asked = f"#    {finding.mend}; to accept it, give the reason:"
            body = "\n".join([asked, *(f"# {row}" for row in finding.acceptance.splitlines())])
        parts.append("\n".join([*head, body]))
    return "\n\n".join(parts) if parts else "# no finding is open"


def _told(value: object) -> str:
    if isinstance(value, bool):
        return str(value).lower()
    if isinstance(value, float):
        return f"{value:.3f}"
    if isinstance(value, Sequence) and not isinstance(value, str):
        return "[" + ", ".join(_told(each) for each in value) + "]"
    return json.dumps(value, ensure_ascii=False)
