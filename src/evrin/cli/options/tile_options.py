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
    typer.Option("--contours", metavar="FILE", help="Contours to write, joined across tiles (.gpkg)."),
]
HeightsOut = Annotated[
    Path | None,
    WRITES,
    typer.Option("--heights", metavar="FILE", help="Heights at the middles of cells to write (.tif)."),
]
SlopesOut = Annotated[
    Path | None,
    WRITES,
    typer.Option("--slopes", metavar="FILE", help="Slopes at the middles of cells to write (.tif)."),
]
GridUnit = Annotated[Unit, typer.Option("--slope-unit", metavar="percent|degrees|ratio", help="Of slopes.")]
CellSide = Annotated[float | None, typer.Option("--cell", metavar="LENGTH", help="Side of a cell of what is written.")]
AgainstSurface = Annotated[
    Path | None,
    typer.Option(
        "--against", metavar="SURFACE", help="A recipe or a surface to compare with: cut and fill are printed."
    ),
]
DifferencesOut = Annotated[
    Path | None,
    WRITES,
    typer.Option(
        "--differences", metavar="FILE", help="With --against: how high this one lies above it, to write (.tif)."
    ),
]
PartOut = Annotated[
    Path | None,
    typer.Option("--out", "-o", metavar="FILE", help="With --window: that part as a surface, by extension."),
]
TileSide = Annotated[
    float | None,
    typer.Option("--tile", metavar="LENGTH", help="Side of a tile; one of about a million points if not given."),
]
Workers = Annotated[
    int, typer.Option("--workers", metavar="NUMBER", help="Processes on this machine; 0 is one for each core.")
]
Scheduler = Annotated[
    str,
    typer.Option(
        "--scheduler",
        metavar="ADDRESS",
        help="Of a Dask scheduler whose workers do the work, as in tcp://10.0.0.5:8786.",
    ),
]
KeptIn = Annotated[
    Path | None,
    WRITES,
    typer.Option(
        "--folder", metavar="FOLDER", help="Where results of tiles are kept; RECIPE-tiles beside it if not given."
    ),
]
