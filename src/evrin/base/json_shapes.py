"""Shapes of JSON, as JSON Schema (draft 2020-12), in few words."""

from __future__ import annotations

from evrin.base.named_values import Row

TEXTS: Row = {"type": "array", "items": {"type": "string"}}


def objects(*, numbers: str = "", counts: str = "", texts: str = "", switches: str = "", **others: Row) -> Row:
    """Return the shape of objects with exactly these keys.

    Parameters
    ----------
    numbers, counts, texts, switches : str
        Keys, with spaces between, whose values are numbers, whole numbers, texts, or true and false. The value of a key
        with a question mark may be null; a key in brackets may be missing.
    **others : dict
        Further keys and the shapes of their values.
    """
    properties: Row = {}
    needed: list[str] = []
    for words, kind in ((numbers, "number"), (counts, "integer"), (texts, "string"), (switches, "boolean")):
        for word in words.split():
            key = word.strip("[]?")
            properties[key] = {"type": [kind, "null"] if "?" in word else kind}
            needed += [] if word.startswith("[") else [key]
    properties |= others
    return {"type": "object", "properties": properties, "required": [*needed, *others], "additionalProperties": False}


def lists(of: Row) -> Row:
    """Return the shape of lists of one shape."""
    return {"type": "array", "items": of}


def mappings(of: str = "integer") -> Row:
    """Return the shape of objects with any keys, whose values are of one type."""
    return {"type": "object", "additionalProperties": {"type": of}}
