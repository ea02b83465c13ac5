"""The vertices of a surface as a table, with the shots behind them."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from evrin.surface.surface import Surface

if TYPE_CHECKING:
    import pandas as pd


def vertex_frame(surface: Surface) -> pd.DataFrame:
    """Return a row for each vertex: place, point number, code, file, line in the file, and what was done to it.

    See `Surface.to_dataframe`.
    """
    import pandas as pd

    count = len(surface.vertices)
    frame = pd.DataFrame(surface.vertices, columns=["easting", "northing", "height"])
    for name in ("shot", "code", "file"):
        frame[name] = np.full(count, "", object)
    frame["line"] = np.zeros(count, np.int64)
    for name in ("added", "changed"):
        frame[name] = np.full(count, "", object)
    provenance = surface.provenance
    if provenance is None:
        return frame
    rows = np.flatnonzero(provenance.shot_of >= 0)
    shots = provenance.shots.take(provenance.shot_of[rows].astype(np.int64))
    files = np.array(shots.files or ("",), object)
    for name, values in (("shot", shots.numbers), ("code", shots.codes), ("file", files[shots.file_of])):
        frame.loc[rows, name] = values
    frame.loc[rows, "line"] = shots.line_of
    for name, texts in (("added", provenance.made), ("changed", provenance.changed)):
        frame.loc[list(texts), name] = list(texts.values())
    return frame
