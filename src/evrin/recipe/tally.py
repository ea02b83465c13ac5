"""Where every item that was read ended up."""

from __future__ import annotations

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from evrin.recipe.fates import FATES
from evrin.recipe.rows import SourceCount


def tally_table(sources: list[SourceCount], fates: NDArray[np.int8]) -> pd.DataFrame:
    """Return a row a source and one for the total.

    Columns: ``source``, ``read`` (rows of the file that hold something), and the fates that steps declare, which sum to
    ``read``.
    """
    rows = []
    first = 0
    for source in sources:
        here = fates[first : first + source.kept]
        first += source.kept
        counts = {each.column: int((here == each.number).sum()) for _, each in sorted(FATES.items())}
        counts["merged"] += source.merged
        counts["thinned"] += source.thinned
        counts["left_out"] += source.left_out
        counts["refused"] += source.refused_count
        rows.append({"source": source.name, "read": source.read, **counts})
    table = pd.DataFrame(rows)
    total = table.drop(columns="source").sum()
    return pd.concat([table, pd.DataFrame([{"source": "all", **total}])], ignore_index=True)
