"""Plain CSV out: contours as rows of vertices, surfaces as rows of points."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from evrin.analysis.contours.contour_lines import Contours
from evrin.base.files import whole_text_file
from evrin.base.wording import one_line
from evrin.surface.surface import SourceLine, Surface

if TYPE_CHECKING:
    import pandas as pd


def write_contours(path: Path, contours: Contours) -> None:
    """Write a row a vertex: line number, easting, northing, level; readable as line vertices."""
    import pandas as pd

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


def write_lines(path: Path, lines: Sequence[SourceLine], units: str, crs: str) -> None:
    """Write a row a vertex: line name, easting, northing, height; a closed line ends where it began."""
    import pandas as pd

    around = [np.vstack((line.points, line.points[:1])) if line.closed else line.points for line in lines]
    names = np.repeat(np.array([one_line(line.name) for line in lines], object), [len(points) for points in around])
    x, y, z = np.concatenate([np.empty((0, 3)), *around]).T
    write_frame(path, pd.DataFrame({"line": names, "easting": x, "northing": y, "height": z}))


def write_surface(path: Path, surface: Surface) -> None:
    """Write a row a vertex: number, easting, northing, height, code; the triangles have no place in it."""
    import pandas as pd

    count = len(surface.vertices)
    numbers, codes = np.arange(1, count + 1).astype(str).astype(object), np.full(count, "", object)
    if surface.provenance is not None:
        rows = surface.provenance.shot_of
        codes = np.where(rows >= 0, surface.provenance.shots.codes[rows], "")
        codes = np.array([one_line(str(code)) for code in codes.tolist()], object)
    x, y, z = surface.vertices.T
    frame = pd.DataFrame({"number": numbers, "easting": x, "northing": y, "height": z, "code": codes})
    write_frame(path, frame)


def write_frame(path: Path, frame: pd.DataFrame) -> None:
    """Write a table with a header row."""
    with whole_text_file(path) as stream:
        frame.to_csv(stream, index=False)
