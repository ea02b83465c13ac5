"""The options of `evrin tiles`."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from evrin.cli.options.shared_options import Unit
from evrin.cli.options.what_is_written import WRITES

ContoursOut = Annotated[
    Path | None,
    WRITES,
    typer.Option("--contours", metavar="FILE", help="Write contours, joined across tiles (.gpkg)."),
]
HeightsOut = Annotated[
    Path | None,
    WRITES,
    typer.Option("--heights", metavar="FILE", help="Write heights at the middles of cells (.tif)."),
]
SlopesOut = Annotated[
    Path | None,
    WRITES,
    typer.Option("--slopes", metavar="FILE", help="Write slopes at the middles of cells (.tif)."),
]
GridUnit = Annotated[Unit, typer.Option("--slope-unit", metavar="percent|degrees|ratio", help="Unit of slopes.")]
CellSide = Annotated[
    float | None, typer.Option("--cell", metavar="LENGTH", help="Side of a cell of the grids that are written.")
]
AgainstSurface = Annotated[
    Path | None,
    typer.Option("--against", metavar="SURFACE", help="A recipe or a surface to compare with; prints cut and fill."),
]
DifferencesOut = Annotated[
    Path | None,
    WRITES,
    typer.Option(
        "--differences", metavar="FILE", help="Write how high this surface lies above that of --against (.tif)."
    ),
]
PartOut = Annotated[
    Path | None,
    typer.Option(
        "--out", "-o", metavar="FILE", help="Write the part in --window as a surface; the extension names the format."
    ),
]
TileSide = Annotated[
    float | None,
    typer.Option(
        "--tile", metavar="LENGTH", help="Side of a tile; chosen for about a million points in a tile if not given."
    ),
]
Workers = Annotated[
    int,
    typer.Option("--workers", metavar="NUMBER", help="Number of processes on this machine; 0 is one for each core."),
]
Scheduler = Annotated[
    str,
    typer.Option(
        "--scheduler",
        metavar="ADDRESS",
        help="Address of a Dask scheduler whose workers do the work, as in tcp://10.0.0.5:8786.",
    ),
]
KeptIn = Annotated[
    Path | None,
    WRITES,
    typer.Option(
        "--folder",
        metavar="FOLDER",
        help="Folder that keeps the results of tiles; RECIPE-tiles beside the recipe if not given.",
    ),
]
