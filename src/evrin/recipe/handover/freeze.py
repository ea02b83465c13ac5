"""Freezing: a surface that needs none of its sources, and still knows the shot behind each vertex."""

from __future__ import annotations

import os
from pathlib import Path

import numpy as np

from evrin.base.errors import DataError
from evrin.base.files import whole_text_file
from evrin.formats.door.writers import write
from evrin.recipe.build import Build
from evrin.recipe.document.values import toml_text
from evrin.recipe.handover.frozen_vertices import trace_table
from evrin.recipe.store.digests import digest_of
from evrin.surface.surface import Surface


def freeze(build: Build, folder: str | os.PathLike[str]) -> list[Path]:
    """Write a build so that it can be used without its sources.

    Parameters
    ----------
    build : Build
        What is written.
    folder : path
        Created where it is not there; files in it of the same names are replaced.

    Returns
    -------
    list of Path
        The surface (LandXML), a table of its vertices with the shot behind each, and a recipe with the two as source.

    Raises
    ------
    DataError
        Where the folder cannot be written to, the recipe is in it under one of these names, or the surface has two
        heights at one place, as at a step that ``[[combine]]`` left.

    Examples
    --------
    >>> import tempfile
    >>> import evrin
    >>> from evrin.demo import small_site
    >>> build = evrin.Recipe.read(small_site()).build()
    >>> [path.name for path in build.freeze(tempfile.mkdtemp())]
    ['field-frozen.xml', 'field-frozen.csv', 'field-frozen.toml']
    """
    folder, recipe = Path(folder), build.path or Path("surface.toml")
    _check_single_heights(build.surface)
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise DataError(f"{folder}: cannot be created: {error.strerror}") from error
    stem = recipe.stem
    paths = [folder / f"{stem}-frozen.xml", folder / f"{stem}-frozen.csv", folder / f"{stem}-frozen.toml"]
    if recipe.resolve() in {path.resolve() for path in paths}:
        raise DataError(f"{recipe}: a frozen recipe would replace itself. Choose another folder")
    write(paths[0], build.surface)
    with whole_text_file(paths[1]) as stream:
        stream.write(trace_table(build.surface))
    with whole_text_file(paths[2]) as stream:
        stream.write(_recipe(build, recipe, build.text, paths))
    return paths


def _check_single_heights(surface: Surface) -> None:
    """Refuse a surface that a recipe could not hold: it would use the mean of two heights."""
    places, times = np.unique(surface.vertices[:, :2], axis=0, return_counts=True)
    if (times > 1).any():
        x, y = places[int(np.argmax(times > 1))].tolist()
        raise DataError(
            f"{surface.name}: two heights at {x:.3f}, {y:.3f}, at a step; a recipe holds one height at a place. State "
            "band in its [[combine]] table so that surfaces meet, or write the surface itself with build -o"
        )


def _recipe(build: Build, recipe: Path, text: str, paths: list[Path]) -> str:
    surface = build.surface
    total = build.tally.iloc[-1]
    items = ", ".join(f"{int(total[name]):,} {name.replace('_', ' ')}" for name in build.tally.columns[1:])
    open_count = len(build.open_findings)
    return "\n".join(
        [
            f"# {surface.name}, frozen: it needs none of the files it was built from.",
            f"# Built from {recipe.name} (digest {digest_of(text)[:12]}).",
            f"# Items: {items}.",
            f"# Findings: {len(build.findings)}, {open_count} open when it was frozen.",
            "",
            "[site]",
            f"name        = {toml_text(surface.name)}",
            f"description = {toml_text(surface.description)}",
            f"kind        = {toml_text(surface.kind)}",
            f"units       = {toml_text(surface.units)}",
            f"crs         = {toml_text(surface.crs)}",
            f"colour      = {toml_text(surface.colour)}",
            "",
            "[[source]]",
            f"name      = {toml_text(surface.name)}",
            f"file      = {toml_text(paths[0].name)}",
            'role      = "surface"',
            f"traced_by = {toml_text(paths[1].name)}",
            "",
        ]
    )
