"""Counting things in words, and texts that others wrote."""

from __future__ import annotations

import math
import re

_SPELT = re.compile(r"\\(?:u([0-9a-f]{4})|U([0-9a-f]{8}))")
_SHOWN = {"\n", "\t"}
# Characters that turn the direction of what follows would make one name look like another.
_TURNS = {*range(0x200E, 0x2010), *range(0x202A, 0x202F), *range(0x2066, 0x206A)}


def literal(text: str) -> str:
    r"""Return a text without anything that a terminal or a reader would act on: each such character is escaped.

    Examples
    --------
    >>> print(literal("kerb" + chr(27) + "[31m"))
    kerb\x1b[31m
    """
    return "".join(c if c in _SHOWN or not _acts(ord(c)) else f"\\x{ord(c):02x}" for c in text)


def one_line(text: str) -> str:
    """Return a text as `literal` does, and on one line."""
    return literal(text).replace("\n", "\\n").replace("\t", " ")


def _acts(code: int) -> bool:
    is_control = code < 0x20 or 0x7F <= code < 0xA0 or code in (0x2028, 0x2029)
    return is_control or code in _TURNS or 0xD800 <= code < 0xE000 or code & 0xFFFE == 0xFFFE


def escaped(text: str, words: tuple[str, ...] = ()) -> str:
    r"""Return a text on one line that `unescaped` turns back, for formats in which a name must not be anything else.

    Spaces that would be lost are escaped, and the first letter of each of *words* wherever it is.

    Examples
    --------
    >>> print(escaped("two\nlines "), escaped("end_header", ("end_header",)))
    two\u000alines\u0020 \u0065nd_header
    """
    text = "".join(_spelt(c) if c == "\\" or _acts(ord(c)) else c for c in text)
    text = re.sub("^ | $|(?<= ) ", lambda _: _spelt(" "), text)
    for word in words:
        text = re.sub(re.escape(word), lambda match: _spelt(match[0][0]) + match[0][1:], text, flags=re.IGNORECASE)
    return text


def unescaped(text: str) -> str:
    """Return what a text was before `escaped`."""
    return _SPELT.sub(lambda match: chr(int(match[1] or match[2], 16)), text)


def _spelt(character: str) -> str:
    code = ord(character)
    return f"\\u{code:04x}" if code < 0x10000 else f"\\U{code:08x}"


def signed(value: float, decimals: int = 3) -> str:
    """Return a number with its sign; none where it is zero as printed, and a dash where there is none.

    Examples
    --------
    >>> signed(0.0312), signed(-0.0001), signed(float("nan"))
    ('+0.031', '0.000', '–')
    """
    if not math.isfinite(value):
        return "–"
    text = f"{value:+.{decimals}f}"
    return text.lstrip("+-") if not text.strip("+-0.") else text


def unsigned(value: float, decimals: int = 3, thousands: str = ",") -> str:
    """Return a number without the sign of a zero; a dash where there is none.

    Examples
    --------
    >>> unsigned(1.25, 2), unsigned(-0.0001), unsigned(float("nan"))
    ('1.25', '0.000', '–')
    """
    if not math.isfinite(value):
        return "–"
    text = f"{value:,.{decimals}f}".replace(",", thousands)
    return text.lstrip("-") if not text.strip("-0.") else text


def counted(count: int, thing: str, things: str = "") -> str:
    """Return a count with its noun.

    Examples
    --------
    >>> counted(1, "ring"), counted(2000, "ring"), counted(2, "vertex", "vertices")
    ('1 ring', '2,000 rings', '2 vertices')
    """
    return f"{count:,} {thing if count == 1 else things or thing + 's'}"


_POINTS = ("north", "north-east", "east", "south-east", "south", "south-west", "west", "north-west")


def duration(seconds: float) -> str:
    """Return a time in the largest unit that it has some of.

    Examples
    --------
    >>> duration(8.2), duration(95.0), duration(8000.0)
    ('8 s', '1 min 35 s', '2 h 13 min')
    """
    whole = round(seconds)
    if whole < 60:
        return f"{whole} s"
    minutes, rest = divmod(whole, 60)
    return f"{minutes} min {rest} s" if minutes < 60 else f"{minutes // 60} h {minutes % 60} min"


def compass_point(bearing_deg: float) -> str:
    """Return the nearest of the eight points of the compass.

    Examples
    --------
    >>> compass_point(225), compass_point(-10)
    ('south-west', 'north')
    """
    return _POINTS[round(bearing_deg % 360.0 / 45.0) % 8]
