"""Plain CSV out: contours as rows of vertices."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd

from evrin.analysis import Contours
from evrin.formats.files import whole_text_file


def write_contours(path: Path, contours: Contours) -> None:
    """Write a row a vertex: line number, easting, northing, level; readable as line vertices."""
    number = np.repeat(np.arange(1, len(contours) + 1), np.diff(contours.starts))
    frame = pd.DataFrame(
        {
            "line": number,
            "easting": contours.points[:, 0],
            "northing": contours.points[:, 1],
            "height": np.repeat(contours.levels[contours.level_of], np.diff(contours.starts)),
        }
    )
    write_frame(path, frame)


def write_frame(path: Path, frame: pd.DataFrame) -> None:
    """Write a table with a header row."""
    with whole_text_file(path) as stream:
        frame.to_csv(stream, index=False)
