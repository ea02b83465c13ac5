"""Where every item that was read ended up."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from evrin.base.named_values import Row
from evrin.recipe.building.fates import FATES
from evrin.recipe.building.rows import SourceCount


def tally_rows(sources: list[SourceCount], fates: NDArray[np.int8]) -> list[Row]:
    """Return a row a source and one for the total.

    Each has ``source``, ``read`` (rows of the file that hold something), and the fates that steps declare, which sum to
    ``read``.
    """
    rows: list[dict[str, object]] = []
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
    return [*rows, {"source": "all", **{name: sum(row[name] for row in rows) for name in rows[0] if name != "source"}}]
