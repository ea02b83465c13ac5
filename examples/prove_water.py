"""Where water runs and collects on the demo's ground, and how far each place is from a measured shot."""

import tempfile
from pathlib import Path

import evrin
from evrin.analysis import level_ground, too_large, trust
from evrin.demo import lay_out


def main(folder: Path) -> None:
    """Follow water from three places, list hollows and summits, and print how far from shots the ground is."""
    lay_out(folder)
    ground = evrin.Recipe.read(folder / "clean.toml").build().surface
    print(ground)
    for path in ground.water_paths([(4100.0, 2898.0), (4060.0, 2850.0), (4186.0, 2880.0)]):
        print(f"{path.length:.1f} m long, {path.fall:.2f} m down, ends: {path.end}")
    print(ground.hollows(0.1).round(2).to_string(index=False))
    print(ground.summits(0.2).round(2).to_string(index=False))
    print(level_ground(ground).round(1).to_string(index=False))
    known = trust(ground)
    print(
        f"usual distance between shots {known.spacing:.2f} m; the farthest place is {known.largest[0]:.2f} m from one"
    )
    print(known.bands().round(2).to_string(index=False))
    print(f"{int(too_large(ground).sum())} triangles too large for those round them")
    print({name: round(value, 2) for name, value in ground.figures().items()})


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as temporary:
        main(Path(temporary))
