"""Tables whose headings name several columns that could hold one coordinate: which is taken, and that it is said."""

import numpy as np
import pytest

from evrin.base.errors import DataError
from evrin.formats import look
from evrin.recipe import Recipe
from evrin.survey import inventory

EAST, NORTH, HEIGHT = 412_000.0, 5_502_000.0, 50.0
ELLIPSOIDAL = HEIGHT + 45.2


def written(folder, header, row):
    """Write a table of five rows that go up by a metre each way, and return it."""
    rows = [[str(value + k) if isinstance(value, float) else f"{value}{k}" for value in row] for k in range(5)]
    lines = [",".join(each) for each in (header, *rows)]
    path = folder / "shots.csv"
    path.write_text("\n".join(lines) + "\n")
    return path


# The heading of each column with what it holds in the first row, and what is taken: in metres, and whether it is asked.
TABLES = {
    "feet first": ([("E", EAST), ("N", NORTH), ("Elevation (ft)", HEIGHT / 0.3048), ("Elevation (m)", HEIGHT)], True),
    "metres first": ([("E", EAST), ("N", NORTH), ("Elevation (m)", HEIGHT), ("Elevation (ft)", HEIGHT / 0.3048)], True),
    "ellipsoidal": (
        [("E", EAST), ("N", NORTH), ("Ellipsoidal Height", ELLIPSOIDAL), ("Orthometric Height", HEIGHT)],
        True,
    ),
    "geodetic": ([("N", NORTH), ("E", EAST), ("Ortho Height", HEIGHT), ("Ell Height", ELLIPSOIDAL)], True),
    "geocentric": (
        [("X", 3.99e6), ("Y", 5.4e5), ("Z", 4.93e6), ("Easting", EAST), ("Northing", NORTH), ("Elevation", HEIGHT)],
        False,
    ),
    "degrees too": (
        [("Latitude", 49.6), ("Longitude", 7.7), ("Easting", EAST), ("Northing", NORTH), ("Elev", HEIGHT)],
        False,
    ),
    "twice the same": ([("X", EAST), ("Y", NORTH), ("Z", HEIGHT), ("Height", HEIGHT)], False),
    "two levels": ([("Easting", EAST), ("Northing", NORTH), ("RL", HEIGHT), ("Level", HEIGHT + 3.0)], True),
    "X and Y beside others": (
        [("X", 12.0), ("Y", 30.0), ("Easting", EAST), ("Northing", NORTH), ("Height", HEIGHT)],
        True,
    ),
    "Y before X, by size": ([("Punkt", "A"), ("Y", EAST), ("X", NORTH), ("Höhe", HEIGHT)], False),
    "northings called X": ([("X", NORTH), ("Y", EAST), ("Z", HEIGHT)], None),
}


@pytest.mark.parametrize("name", TABLES)
def test_the_column_that_is_meant_is_taken_and_a_choice_is_reported(name, tmp_path):
    columns, is_asked = TABLES[name]
    path = written(tmp_path, *zip(*columns, strict=True))
    contents = look(path)
    if is_asked is None:
        assert contents.points.xyz[0].tolist() == [NORTH, EAST, HEIGHT]
        assert "the other way round" in inventory(contents).looks_wrong[0]
        return
    assert np.abs(contents.points.xyz[0] - [EAST, NORTH, HEIGHT]).max() < 1e-9 and contents.stated.units != "degrees"
    assert contents.stated.height_units in ("", "m")
    asked = [text for text in inventory(contents).looks_wrong if "could be meant" in text]
    # The second row of feet is a foot higher, that of metres a metre, so the two do differ here.
    assert bool(asked) == is_asked


def test_columns_that_are_stated_settle_it_for_inspect_and_for_a_build(tmp_path):
    columns = [("E", EAST), ("N", NORTH), ("Ellipsoidal Height", ELLIPSOIDAL), ("Orthometric Height", HEIGHT)]
    path = written(tmp_path, *zip(*columns, strict=True))
    with path.open("a") as stream:
        stream.write(f"{EAST + 40},{NORTH},{ELLIPSOIDAL},{HEIGHT}\n")
    (doubt,) = inventory(look(path)).looks_wrong
    assert 'State columns = "EN-Z" to keep this, columns = "ENZ-" for the other' in doubt and "45.200 higher" in doubt
    assert inventory(look(path, "EN-Z")).looks_wrong == []
    recipe = '[site]\nunits = "m"\n[[source]]\nfile = "shots.csv"\nrole = "points"\n'
    for stated, height, is_reported in (("", HEIGHT, True), ('columns = "ENZ-"\n', ELLIPSOIDAL, False)):
        (tmp_path / "site.toml").write_text(recipe + stated)
        build = Recipe.read(tmp_path / "site.toml").build()
        assert build.surface.vertices[:, 2].min() == height
        assert ("columns-doubtful" in {finding.code for finding in build.findings}) == is_reported


def test_geocentric_coordinates_are_refused_and_degrees_that_are_none_are_reported(tmp_path):
    path = written(tmp_path, ("X", "Y", "Z"), (3.99e6, 5.4e5, 4.93e6))
    assert any("geocentric" in text for text in inventory(look(path)).looks_wrong)
    (tmp_path / "site.toml").write_text('[site]\n[[source]]\nfile = "shots.csv"\nrole = "points"\n')
    with pytest.raises(DataError, match="geocentric"):
        Recipe.read(tmp_path / "site.toml").build()
    degrees = written(tmp_path, ("longitude", "latitude", "height"), (EAST, NORTH, HEIGHT))
    assert any("plane system" in text for text in inventory(look(degrees)).looks_wrong)
