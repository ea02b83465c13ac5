"""Laying out the demo site's files and recipes, and measuring a surface against its true ground."""

from __future__ import annotations

import json
import os
import tempfile
from contextlib import suppress
from importlib.resources import files
from pathlib import Path

import numpy as np

from evrin.base.errors import DataError, MissingPackageError
from evrin.base.files import whole_text_file
from evrin.base.written_files import forget_written
from evrin.demo import ground
from evrin.demo.shots import Row, again, check_shots, survey, track_log
from evrin.surface.surface import Surface
from evrin.tin.query.inside_rings import is_inside_rings

# The limit leaves the ground that was shot by a few metres in the north-east: the ground is extrapolated to it.
LIMIT = np.array(
    [[4026, 2804], [4211, 2804], [4211, 2914], [4196, 2924], [4150, 2922], [4140, 2916], [4026, 2912]], float
)
REACHES = (
    (
        "river above the weir",
        ground.RIVER_ABOVE,
        ((4027, 2804.5), (4087.5, 2804.5), (4087.5, 2813.6), (4027, 2813.6)),
    ),
    ("river below the weir", ground.RIVER_BELOW, ((4090, 2804.5), (4210, 2804.5), (4210, 2813.6), (4090, 2813.6))),
)
DRAIN = [(4140.0, 2884.0, 42.9), (4129.0, 2881.5, 41.6), (4116.0, 2878.0, 42.3)]
RECIPES = ("raw.toml", "clean.toml")


