"""What is wrong with a surface that a file holds."""

from __future__ import annotations

from evrin.check import Finding, rule
from evrin.surface.overlaps import overlap_of
from evrin.surface.surface import Surface
from evrin.wording import counted

COVERS_TWICE = rule(
    "covers-twice",
    "surfaces of files that cover ground twice, such as tiles with a strip in common",
    "warning",
    fix="ask for a surface that covers it once, or read each part as a source of its own and cut it with a boundary",
)


def about_surface(file: str, surface: Surface) -> list[Finding]:
    """Return findings about a surface of a file."""
    overlap = overlap_of(surface)
    if overlap is None:
        return []
    what = (
        f"{counted(overlap.triangles, 'triangle')} of {surface.name} share ground with another, up to "
        f"{overlap.width:.2f} {surface.units} wide ({file})"
    )
    return [COVERS_TWICE.finding(overlap.place, what)]
