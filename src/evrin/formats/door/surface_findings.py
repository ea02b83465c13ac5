"""What is wrong with a surface that a file holds."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from evrin.base.wording import counted
from evrin.check import Finding, rule
from evrin.surface.surface import Surface
from evrin.surface.validity.covering_sheets import closes_no_step
from evrin.surface.validity.faults import folded
from evrin.surface.validity.overlaps import overlap_of

COVERS_TWICE = rule(
    "covers-twice",
    "surfaces of files that cover ground twice, such as tiles with a strip in common",
    "warning",
    fix="ask for a surface that covers it once, or read each part as a source of its own and cut it with a boundary",
)
FOLDED = rule(
    "folded",
    "surfaces of files with triangles that lie over the ones beside them, as where two were joined at a wrong vertex",
    "warning",
    fix="remove one of them where the surface was made, or read its points and triangulate them again",
)
UPRIGHT = rule(
    "upright",
    "surfaces of files with upright faces that close no step, such as skirts and walls with no ground behind",
    "note",
    fix="nothing, if they are to be left out; they have no ground",
)


def about_surface(file: str, surface: Surface) -> list[Finding]:
    """Return findings about a surface of a file."""
    return [*_about_overlap(file, surface), *_about_folds(file, surface), *_about_upright(file, surface)]


def _about_overlap(file: str, surface: Surface) -> Iterator[Finding]:
    overlap = overlap_of(surface)
    if overlap is not None:
        what = (
            f"{counted(overlap.triangles, 'triangle')} of {surface.name} share ground with another, up to "
            f"{overlap.width:.2f} {surface.units} wide ({file})"
        )
        yield COVERS_TWICE.finding(overlap.place, what)


def _about_folds(file: str, surface: Surface) -> Iterator[Finding]:
    rows = folded(surface)
    if len(rows):
        does = "lies over the one" if len(rows) == 1 else "lie over the ones"
        what = f"{counted(len(rows), 'triangle')} of {surface.name} {does} beside an edge of it ({file})"
        yield FOLDED.finding(_middle(surface, rows[0]), what)


def _about_upright(file: str, surface: Surface) -> Iterator[Finding]:
    rows = np.flatnonzero(closes_no_step(surface))
    if len(rows):
        what = f"{counted(len(rows), 'upright face')} of {surface.name} without ground on both sides ({file})"
        yield UPRIGHT.finding(_middle(surface, rows[0]), what)


def _middle(surface: Surface, row: int) -> tuple[float, float]:
    x, y = surface.vertices[surface.triangles[row], :2].mean(axis=0).tolist()
    return x, y
