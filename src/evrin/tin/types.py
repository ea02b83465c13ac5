"""Array types that every kernel shares, so that each is compiled for one signature only."""

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
Ints = NDArray[np.int32]
Flags = NDArray[np.bool_]
