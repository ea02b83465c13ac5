"""Numbers as people and programs write them: decimal commas, thousands marks, minus signs, units before and after."""

from __future__ import annotations

import re
from collections.abc import Iterable

# Blanks and apostrophes between thousands, and signs used for a minus.
_MARKS = str.maketrans({" ": "", "\u00a0": "", "\u202f": "", "\u2009": "", "'": "", "\u2019": "", "\u2212": "-"})
_PLAIN = re.compile(r"[-+]?(\d+\.?\d*|\.\d+)([eE][-+]?\d+)?$")
_UNIT_WORDS = {
    **dict.fromkeys(("m", "mtr", "metre", "metres", "meter", "meters", "mètres"), "m"),
    **dict.fromkeys(("ft", "feet", "foot", "ift"), "ft"),
    **dict.fromkeys(("usft", "ftus", "us-ft", "sft", "us survey feet"), "ftUS"),
    **{"mm": "mm", "cm": "cm"},
}
_DRESSED = re.compile(
    r"^(?:(?P<before>RL|EL|ELEV|LEVEL|HT|H|Z|NHN|NN|MSL|E|N|X|Y)\b\s*[.:=]?\s*)?"
    r"(?P<number>[-+\u2212]?\s?\d[\d.,'\u2019\s\u00a0\u202f\u2009]*(?:[eE][-+]?\d+)?)"
    r"\s*(?P<unit>[A-Za-zè-]+)?\.?$",
    re.IGNORECASE,
)
_GROUPED = re.compile(r"^[-+\u2212]?\s?\d{1,3}([ '\u2019\u00a0\u202f\u2009]\d{3})+([.,]\d+)?$")


def number(text: str, decimal_comma: bool = False) -> float:
    """Return the number that a field holds, NaN where it holds none.

    Parameters
    ----------
    text : str
        What the field holds.
    decimal_comma : bool
        Whether a comma alone ends the whole part; where a point and a comma occur, the last one does.

    Examples
    --------
    >>> number("4 120.50"), number("4.120,50"), number("−3.5 m"), number("RL 43.2"), number("43,2", True)
    (4120.5, 4120.5, -3.5, 43.2, 43.2)
    """
    try:
        # The usual case; an underscore is not a digit of a survey.
        return float("nan") if "_" in text else float(text)
    except ValueError:
        pass
    return _dressed_number(text.strip(), decimal_comma)[0]


def unit_behind(text: str) -> str:
    """Return the unit written behind a number, empty where there is none.

    Examples
    --------
    >>> unit_behind("5000.123 m"), unit_behind("141.2ft"), unit_behind("43.2")
    ('m', 'ft', '')
    """
    return _dressed_number(text.strip(), False)[1] if text and not text[-1].isdigit() else ""


def is_number(text: str, decimal_comma: bool = True) -> bool:
    """Whether a field holds a number, NaN and infinity included."""
    try:
        float(text)
    except ValueError:
        value = _dressed_number(text.strip(), decimal_comma)[0]
        return value == value
    return True


def has_decimal_comma(fields: Iterable[str]) -> bool:
    """Whether commas are decimal in most of these fields."""
    commas = [field for field in fields if field.count(",") == 1 and "." not in field and is_number(field)]
    whole = [field for field in fields if "." in field and "," not in field and is_number(field, False)]
    return len(commas) > len(whole)


def _dressed_number(text: str, decimal_comma: bool) -> tuple[float, str]:
    match = _DRESSED.match(text)
    if match is None or (match["unit"] and match["unit"].lower() not in _UNIT_WORDS):
        return float("nan"), ""
    digits = match["number"].strip()
    # Blanks part thousands only where groups of three follow: two numbers in one field are not one.
    if re.search(r"\d[\s'\u2019\u00a0\u202f\u2009]\d", digits) and not _GROUPED.match(digits):
        return float("nan"), ""
    plain = _with_a_point(digits.translate(_MARKS), decimal_comma)
    value = float(plain) if _PLAIN.match(plain) else float("nan")
    return value, _UNIT_WORDS[match["unit"].lower()] if match["unit"] else ""


def _with_a_point(digits: str, decimal_comma: bool) -> str:
    """The number with a decimal point and without thousands marks."""
    if "," in digits and "." in digits:
        mark, other = (",", ".") if digits.rfind(",") > digits.rfind(".") else (".", ",")
        return _ungrouped(digits, other).replace(mark, ".") if digits.count(mark) == 1 else ""
    for mark in ",.":
        if digits.count(mark) > 1:
            return _ungrouped(digits, mark)
    return digits.replace(",", ".") if decimal_comma else digits


def _ungrouped(digits: str, mark: str) -> str:
    """The number without a mark between groups of three digits; nothing where the groups have other sizes."""
    head, *groups = re.split(r"(?<=\d)" + re.escape(mark), digits)
    whole = [re.match(r"\d+", group) for group in groups]
    if not all(match is not None and len(match[0]) == 3 for match in whole):
        return ""
    return head + "".join(groups)
