"""From a folder that others sent to a surface: look, take what is wanted, thin it, and measure against the truth."""

import sys
import tempfile
from pathlib import Path

import evrin
from evrin.demo import lay_out, true_error
from evrin.formats import look
from evrin.recipe import draft
from evrin.survey import inventory

RECIPE = """
[site]
name = "Ostrel Weir from the air"

[[source]]
file  = "received/flight-bare.laz"
role  = "cloud"
ground_filter = {}
thin  = { tolerance = 0.08 }

[[source]]
file    = "received/old-survey.dxf"
role    = "points"
heights = "text nearby"
keep    = { layers = ["SPOT"] }
"""


def main(folder: Path) -> None:
    """Look at what came in, draft a recipe, and build one of our own."""
    lay_out(folder, received=True)
    for name in ("old-survey.dxf", "ponds.gpkg"):
        found = inventory(look(folder / "received" / name))
        print(found.contents.form)
        print(found.table[["kind", "layer", "count", "lowest", "highest", "at_zero"]].to_string(index=False))
        print(*(f"  looks wrong: {text}" for text in found.looks_wrong), sep="\n")
    made = draft([folder / "received"], folder / "first.toml")
    print(f"a draft of {len(made.guesses)} tables")
    (folder / "air.toml").write_text(RECIPE, encoding="utf-8")
    build = evrin.Recipe.read(folder / "air.toml").build()
    print(build.stages[0].did)
    print(build.tally.to_string(index=False))
    rmse, largest = true_error(build.surface)
    print(f"{build.surface}: RMSE {rmse:.3f} m, largest error {largest:.2f} m")
    evrin.write(folder / "air.dxf", build.surface)
    evrin.write(folder / "air.tif", build.surface, cell=0.5, method="natural")


if __name__ == "__main__":
    if len(sys.argv) > 1:
        main(Path(sys.argv[1]))
    else:
        with tempfile.TemporaryDirectory() as temporary:
            main(Path(temporary))
