"""Profiles of several surfaces along one line, in one table."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING

import numpy as np

from evrin.analysis.along.profiles import Profile

if TYPE_CHECKING:
    import pandas as pd


def table_together(
    profiles: Mapping[str, Profile], interval: float | None = None, changes: float | None = None
) -> pd.DataFrame:
    """Return the heights of every surface at the places of all of them.

    Parameters
    ----------
    profiles : mapping of str to Profile
        By name, all along one line.
    interval, changes : float, optional
        As for the table of one; see `Profile.table`.

    Returns
    -------
    DataFrame
        ``chainage``, ``easting``, ``northing``, ``at`` (why there is a row), then for each surface its ``height``, and
        for each but the first how far it is above the first, ``above``.

    Examples
    --------
    >>> import evrin
    >>> low = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 1], [0, 8, 1]])
    >>> high = evrin.triangulate([[0, 0, 1], [8, 0, 3], [8, 8, 3], [0, 8, 1]])
    >>> line = [(0, 4), (8, 4)]
    >>> table = table_together({"low": low.profile(line), "high": high.profile(line)}, interval=4)
    >>> table["high above low"].tolist()
    [0.0, 1.0, 2.0]
    """
    import pandas as pd

    tables = [profile.table(interval, changes) for profile in profiles.values()]
    rows = pd.concat([table[["chainage", "at"]] for table in tables]).drop_duplicates("chainage")
    rows = rows.sort_values("chainage", kind="stable", ignore_index=True)
    chainage = rows["chainage"].to_numpy()
    first_name, first = next(iter(profiles.items()))
    places = [np.interp(chainage, first.chainage, first.points[:, k]) for k in range(2)]
    out = {"chainage": chainage, "easting": places[0], "northing": places[1], "at": rows["at"]}
    heights = {name: profile.height(chainage) for name, profile in profiles.items()}
    out |= {f"height {name}": each for name, each in heights.items()}
    out |= {f"{name} above {first_name}": heights[name] - heights[first_name] for name in list(heights)[1:]}
    return pd.DataFrame(out)
