"""Short HTML of the things users hold, for notebooks."""

from __future__ import annotations

from html import escape

import numpy as np

from evrin.analysis.along.profiles import Profile
from evrin.analysis.contours.contour_lines import Contours
from evrin.base.wording import counted
from evrin.recipe.build import Build
from evrin.recipe.document.table_rows import table_rows
from evrin.recipe.recipe import Recipe
from evrin.surface.surface import Surface

Rows = list[tuple[str, str]]


def _table(title: str, rows: Rows) -> str:
    cells = "".join(f"<tr><th>{escape(name)}</th><td>{escape(value)}</td></tr>" for name, value in rows)
    return f"<table><caption>{escape(title)}</caption>{cells}</table>"


def surface_snippet(surface: Surface) -> str:
    """Return counts, extent, heights and reference system of a surface."""
    unit = surface.units
    west, south, east, north = surface.extent
    low, high = float(surface.vertices[:, 2].min()), float(surface.vertices[:, 2].max())
    rows = [
        ("vertices", f"{len(surface.vertices):,}"),
        ("triangles", f"{len(surface.triangles):,}"),
        ("plan area", f"{surface.plan_area:,.1f} {unit}²"),
        ("heights", f"{low:.3f} to {high:.3f} {unit}"),
        ("west, south, east, north", f"{west:.1f}, {south:.1f}, {east:.1f}, {north:.1f}"),
        ("reference system", str(surface.frame)),
    ]
    return _table(surface.name, rows)


def build_snippet(build: Build) -> str:
    """Return the surface of a build, its open findings, and its tally."""
    rows = [("open findings", f"{len(build.open_findings)} of {len(build.findings)}")]
    rows += [(finding.code, finding.message) for finding in build.open_findings[:10]]
    tally = build.tally.to_html(index=False, border=0)
    return surface_snippet(build.surface) + _table("Findings", rows) + str(tally)


def recipe_snippet(recipe: Recipe) -> str:
    """Return the tables of a recipe, each with what it does and why."""
    rows = [
        (row["table"] if row["on"] else f"{row['table']} (off)", f"{row['what']}  {row['why']}".strip())
        for row in table_rows(recipe.text)
    ]
    return _table(recipe.path.name, rows)


def contours_snippet(contours: Contours) -> str:
    """Return how many contours there are, their levels and interval."""
    levels = contours.levels
    rows = [("lines", f"{len(contours):,}")]
    if len(levels):
        rows.append(("levels", f"{len(levels)}, {levels[0]:g} to {levels[-1]:g} {contours.units}"))
    if contours.interval is not None:
        rows.append(("interval", f"{contours.interval:g} {contours.units}"))
    return _table("Contours", rows)


def profile_snippet(profile: Profile) -> str:
    """Return length and heights of a profile."""
    heights = profile.heights[np.isfinite(profile.heights)]
    unit = profile.frame.units
    rows = [("length", f"{profile.length:,.2f} {unit}"), ("rows", counted(len(profile.chainage), "row"))]
    if len(heights):
        rows.append(("heights", f"{heights.min():.3f} to {heights.max():.3f} {unit}"))
    return _table("Profile", rows)
