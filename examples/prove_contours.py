"""Contours exact and smoothed, over given ones, and how steep the demo's ground is, in bands."""

import tempfile
from pathlib import Path

import numpy as np

import evrin
from evrin.analysis import areas_of, contour_fit
from evrin.demo import lay_out
from evrin.draw import map_sheet, save_sheet, view_of
from evrin.surface import SourceLine


def main(folder: Path) -> None:
    """Contour the demo's clean ground, compare with contours drawn from half of its shots, and shade it."""
    lay_out(folder)
    ground = evrin.Recipe.read(folder / "clean.toml").build().surface
    print(ground)
    exact, smooth = ground.contours(0.25), ground.contours(0.25, smooth=1.0)
    for name, lines in (("exact", exact), ("smoothed", smooth)):
        level = np.repeat(lines.levels[lines.level_of], np.diff(lines.starts))
        off = np.abs(ground.height(*lines.points.T) - level)
        described = (
            f"{len(lines)} lines, {len(lines.points):,} places, {int(lines.is_depression.sum())} round depressions"
        )
        print(f"{name}: {described}; heights within {np.nanmax(off):.4f} m of their level")

    rougher = evrin.triangulate(ground.vertices[::2])
    old = [
        SourceLine(f"old {k}", np.column_stack((line.points, np.full(len(line.points), line.level))), effect="contour")
        for k, line in enumerate(rougher.contours(1.0))
    ]
    fit = contour_fit(ground, old)
    print(fit.table.round(2).to_string(index=False))
    print(areas_of(ground, "slope", (20, 10, 5, 2), "one_in").round(1).to_string(index=False))
    print(ground.height_bands([40, 42, 44]).round(1).to_string(index=False))
    save_sheet(map_sheet(ground, shading="slope", triangles=False, contours=smooth), folder / "slope.png")
    save_sheet(view_of(ground, from_deg=200.0, contours=exact), folder / "view.png")


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as temporary:
        main(Path(temporary))
