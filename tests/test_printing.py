"""How results are output: counts in words, JSON without NaN, tables, pairs of pictures, progress on stderr."""

import json

import numpy as np
import pandas as pd
import pytest

import evrin
from evrin.analysis.contours.contour_lines import usual_index
from evrin.base.errors import DataError, RecipeError
from evrin.base.wording import counted
from evrin.check import Acceptance, Finding, rule
from evrin.cli.terminal import finding_record, place, print_answer, print_frame, progress
from evrin.draw import pair_sheet
from zoo import lattice


def test_counts_agree_with_their_nouns():
    assert [counted(n, "triangle") for n in (0, 1, 2, 12345)] == [
        "0 triangles",
        "1 triangle",
        "2 triangles",
        "12,345 triangles",
    ]
    assert str(RecipeError("a.toml", ["line 1: x"])) == "a.toml: 1 fault\n  line 1: x"


def test_json_has_null_for_what_is_not_a_number_and_plain_numbers_for_the_rest(capsys):
    print_answer([{"a": [np.float64(1.5), float("nan"), np.int32(3)]}], b={"c": (1, np.bool_(True))}, d=np.inf)
    output = json.loads(capsys.readouterr().out)
    assert output["rows"] == [{"a": [1.5, None, 3]}] and output["version"] == evrin.__version__
    assert output["b"] == {"c": [1, True]} and output["d"] is None


def test_tables_show_coordinates_without_separators_and_gaps_as_dashes(capsys):
    frame = pd.DataFrame({"easting": [652345.678, np.nan], "shots_used": [12345, 0], "code": ["LAWN", "[b]"]})
    print_frame(frame, "Title")
    output = capsys.readouterr().out
    assert "652345.678" in output and "12,345" in output and "–" in output and "shots used" in output


@pytest.mark.parametrize("text", ["", "1", "1,2,3", "a,b", "1;2"])
def test_a_place_is_two_numbers(text):
    assert place("-4.5, 7") == (-4.5, 7.0)
    with pytest.raises(DataError, match="is not a place"):
        place(text)


def test_progress_goes_to_stderr_only(capsys):
    with progress() as step:
        step("triangulate")
    caught = capsys.readouterr()
    assert caught.out == "" and "triangulate" in caught.err


def test_a_finding_is_open_until_it_is_accepted_or_only_a_note():
    found = Finding("height-spike", "error", (1.0, 2.0), "too high", ("shot 4",), "leave it out")
    assert found.is_open and not Finding("x", "note", None, "").is_open
    record = finding_record(3, found)
    assert record["number"] == 3 and (record["easting"], record["northing"]) == (1.0, 2.0) and record["open"]
    assert Acceptance("height-spike", (1.0, 2.0), 1.0, "a post").why == "a post"


def test_two_rules_cannot_share_a_code():
    with pytest.raises(ValueError, match="two rules are called 'height-spike'"):
        rule("height-spike", "the same again")(lambda evidence: iter(()))


def test_a_pair_of_pictures_has_one_scale_and_two_captions():
    ground = evrin.triangulate(np.column_stack((lattice(6), np.arange(36) % 4.0)))
    found = [Finding("height-spike", "error", (2.0, 2.0), "too high")]
    figure = pair_sheet([(ground, found, "raw"), (ground, [], "clean")], (0, 0, 5, 5), "Site", "both", ["units"])
    left, right = figure.axes[:2]
    assert left.get_xlim() == pytest.approx(right.get_xlim()) and left.get_ylim() == pytest.approx(right.get_ylim())
    assert (left.get_title(loc="left"), right.get_title(loc="left")) == ("raw", "clean")
    assert [text.get_text() for text in left.texts] == ["1"] and not right.texts


@pytest.mark.parametrize(
    ("interval", "index"), [(0.1, 0.5), (0.25, 1.0), (0.5, 2.5), (1, 5), (2, 10), (2.5, 10), (5, 25)]
)
def test_the_index_interval_is_a_round_number(interval, index):
    assert usual_index(interval) == pytest.approx(index)
