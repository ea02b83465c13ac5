"""Field codes, selections, and lines that take their heights from shots."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from evrin.surface import Shots
from evrin.survey import CodeRule, CodeTable, Line, Points, Selection, coded_lines, heights_from_shots

RULES = (("TOP", "line"), ("TRK*", "line"), ("CTRL*", "leave out"), ("*", "spot"))
TABLE = CodeTable(tuple(CodeRule(*rule) for rule in RULES), "ST", "END", "CLOSE", "ARC", "CURVE")


def shots_of(codes, numbers=None):
    count = len(codes)
    numbers = np.array(numbers or [str(k + 1) for k in range(count)], object)
    return Shots.of_file("day1.csv", np.arange(1, count + 1), numbers, np.array(codes, object))


def points_of(codes):
    return Points(np.arange(3.0 * len(codes)).reshape(-1, 3), shots_of(codes))


def lines_of(*codes):
    stays, lines = coded_lines(points_of(list(codes)), TABLE)
    return stays.tolist(), [(line.name, tuple(line.rows.tolist()), line.closed) for line in lines]


def test_shots_of_one_code_and_string_join_in_order_whatever_comes_between():
    stays, lines = lines_of("TOP1", "LAWN", "TOP2", "TOP1", "CTRL7", "TOP2", "TOP1")
    assert stays == [True, True, True, True, False, True, True]
    assert lines == [("TOP1", (0, 3, 6), False), ("TOP2", (2, 5), False)]


def test_marks_start_end_and_close():
    _, lines = lines_of("TRKL1 ST", "TRKL1", "TRKL1 END", "TRKL1", "TRKL1 CLOSE", "TRKL1 ST", "TRKL1", "TRKL1 CLOSE")
    assert lines == [
        ("TRKL1", (0, 1, 2), False),
        ("TRKL1 (2)", (3, 4), False),  # two shots cannot close
        ("TRKL1 (3)", (5, 6, 7), True),
    ]


def test_a_start_mark_begins_anew_though_nothing_ended_the_last():
    _, lines = lines_of("TOP ST", "TOP", "TOP ST", "TOP", "TOP")
    assert [rows for _, rows, _ in lines] == [(0, 1), (2, 3, 4)]


def test_a_lone_shot_and_an_empty_code_lose_nothing():
    stays, lines = lines_of("", "TOP9", "  ")
    assert stays == [True, True, True] and lines == [("TOP9", (1,), False)]


@given(st.lists(st.sampled_from(["TOP1", "TOP2 ST", "TOP2", "TOP1 END", "TOP2 CLOSE", "LAWN"]), max_size=30))
def test_every_line_shot_is_in_exactly_one_line(codes):
    points = points_of(codes) if codes else points_of(["LAWN"])
    _, lines = coded_lines(points, TABLE)
    joined = sorted(row for line in lines for row in line.rows.tolist())
    assert joined == [row for row, code in enumerate(points.shots.codes) if code.startswith("TOP")]
    assert len({line.name for line in lines}) == len(lines)


def test_selections_match_codes_and_numbers_by_pattern():
    points = Points(np.zeros((4, 3)), shots_of(["LAWN", "CTRL1", "CTRL2", "TOP1 ST"], ["7", "8", "90", "91"]))
    assert Selection(codes=("CTRL*",)).any_met(points).tolist() == [False, True, True, False]
    assert Selection(numbers=("9?", "7")).all_met(points).tolist() == [True, False, True, True]
    both = Selection(("LAWN", "TOP*"), ("91",))
    assert both.any_met(points).tolist() == [True, False, False, True]
    assert both.all_met(points).tolist() == [False, False, False, True]
    assert Selection().all_met(points).all() and not Selection().any_met(points).any()


def line_through(*places, closed=False):
    xyz = np.array([[x, y, np.nan] for x, y in places], float)
    return Line("fence", xyz, shots_of(["fence"] * len(places)), closed)


def fitted(line, xyz, reach=0.5):
    points = Points(np.array(xyz, float), shots_of(["F"] * len(xyz)))
    return heights_from_shots(line.xyz, line.closed, points.xyz, reach)


def test_a_plan_line_takes_the_places_and_heights_of_the_shots_it_passes():
    found = fitted(line_through((0, 0), (10, 0), (10, 10)), [[10.1, 0.2, 7], [4, 0.3, 5], [0.1, 0, 4], [5, 5, 9]])
    assert found.xyz[:3].tolist() == [[0.1, 0.0, 4.0], [4.0, 0.3, 5.0], [10.1, 0.2, 7.0]]
    assert found.xyz[3, :2].tolist() == [10.0, 10.0] and np.isnan(found.xyz[3, 2])
    assert found.drawn_as.tolist() == [-1, -1, -1, 2]
    assert found.replaced_by.tolist() == [2, 0, -1]


def test_a_closed_plan_line_is_followed_all_round_and_no_shot_taken_twice():
    ring = line_through((0, 0), (10, 0), (10, 10), (0, 10), closed=True)
    found = fitted(ring, [[0, 0, 1], [0, 5, 2], [10, 0, 3], [5, 10.2, 4]])
    assert found.xyz[:, 2].tolist()[:2] == [1.0, 3.0] and found.xyz[-1].tolist() == [0.0, 5.0, 2.0]
    # Bends between two shots lie on the line between them, by the distance along it.
    assert (
        np.abs(found.xyz[[2, 4], 2] - [3 + 10 / 15.001333, 4 - 2 * 5.003998 / 10.003998]).max() < 1e-3
        and len(found.xyz) == 6
    )


@pytest.mark.parametrize("reach", [0.01, 0.5])
def test_a_line_with_no_shot_within_reach_stays_as_drawn(reach):
    found = fitted(line_through((0, 0), (10, 0)), [[5, 3, 1], [20, 0, 1]], reach)
    assert found.xyz[:, :2].tolist() == [[0.0, 0.0], [10.0, 0.0]] and np.isnan(found.xyz[:, 2]).all()


def test_a_shot_is_named_as_the_crew_knows_it():
    shots = shots_of(["LAWN", ""], ["264", ""])
    assert shots.describe(0) == "shot 264, code LAWN, day1.csv line 1"
    assert shots.describe(1) == "day1.csv line 2"
    joined = Shots.joined([shots, shots])
    assert joined.files == ("day1.csv",) and len(joined) == 4
    assert joined.take(np.array([2])).span() == "day1.csv line 1"


def test_a_shot_can_be_in_several_lines_and_what_follows_is_left_alone():
    _, lines = lines_of("TOP1 ST", "TOP1 END TRKL2 ST 0.5 left", "TRKL2", "TRKL2 END")
    assert lines == [("TOP1", (0, 1), False), ("TRKL2", (1, 2, 3), False)]


def curved(codes, places, rules=(CodeRule("KERB", "line"), CodeRule("EDGE", "line", "smooth"))):
    table = CodeTable(rules, "ST", "END", "CLOSE", "ARC", "CURVE")
    return coded_lines(Points(np.array(places, float), shots_of(codes)), table, 0.01)[1]


def test_an_arc_runs_through_its_marked_shot_and_straight_legs_stay():
    places = [(-20, 0, 1), (-10, 0, 1), (0, 10, 2), (10, 0, 3), (20, 0, 3)]
    (line,) = curved(["KERB1 ST", "KERB1", "KERB1 ARC", "KERB1", "KERB1 END"], places)
    assert line.rows.tolist() == [0, 1, 2, 3, 4]
    assert line.own_row[line.own_row >= 0].tolist() == [0, 1, 2, 3, 4]
    assert (line.xyz[line.own_row >= 0] == np.array(places)).all()
    bend = line.xyz[(np.abs(line.xyz[:, 0]) < 9.999)]
    assert np.allclose(np.hypot(*bend[:, :2].T), 10.0) and len(bend) > 15
    assert line.xyz[1].tolist() == [-10, 0, 1]  # nothing between the first two


def test_smooth_lines_pass_every_shot_by_mark_or_by_rule():
    places = [(0, 0, 1), (5, 3, 2), (10, 0, 3), (15, -3, 2)]
    (by_rule,) = curved(["EDGE1", "EDGE1", "EDGE1", "EDGE1"], places)
    (by_mark,) = curved(["KERB1 CURVE", "KERB1 CURVE", "KERB1 CURVE", "KERB1 CURVE"], places)
    assert by_rule.xyz.tolist() == by_mark.xyz.tolist() and len(by_rule.xyz) > 10
    (partly,) = curved(["KERB1", "KERB1", "KERB1 CURVE", "KERB1 CURVE"], places)
    assert partly.xyz.tolist() == [list(map(float, place)) for place in places]
    (ring,) = curved(
        ["KERB1 ST", "KERB1", "KERB1 ARC", "KERB1 CLOSE"], [(0, 0, 1), (10, 0, 1), (15, 5, 1), (10, 10, 1)]
    )
    assert ring.closed and ring.own_row.tolist().count(0) == 1 and len(ring.xyz) > 10


def test_boundaries_by_code_and_a_code_book_of_the_practice_work_in_a_recipe(tmp_path):
    from evrin.recipe import Recipe

    (tmp_path / "codes.toml").write_text(
        'start = "ST"\nend = "END"\nclose = "CL"\narc = "ARC"\n'
        'code = [\n  { match = "LIM", means = "boundary" },\n  { match = "TOP", means = "line" },\n]\n'
    )
    field = "1,0,0,40,LIM1 ST\n2,0,40,40,LIM1\n3,40,40,41,LIM1\n4,40,0,41,LIM1 CL\n"
    field += "5,5,5,42,TOP1 ST\n6,15,15,42,TOP1 ARC\n7,5,25,42,TOP1 END\n8,80,80,43,SPOT\n"
    (tmp_path / "day1.csv").write_text(field)
    (tmp_path / "site.toml").write_text(
        '[[source]]\nfile = "day1.csv"\nrole = "points"\ncolumns = "PNEZD"\n'
        '[field_codes]\nfile = "codes.toml"\nchord = 0.1\n'
    )
    build = Recipe.read(tmp_path / "site.toml").build()
    assert build.surface.plan_area == pytest.approx(1600.0) and [ring.name for ring in build.rings] == ["LIM1"]
    (top,) = (line for line in build.surface.lines if line.name == "TOP1")
    assert len(top.points) > 5 and build.surface.height(15.0, 15.0) == 42.0
    tally = build.tally.iloc[0]
    assert tally["read"] == 8 and tally["outside"] == 1 and tally["used"] == 7
    (tmp_path / "codes.toml").write_text('begin = "ST"\n')
    from evrin.base.errors import RecipeError

    with pytest.raises(RecipeError, match=r"codes.toml: 1 fault\n  line 1: begin: no such key"):
        Recipe.read(tmp_path / "site.toml").build()
