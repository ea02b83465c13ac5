"""Points along a line on a surface, to be set out or checked on site."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from evrin.analysis.along.alignment import Alignment
from evrin.analysis.along.profiles import profile
from evrin.base.errors import DataError
from evrin.surface.surface import Surface

if TYPE_CHECKING:
    import pandas as pd


def points_along(
    surface: Surface,
    line: Alignment,
    interval: float | None = None,
    changes: float | None = None,
    *,
    first: int = 1,
) -> pd.DataFrame:
    """Return numbered points along a line: at an interval, at its bends, and where the grade changes.

    See `Surface.points_along`.
    """
    import pandas as pd

    if interval is None and changes is None:
        raise DataError("give interval=, changes= or both")
    rows = profile(surface, line.points, start=line.start).table(interval, changes)
    return pd.DataFrame(
        {
            "number": np.arange(first, first + len(rows)),
            "easting": rows["easting"].round(4),
            "northing": rows["northing"].round(4),
            "height": rows["height"].round(4),
            "code": rows["at"].str.upper(),
            "chainage": rows["chainage"].round(4),
        }
    )
