"""A draft of any folder builds at once to the ground that its files hold, or reports what a person has to decide."""

import numpy as np
import pytest

from evrin import DataError, Recipe
from evrin.base.errors import EvrinError
from evrin.base.tolerances import METRES
from evrin.formats.door.reference_systems import transformed_places
from evrin.recipe.document.draft import draft
from folder_zoo import ASKS, EAST, FOLDERS, LOCAL, NORTH, truth

INSIDE = np.random.default_rng(2).uniform((4, 4), (96, 76), (60, 2))


def on_site(surface):
    """Places of the truth in the frame of a surface."""
    if surface.crs == "local":
        return (INSIDE + LOCAL[:2]) / METRES[surface.units]
    xyz = np.column_stack((INSIDE + (EAST, NORTH), np.zeros(len(INSIDE))))
    return transformed_places(xyz, "EPSG:25832", surface.crs)[:, :2]


def off_truth(surface):
    """How far a surface is from the truth, in metres, where it is; every place is missed where it is nowhere."""
    places = on_site(surface)
    if np.ptp(surface.vertices[:, 0]) < 2.0:
        places = places * (0.0, 1.0) + (4000.4, 0.0)
        away = surface.height(*places.T) - truth(0.4, INSIDE[:, 1])
        return np.nanmax(np.abs(away))
    if surface.crs == "local" and places[:, 0].max() > 1e5:
        raise AssertionError("the site is elsewhere")
    found = surface.height(*places.T) * METRES[surface.units]
    if np.isnan(found).all():
        xy = INSIDE + (EAST, NORTH)
        found = surface.height(*xy.T)
    away = np.abs(found - truth(*INSIDE.T))
    return np.inf if np.isnan(away).all() else np.nanmax(away)


@pytest.mark.slow
@pytest.mark.parametrize("name", FOLDERS)
def test_the_draft_of_a_folder_builds_to_its_ground_or_asks(tmp_path, name):
    folder = tmp_path / "received"
    folder.mkdir()
    FOLDERS[name](folder)
    try:
        made = draft([folder], tmp_path / "site.toml")
    except DataError as error:
        assert name in ASKS and "nothing here could go into a surface" in str(error)
        return
    (tmp_path / "site.toml").write_text(made.text, encoding="utf-8")
    if made.needs:
        assert name in ASKS
        with pytest.raises(EvrinError, match=r"ladder 1 → start: needed and missing"):
            Recipe.read(tmp_path / "site.toml")
        return
    build = Recipe.read(tmp_path / "site.toml").build()
    away = off_truth(build.surface)
    assert away < 0.4 or (name in ASKS and build.open_findings), (away, made.text)
    assert all(guess.why for guess in made.guesses)


def test_there_are_sixty_folders():
    assert len(FOLDERS) == 60
