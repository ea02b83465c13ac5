"""The recipe route: lay out the demo site, build it, look at what was found, and hand the surface over."""

import sys
import tempfile
from pathlib import Path

import evrin
from evrin.demo import lay_out, true_error


def main(folder: Path) -> None:
    """Build the demo's two recipes in *folder* and write the clean surface."""
    lay_out(folder)
    for name in ("raw", "clean"):
        build = evrin.Recipe.read(folder / f"{name}.toml").build()
        rmse, largest = true_error(build.surface)
        print(f"{name}: {build.surface}")
        print(f"  {len(build.open_findings)} open findings, RMSE {rmse:.3f} m, largest error {largest:.2f} m")
        for finding in build.open_findings[:3]:
            print(f"  {finding.code}: {finding.message}; {', '.join(finding.shots)}")
    print(build.tally.to_string(index=False))
    evrin.write(folder / "ground.xml", build.surface)
    evrin.write(folder / "contours.geojson", build.surface.contours(interval=0.25))
    again = evrin.read_surface(folder / "ground.xml")
    print(f"read back: {again}")


if __name__ == "__main__":
    if len(sys.argv) > 1:
        main(Path(sys.argv[1]))
    else:
        with tempfile.TemporaryDirectory() as temporary:
            main(Path(temporary))
