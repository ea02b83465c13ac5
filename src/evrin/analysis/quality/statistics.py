"""The figures of a surface: counts, areas, heights, edges, and what each source gave to it."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from evrin.surface.surface import Surface

if TYPE_CHECKING:
    import pandas as pd


def surface_figures(surface: Surface) -> dict[str, float | int]:
    """Return counts, areas, heights, slopes and lengths of a surface, in its units: `Surface.figures`."""
    from evrin.surface.components import triangle_parts

    ends = surface.vertices[surface.edges, :2]
    lengths = np.hypot(*(ends[:, 1] - ends[:, 0]).T)
    half = np.arange(3 * len(surface.triangles))
    once = half[(surface.mates < 0) | (half < surface.mates)]
    on_line = surface.edge_lines.ravel()[once] >= 0
    areas, slopes = surface.triangle_areas, np.nan_to_num(surface.triangle_slopes)
    heights = surface.vertices[:, 2]
    middles = heights[surface.triangles].mean(axis=1)
    return {
        "vertices": len(surface.vertices),
        "triangles": len(surface.triangles),
        "edges": len(lengths),
        "breakline_edges": int(on_line.sum()),
        "parts": len(list(triangle_parts(surface, np.arange(len(surface.triangles))))),
        "plan_area": surface.plan_area,
        "slope_area": surface.slope_area,
        "lowest": float(heights.min()),
        "highest": float(heights.max()),
        "mean_height": float(np.average(middles, weights=areas)),
        "mean_slope_percent": 100.0 * float(np.average(slopes, weights=areas)),
        "steepest_percent": 100.0 * float(slopes.max()),
        "shortest_edge": float(lengths.min()),
        "median_edge": float(np.median(lengths)),
        "longest_edge": float(lengths.max()),
        "rim_length": float(lengths[surface.mates[once] < 0].sum()),
    }


def figures_by_source(surface: Surface) -> pd.DataFrame:
    """Return what each file gave to a surface.

    Parameters
    ----------
    surface : Surface
        The surface to examine.

    Returns
    -------
    DataFrame
        A row a file, and one for vertices that were made: ``file``, ``vertices``, ``lowest``, ``highest``,
        ``plan_area`` (a third of each triangle to each corner), ``share_percent`` of the plan area.

    Examples
    --------
    >>> import evrin
    >>> from evrin.demo import small_site
    >>> build = evrin.Recipe.read(small_site()).build()
    >>> from evrin.analysis import figures_by_source
    >>> len(figures_by_source(build.surface))
    1
    """
    import pandas as pd

    count = len(surface.vertices)
    ground = np.bincount(surface.triangles.ravel(), np.repeat(surface.triangle_areas / 3.0, 3), count)
    owner = np.full(count, "(not known)", object)
    if surface.provenance is not None:
        row = surface.provenance.shot_of
        files = np.array([*surface.provenance.shots.files, "(made)"], object)
        owner = files[np.where(row >= 0, surface.provenance.shots.file_of[row], len(files) - 1)]
    frame = pd.DataFrame({"file": owner, "height": surface.vertices[:, 2], "area": ground})
    grouped = frame.groupby("file", sort=True)
    out = pd.DataFrame(
        {
            "vertices": grouped.size(),
            "lowest": grouped["height"].min(),
            "highest": grouped["height"].max(),
            "plan_area": grouped["area"].sum(),
        }
    ).reset_index()
    out["share_percent"] = 100.0 * out["plan_area"] / surface.plan_area
    return out
