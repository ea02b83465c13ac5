"""Ground from contours alone: flat triangles found and fixed, measured against the demo's true ground."""

from collections.abc import Callable

import numpy as np

import evrin
from evrin.demo import ground, true_height
from evrin.making import Triangulation
from evrin.surface import SourceLine
from evrin.survey import find_flats, fix_flats


def contours_of(height: Callable[..., np.ndarray], interval: float) -> list[SourceLine]:
    """Return contours of a true ground, as an old drawing would have them."""
    east, north = np.meshgrid(np.arange(4030.0, 4212.0), np.arange(2826.0, 2914.0))
    xyz = np.column_stack((east.ravel(), north.ravel(), height(east.ravel(), north.ravel())))
    lines = evrin.triangulate(xyz).contours(interval)
    return [
        SourceLine(
            f"contour {k}", np.column_stack((line.points, np.full(len(line.points), line.level))), effect="contour"
        )
        for k, line in enumerate(lines, 1)
        if len(line.points) > 3
    ]


def main() -> None:
    """Build from contours three ways and print the errors."""
    places = np.random.default_rng(1).uniform((4034, 2830), (4208, 2910), (8000, 2))
    for name, height, interval in (("fields", ground.field, 0.5), ("whole site", true_height, 0.5)):
        lines = contours_of(height, interval)
        for how in ("as it is", "flips", "points"):
            work = Triangulation(np.empty((0, 3)), lines)
            described = fix_flats(work, with_points=how == "points").described() if how != "as it is" else ""
            surface = work.surface(name=f"{name}, {interval} m, {how}")[0]
            error = surface.height(*places.T) - height(*places.T)
            rmse, largest = np.sqrt(np.nanmean(error**2)), np.nanmax(np.abs(error))
            print(
                f"{surface}: {len(find_flats(surface)):,} flat, RMSE {rmse:.3f}, largest {largest:.2f} m. {described}"
            )


if __name__ == "__main__":
    main()
