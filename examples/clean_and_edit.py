"""Clean and edit: a recipe a group of tables at a time, an edit tried before it is written, a re-survey replayed."""

import tempfile
from pathlib import Path

import evrin
from evrin.demo import lay_out, true_error
from evrin.recipe import RecipeDocument, checked_edit


def main(folder: Path) -> None:
    """Run the demo's clean recipe step by step, then again on another crew's shots."""
    lay_out(folder)
    path = folder / "clean.toml"
    recipe = evrin.Recipe.read(path)
    for label, step in recipe.steps():
        build = step.build(keep=True)
        rmse, largest = true_error(build.surface)
        print(f"{label:24} {build.surface}: {len(build.open_findings)} open, RMSE {rmse:.3f}, largest {largest:.2f} m")

    edit = {"do": "raise", "at": [4096.0, 2896.0], "by": 0.1, "why": "to see what it does"}
    print(recipe.preview_edit(checked_edit(edit), keep=True).did)
    document = RecipeDocument(path)
    document.append("edit", **edit)
    found = recipe.build(keep=True).compare(document.recipe().build(keep=True))
    for what, value in found.figures():
        print(f"  {what}: {value}")

    for seed in (1, 2):
        again = folder / f"again {seed}"
        lay_out(again, resurvey=seed)
        build = evrin.Recipe.read(again / "clean.toml").build()
        unfit = [finding.message for finding in build.findings if finding.code == "edit-does-not-fit"]
        print(f"another crew: {len(build.edits)} edits applied, {len(unfit)} do not fit: {unfit}")


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as temporary:
        main(Path(temporary))
