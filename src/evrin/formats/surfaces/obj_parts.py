"""The parts of an OBJ file: its objects, groups or materials, each as a file of its own.

Reference: Wavefront, *Object Files (.obj)*, appendix B1 of the Advanced Visualizer manual (1995).
"""

from __future__ import annotations

import re

from evrin.base.errors import DataError

_NUMBER = re.compile(r"-[0-9]{1,18}")
_KINDS = ("o", "g", "usemtl")
_MOST_PARTS = 64


def parts_of(text: str) -> dict[str, str]:
    """Return each part by name: by objects, or else groups, or else materials, where there are several.

    Examples
    --------
    >>> rows = ["v 0 0 1", "v 4 0 1", "v 4 4 1", "v 0 4 1", "o bank", "f 1 2 3", "o bed", "f -4 -2 -1"]
    >>> list(parts_of(chr(10).join(rows)))
    ['bank', 'bed']
    """
    rows = text.splitlines()
    for kind in _KINDS:
        owners: dict[str, list[str]] = {}
        name, vertices, count = "", [], 0
        for row in rows:
            word, _, rest = row.strip().partition(" ")
            if word == kind:
                name = rest.strip()
            elif word == "v":
                vertices.append(row)
                count += 1
            elif word == "f":
                owners.setdefault(name, []).append(_counted_from_first(rest, count))
        if 1 < len(owners) <= _MOST_PARTS:
            head = "\n".join(vertices)
            return {name or "unnamed": "\n".join((head, *faces, "")) for name, faces in owners.items()}
        if len(owners) == 1 and (only := next(iter(owners))):
            return {only: text}
    return {"": text}


def _counted_from_first(face: str, count: int) -> str:
    """A face by numbers of vertices from the first: those counted from the last are meant at this row."""
    corners = [corner.partition("/")[0] for corner in face.split()]
    for corner in corners:
        if corner.startswith("-") and not _NUMBER.fullmatch(corner):
            raise DataError(f"a face names vertex {corner[:40]!r}, which is not a whole number")
    return "f " + " ".join(str(count + 1 + int(corner)) if corner.startswith("-") else corner for corner in corners)