def lay_out(folder: Path, *, received: bool = False, resurvey: int | None = None) -> list[Path]:
    """Write the field files and both recipes.

    Parameters
    ----------
    folder : Path
        Made where it is not there.
    resurvey : int, optional
        The field books of another crew instead: new noise from this seed, one shot in twenty missing.
    received : bool
        Whether to write what others sent as well: an old drawing, a flight, ponds, a surface and its edges, a grid.

    Returns
    -------
    list of Path
        What was written; files that are there already are unchanged.

    Raises
    ------
    DataError
        Where the folder cannot be written to.

    Examples
    --------
    >>> import tempfile
    >>> from pathlib import Path
    >>> from evrin.demo import lay_out
    >>> [path.name for path in lay_out(Path(tempfile.mkdtemp()))][-1]
    'clean.toml'
    """
    field = folder / "field"
    try:
        field.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise DataError(f"{folder}: cannot be created: {error.strerror}") from error
    rows = survey()
    half = rows[len(rows) * 6 // 10][0]
    rows = rows if resurvey is None else again(rows, resurvey)
    days = [[row for row in rows if (row[0] < half) == first] for first in (True, False)]
    written = {
        field / "day1.csv": _shot_lines(days[0]),
        field / "day2.csv": _shot_lines(days[1]) + "9001,2861.220,4090.400,,FIELD\n",
        field / "check.csv": _shot_lines(check_shots()),
        field / "drain.csv": "line,easting,northing,height\n"
        + "".join(f"DRAIN,{x:.3f},{y:.3f},{z:.3f}\n" for x, y, z in DRAIN),
        field / "pond.csv": _pond_lines(),
        field / "limit.geojson": _ring("survey limit", LIMIT),
        field / "barn.geojson": _ring("barn", ground.BARN),
        field / "river.geojson": _reaches(),
        field / "track-log.csv": _line_rows("TRACK LOG", track_log()),
        field / "track-centre.csv": _line_rows("TRACK CENTRE", ground.centre_line("track")[::6]),
    }
    for name in RECIPES:
        written[folder / name] = (files("evrin.demo") / "recipes" / name).read_text(encoding="utf-8")
    written = {path: text for path, text in written.items() if not path.exists()}
    for path, text in written.items():
        with whole_text_file(path, guarded=False) as stream:
            stream.write(text)
    return [*written, *_lay_out_received(folder / "received")] if received else list(written)


def _lay_out_received(folder: Path) -> list[Path]:
    from evrin.demo.received import received_files

    folder.mkdir(exist_ok=True)
    missing = {folder / name: write for name, write in received_files().items() if not (folder / name).exists()}
    written = []
    for path, write in missing.items():
        # Without the packages that formats need there is less to look at, and all else runs.
        with suppress(MissingPackageError):
            write(path)
            forget_written(path)
            written.append(path)
    return written


def _shot_lines(rows: list[Row]) -> str:
    return "".join(f"{number},{y:.3f},{x:.3f},{z:.3f},{code}\n" for number, x, y, z, code in rows)


def _pond_lines() -> str:
    """The pond's edge off an air photograph: plan only, through the places that the crew shot."""
    angle = np.linspace(0.0, 2.0 * np.pi, 26, endpoint=False)
    ring = ground.POND + ground.POND_RADII * np.column_stack((np.cos(angle), np.sin(angle)))
    return "line;easting;northing\n" + "".join(f"POND;{x:.2f};{y:.2f}\n" for x, y in np.vstack((ring, ring[:1])))


def _line_rows(name: str, places: np.ndarray) -> str:
    head = "line,easting,northing,height\n" if places.shape[1] == 3 else "line,easting,northing\n"
    return head + "".join(f"{name}," + ",".join(f"{value:.3f}" for value in row) + "\n" for row in places.tolist())


def _reaches() -> str:
    """The two reaches of the river, each at the level of its gauge."""
    features = [
        {
            "type": "Feature",
            "properties": {"name": name, "level": level},
            "geometry": {"type": "Polygon", "coordinates": [[*map(list, ring), list(ring[0])]]},
        }
        for name, level, ring in REACHES
    ]
    return json.dumps({"type": "FeatureCollection", "features": features}, indent=1) + "\n"


def _ring(name: str, ring: np.ndarray) -> str:
    feature = {
        "type": "Feature",
        "properties": {"name": name},
        "geometry": {"type": "Polygon", "coordinates": [np.vstack((ring, ring[:1])).tolist()]},
    }
    return json.dumps({"type": "FeatureCollection", "features": [feature]}, indent=1) + "\n"


def true_error(surface: Surface, count: int = 10_000) -> tuple[float, float]:
    """Return the RMSE and the largest error of a surface against the true ground.

    Parameters
    ----------
    surface : Surface
        The surface to compare with the truth.
    count : int
        Places, scattered with a fixed seed inside the survey limit and outside the barn.

    Returns
    -------
    rmse, largest : float
        Over the places that the surface covers, metres.

    Examples
    --------
    >>> import numpy as np
    >>> from evrin.demo import true_error
    >>> from evrin.demo import true_height
    >>> import evrin
    >>> east, north = (axis.ravel() for axis in np.mgrid[4020:4220:2, 2800:2920:2].astype(float))
    >>> ground = evrin.triangulate(np.column_stack((east, north, true_height(east, north))))
    >>> rmse, largest = true_error(ground)
    >>> rmse < largest
    True
    """
    rng = np.random.default_rng(7)
    places = np.column_stack((rng.uniform(4026, 4211, count), rng.uniform(2804, 2916, count)))
    places = places[is_inside_rings(places, [LIMIT]) & ~is_inside_rings(places, [ground.BARN])]
    error = surface.height(places[:, 0], places[:, 1]) - ground.true_height(places[:, 0], places[:, 1])
    error = error[np.isfinite(error)]
    return float(np.sqrt(np.mean(error**2))), float(np.abs(error).max())


def small_site(folder: str | os.PathLike[str] | None = None) -> Path:
    """Write a field of nine shots and its recipe, to try things on, and return the recipe.

    Parameters
    ----------
    folder : path, optional
        Created where it is not there; a temporary one if not given.

    Returns
    -------
    Path

    Examples
    --------
    >>> import evrin
    >>> evrin.Recipe.read(small_site()).build().surface.plan_area
    400.0
    """
    place = Path(tempfile.mkdtemp(prefix="evrin-")) if folder is None else Path(folder)
    place.mkdir(parents=True, exist_ok=True)
    shots = [(x, y, 40 + 0.02 * x + 0.01 * y) for y in (0, 10, 20) for x in (0, 10, 20)]
    rows = [f"{k},{y},{x},{z:.2f},GRASS\n" for k, (x, y, z) in enumerate(shots, 1)]
    (place / "shots.csv").write_text("".join(rows), encoding="utf-8")
    source = 'file = "shots.csv"\nrole = "points"\ncolumns = "PNEZD"\n'
    (place / "field.toml").write_text(f'[site]\nname = "field"\n\n[[source]]\n{source}', encoding="utf-8")
    return place / "field.toml"
