"""Keys and values as they are written in a recipe, and read again."""

from __future__ import annotations

import re
import tomllib
from typing import TYPE_CHECKING

import tomlkit
from tomlkit.exceptions import TOMLKitError

from evrin.base.errors import DataError

if TYPE_CHECKING:
    from tomlkit.items import InlineTable


def parsed_values(texts: list[str]) -> dict[str, object]:
    """Return keys and values from texts such as ``longest_edge=35``; what is not TOML counts as a text.

    Raises
    ------
    DataError
        For a text without a key.

    Examples
    --------
    >>> parsed_values(["longest_edge=35", "file=limit.csv", "at=[1.0, 2.0]", "on=false"])
    {'longest_edge': 35, 'file': 'limit.csv', 'at': [1.0, 2.0], 'on': False}
    """
    out: dict[str, object] = {}
    for text in texts:
        key, equals, value = text.partition("=")
        if not equals or not key.strip():
            raise DataError(f"{text!r} is not a key with a value. Write it as in longest_edge=35")
        try:
            out[key.strip()] = tomlkit.parse(f"value = {value.strip()}").unwrap()["value"]
        except TOMLKitError:
            out[key.strip()] = value.strip()
    return out


def inline(value: object) -> str:
    """Return a value as TOML, on one line."""
    if isinstance(value, dict):
        return "{ " + ", ".join(f"{key} = {inline(inner)}" for key, inner in value.items()) + " }"
    if isinstance(value, (list, tuple)):
        return "[" + ", ".join(map(inline, value)) + "]"
    return str(tomlkit.item(value).as_string())


def inline_table(values: dict[str, object]) -> InlineTable:
    """Return a table as TOML writes it within a line."""
    table = tomlkit.inline_table()
    table.update(values)
    return table


def plain(value: object) -> object:
    """Return a value as it is read again."""
    return tomllib.loads(f"value = {inline(value)}")["value"]


def key_text(key: str) -> str:
    """Return a key as TOML, in quotes where it needs them."""
    return key if re.fullmatch(r"[A-Za-z0-9_-]+", key) else toml_text(key)


def toml_text(value: str) -> str:
    """Return a text as a recipe has it."""
    return str(tomlkit.item(value).as_string())
