"""Where every item that was read ended up."""

from __future__ import annotations

from enum import IntEnum

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from evrin.recipe.gather import Gathered


class Fate(IntEnum):
    """What became of an item that was selected."""

    USED = 0
    MERGED = 1
    OUTSIDE = 2
    TRIMMED = 3


_COLUMNS = {Fate.USED: "used", Fate.MERGED: "merged", Fate.OUTSIDE: "outside", Fate.TRIMMED: "trimmed"}


def tally_table(gathered: Gathered, fates: NDArray[np.int8]) -> pd.DataFrame:
    """Return a row a source and one for the total.

    Columns: ``source``, ``read`` (rows of the file that hold something), ``used``, ``merged`` (at the place of an
    earlier one), ``outside`` (a boundary or the data), ``trimmed`` (off the rim), ``thinned`` (others of the cloud
    stand for them), ``left_out`` (by selection, code or ground filter), ``refused``. The last seven sum to ``read``.
    """
    rows = []
    first = 0
    for source in gathered.sources:
        here = fates[first : first + source.kept]
        first += source.kept
        counts = {name: int((here == fate).sum()) for fate, name in _COLUMNS.items()}
        rows.append(
            {
                "source": source.name,
                "read": source.read,
                **counts,
                "merged": counts["merged"] + source.merged,
                "thinned": source.thinned,
                "left_out": source.left_out,
                "refused": source.refused_count,
            }
        )
    table = pd.DataFrame(rows)
    total = table.drop(columns="source").sum()
    return pd.concat([table, pd.DataFrame([{"source": "all", **total}])], ignore_index=True)
