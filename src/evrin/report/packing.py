"""Packing arrays into text that a page can carry: one header, then the arrays, compressed."""

from __future__ import annotations

import base64
import gzip
import json
from collections.abc import Mapping

import numpy as np

_ALIGNED = 8


def packed(facts: Mapping[str, object], arrays: Mapping[str, np.ndarray]) -> str:
    """Return facts and arrays as base64 of a gzip stream; the same input gives the same text.

    The stream holds the length of the header (uint32), the header as JSON, then each array at a multiple of 8 bytes;
    the header's ``arrays`` state the kind, the place and the length of each.

    Examples
    --------
    >>> text = packed({"name": "a"}, {"z": np.array([1.0, 2.0])})
    >>> facts, arrays = unpacked(text)
    >>> facts["name"], arrays["z"].tolist()
    ('a', [1.0, 2.0])
    """
    places, parts, at = {}, [], 0
    for name, array in arrays.items():
        data = np.ascontiguousarray(array).tobytes()
        places[name] = {"kind": array.dtype.name, "at": at, "count": int(array.size)}
        padded = data + bytes(-len(data) % _ALIGNED)
        parts.append(padded)
        at += len(padded)
    header = json.dumps({**facts, "arrays": places}, ensure_ascii=False).encode()
    header += b" " * (-(len(header) + 4) % _ALIGNED)
    stream = len(header).to_bytes(4, "little") + header + b"".join(parts)
    return base64.b64encode(gzip.compress(stream, 6, mtime=0)).decode("ascii")


def unpacked(text: str) -> tuple[dict[str, object], dict[str, np.ndarray]]:
    """Return what `packed` packed."""
    stream = gzip.decompress(base64.b64decode(text))
    length = int.from_bytes(stream[:4], "little")
    facts = json.loads(stream[4 : 4 + length])
    body = stream[4 + length :]
    arrays = {
        name: np.frombuffer(body, entry["kind"], entry["count"], entry["at"])
        for name, entry in facts.pop("arrays").items()
    }
    return facts, arrays
