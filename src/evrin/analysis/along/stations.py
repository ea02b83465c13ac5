"""Chainages at an interval."""

from __future__ import annotations

import numpy as np

from evrin.base.errors import DataError
from evrin.kernels import Floats

MOST_STATIONS = 1_000_000


def multiples_between(first: float, last: float, interval: float) -> Floats:
    """Return the multiples of an interval from one chainage to another.

    Raises
    ------
    DataError
        For an interval that is not above 0, or gives more than MOST_STATIONS places.

    Examples
    --------
    >>> multiples_between(3.0, 11.0, 5.0).tolist()
    [5.0, 10.0]
    """
    if not (interval > 0.0 and np.isfinite(interval)):
        raise DataError(f"the interval must be above 0; it is {interval:g}")
    count = (last - first) / interval
    if count > MOST_STATIONS:
        raise DataError(
            f"an interval of {interval:g} gives {count:,.0f} places along {last - first:,.1f}; at most "
            f"{MOST_STATIONS:,} are allowed. Choose a wider one."
        )
    regular = np.arange(np.ceil(first / interval - 1e-9), np.floor(last / interval + 1e-9) + 1.0) * interval + 0.0
    out: Floats = regular[(regular >= first) & (regular <= last)]
    return out
