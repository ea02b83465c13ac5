"""Rules about triangles."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from evrin.check.evidence import Evidence, Finding
from evrin.check.registry import rule
from evrin.surface.mend import level_triangles
from evrin.surface.parts import triangle_parts
from evrin.wording import counted


@rule("long-edges", "triangles with edges longer than the longest edge set")
def long_edges(evidence: Evidence) -> Iterator[Finding]:
    """Find, group by group, triangles left inside the surface that are larger than the data should allow."""
    if evidence.longest_edge is None:
        return
    surface = evidence.surface
    corners = surface.vertices[surface.triangles, :2]
    lengths = np.hypot(*np.moveaxis(np.roll(corners, -1, axis=1) - corners, 2, 0))
    # A side of the rim or of a breakline is as long as its owner drew it.
    free = (surface.edge_lines < 0) & (surface.mates.reshape(-1, 3) >= 0)
    lengths[~free] = 0.0
    # An area held at one level is as wide as it is.
    lengths[level_triangles(surface, "flat")] = 0.0
    longest = lengths.max(axis=1)
    large = np.flatnonzero(longest > evidence.longest_edge)
    if len(large) == 0:
        return
    for members in triangle_parts(surface, large):
        worst = int(members[np.argmax(longest[members])])
        x, y = corners[worst].mean(axis=0)
        several = counted(len(members), "triangle has", "neighbouring triangles have")
        yield Finding(
            "long-edges",
            "warning",
            (float(x), float(y)),
            f"{several} edges up to {longest[worst]:.2f} long, beyond the longest edge set ({evidence.longest_edge:g})",
            evidence.named(surface.triangles[worst].astype(np.int64)),
            "shoot more ground there, cut it out with a boundary, or accept it",
        )
