"""Where every item that was read ended up."""

from __future__ import annotations

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from evrin.recipe.rows import Fate, SourceCount

_COLUMNS = {
    Fate.USED: "used",
    Fate.MERGED: "merged",
    Fate.WEEDED: "weeded",
    Fate.FLATTENED: "flattened",
    Fate.OUTSIDE: "outside",
    Fate.TRIMMED: "trimmed",
    Fate.EDITED_OUT: "edited_out",
    Fate.LEFT_OUT: "left_out",
    Fate.REFUSED: "refused",
}


def tally_table(sources: list[SourceCount], fates: NDArray[np.int8]) -> pd.DataFrame:
    """Return a row a source and one for the total.

    Columns: ``source``, ``read`` (rows of the file that hold something), ``used``, ``merged`` (another stands for it),
    ``weeded`` (off a line), ``flattened`` (a flat lies there), ``outside`` (a boundary or the data), ``trimmed`` (off
    the rim), ``edited_out`` (by an edit), ``thinned`` (others of the cloud stand for them), ``left_out`` (by selection,
    code, filter, cut or as a bust), ``refused``. All but the first two sum to ``read``.
    """
    rows = []
    first = 0
    for source in sources:
        here = fates[first : first + source.kept]
        first += source.kept
        counts = {name: int((here == fate).sum()) for fate, name in _COLUMNS.items()}
        counts["merged"] += source.merged
        counts["left_out"] += source.left_out
        counts["refused"] += source.refused_count
        before = {name: counts.pop(name) for name in ("left_out", "refused")}
        rows.append({"source": source.name, "read": source.read, **counts, "thinned": source.thinned, **before})
    table = pd.DataFrame(rows)
    total = table.drop(columns="source").sum()
    return pd.concat([table, pd.DataFrame([{"source": "all", **total}])], ignore_index=True)
