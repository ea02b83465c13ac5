"""Guessing a code table from the codes of shots: which marks start, end and close lines, and which codes are lines."""

from __future__ import annotations

import re
from collections import Counter, defaultdict

import tomlkit

_CODE = re.compile(r"^([A-Za-z_]+)(\d+)$")
_MARKS = {
    "start": ("ST", "START", "BEG", "BEGIN", "S"),
    "end": ("END", "EN", "E", "STOP"),
    "close": ("CLOSE", "CL", "C", "CLS"),
}
_FEWEST, _FEWEST_SHOTS = 2, 3
_BUILDINGS = ("BLD", "BUILD", "HOUSE", "BARN", "SHED", "GARAGE")


def guessed_codes(codes: list[str]) -> tuple[str, list[str]]:
    """Return why a code table is guessed, and its lines; nothing where the codes bear no marks.

    Examples
    --------
    >>> why, lines = guessed_codes(["TOP1 ST", "TOP1", "TOP1 END", "TOP2 ST", "TOP2 END", "LAWN"])
    >>> lines[2:5]
    ['[field_codes]', 'start = "ST"', 'end = "END"']
    """
    parted = [match_and_rest for text in codes if (match_and_rest := _parted(str(text)))]
    words = Counter(word for _, rest in parted for word in rest)
    marks = {
        name: spelling
        for name, spellings in _MARKS.items()
        if (spelling := next((word for word in spellings if words[word] >= 1), ""))
    }
    bearing: defaultdict[str, int] = defaultdict(int)
    for code, rest in parted:
        bearing[code] += bool(set(rest) & set(marks.values()))
    shots = Counter(code for code, _ in parted)
    # A line that is begun and never ended bears a single mark.
    lines = sorted(
        code for code, count in bearing.items() if count >= _FEWEST or (count and shots[code] >= _FEWEST_SHOTS)
    )
    if "start" not in marks or not lines:
        return "", []
    why = f"codes with string numbers and the marks {', '.join(marks.values())}: their shots are joined into lines"
    table = ["", f"# {why}", "[field_codes]"]
    table += [f"{name} = {tomlkit.item(word).as_string()}" for name, word in marks.items()]
    closed = {code for code, rest in parted if marks.get("close") in rest}
    rows = [f'  {{ match = {tomlkit.item(code).as_string()}, means = "{_meaning(code, closed)}" }},' for code in lines]
    return why, [*table, "code = [", *rows, "]"]


def _meaning(code: str, closed: set[str]) -> str:
    """What a code of lines means: the ground has a hole where a building is."""
    return "hole" if code in closed and code.upper().startswith(_BUILDINGS) else "line"


def _parted(text: str) -> tuple[str, list[str]] | None:
    first, *rest = text.split() or [""]
    match = _CODE.match(first)
    return (match.group(1), rest) if match else None
