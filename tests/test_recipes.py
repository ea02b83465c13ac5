"""Recipes: faults output at once and by line, builds that add up, edits that keep the text."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import evrin
from evrin import DataError, Recipe, RecipeError
from evrin.recipe import RecipeDocument, checked_edit
from sites import BASE, FIELD, grid_field, lay_out

BOUNDARY = """
[[boundary]]
file = "limit.csv"
effect = "keep"
"""
LIMIT = "line,x,y\nlimit,4001,2801\nlimit,4019,2801\nlimit,4019,2819\nlimit,4001,2819\nlimit,4001,2801\n"
CODES = """
[field_codes]
start = "ST"
end = "END"
code = [{ match = "TOP", means = "line" }]
"""


def test_a_recipe_builds_and_every_vertex_knows_its_shot(tmp_path):
    stages = []
    build = Recipe.read(lay_out(tmp_path, CODES)).build(stages.append)
    ground = build.surface
    assert ground.name == "Test field" and len(ground.vertices) == 6
    output = {ground.provenance.describe(v) for v in range(6)}
    assert "shot 5, code TOP1 ST, day1.csv line 5" in output and len(output) == 6
    assert [name for name in stages if not name.startswith("read ")] == [stage.name for stage in build.stages]
    stages = [stage.name for stage in build.stages]
    assert stages == ["read", "triangulate", "check"]
    lines = {ground.lines[k].name for k in np.unique(ground.edge_lines) if k >= 0}
    assert lines == {"TOP1"} and ground.lines[0].where == "day1.csv lines 5 to 6"
    assert build.findings == []


def test_all_faults_are_reported_at_once_with_their_lines(tmp_path):
    extra = """
    colums = "P"
    [trimm]
    longest_edge = 5
    [[boundary]]
    file = "limit.csv"
    effect = "kep"
    [[edit]]
    do = "flip"
    at = [1.0]
    [check]
    height_tolerance = -1
    """
    with pytest.raises(RecipeError) as caught:
        Recipe.read(lay_out(tmp_path, extra))
    faults = caught.value.faults
    text = (tmp_path / "site.toml").read_text().splitlines()
    for part, word in (("colums", "'columns'"), ("trimm", "'trim'"), ("effect", "'keep' or 'cut'"), ("at", "")):
        (fault,) = [f for f in faults if f"{part}" in f.split(": ")[1].split(" → ")[-1].split()[0]]
        line = int(fault.split(":")[0].removeprefix("line "))
        assert part in text[line - 1] and word in fault
    assert any("height_tolerance" in f and "greater than or equal to 0" in f for f in faults)
    assert [int(f.split(":")[0].split()[1]) for f in faults] == sorted(int(f.split(":")[0].split()[1]) for f in faults)
    assert f"{len(faults)} faults" in str(caught.value)


def test_the_right_one_of_several_tables_is_named(tmp_path):
    extra = '\n[[source]]\nfile = "day1.csv"\nrole = "points"\n\n[[source]]\nfile = "day1.csv"\nrole = "lines"\n'
    with pytest.raises(
        RecipeError, match=r"line 17: source 3 → role: input should be 'points', 'breaklines', 'contours'"
    ):
        Recipe.read(lay_out(tmp_path, extra))


@pytest.mark.parametrize(
    ("base", "output"),
    [
        ("[[x", "not valid TOML"),
        ("[site]\nname = 'a'\n", "source: needed and missing"),
        ("source = []\n", "at least 1 item"),
        ('[[source]]\nfile = "missing.csv"\nrole = "points"\n', "line 2: source 1 → file: no file"),
        ('[[source]]\nfile = "day1.csv"\nrole = "points"\non = false\n', "every source is switched off"),
        ('[[source]]\nfile = "day1.csv"\nrole = "points"\n', "no header row"),
    ],
)
def test_a_recipe_that_cannot_build_gives_the_reason(tmp_path, base, output):
    with pytest.raises(evrin.EvrinError, match=output):
        Recipe.read(lay_out(tmp_path, base=base)).build()


def test_a_missing_recipe_is_reported_as_missing(tmp_path):
    with pytest.raises(DataError, match="no such file"):
        Recipe.read(tmp_path / "missing.toml")


def surface_bytes(path):
    ground = Recipe.read(path).build().surface
    return ground.vertices.tobytes() + ground.triangles.tobytes()


def test_switching_a_table_off_and_on_again_brings_back_the_same_surface(tmp_path):
    path = lay_out(tmp_path, CODES + BOUNDARY + "[trim]\nlongest_edge = 30.0\n", limit__csv=LIMIT)
    before = surface_bytes(path)
    for on in (False, True):
        document = RecipeDocument(path)
        document.switch("boundary", 1, on)
        document.save()
        assert (surface_bytes(path) == before) is on


def test_edits_to_a_recipe_keep_its_comments_and_order(tmp_path):
    path = lay_out(tmp_path, BOUNDARY, limit__csv=LIMIT)
    original = path.read_text()
    document = RecipeDocument(path)
    assert document.append("edit", do="flip", at=[4010.0, 2805.0], why="runs the other way") == 1
    assert document.append("edit", do="flip", at=[4011.0, 2806.0]) == 2
    document.switch("edit", 2, False)
    document.save()
    text = path.read_text()
    assert text.startswith(original.rstrip())
    assert [(row["table"], row["on"]) for row in RecipeDocument(path).rows()] == [
        ("source:1", True),
        ("boundary:1", True),
        ("edit:1", True),
        ("edit:2", False),
    ]
    document = RecipeDocument(path)
    document.drop("edit", 2)
    document.drop("edit", 1)
    document.save()
    assert path.read_text().strip() == original.strip()


def test_comments_between_tables_stay_where_they_are(tmp_path):
    extra = """
    [trim]
    longest_edge = 30.0

    # Why the first edit.
    [[edit]]
    do = "flip"
    at = [4010.0,
          2805.0]

    # Why the second edit.
    [[edit]]   # beside its head
    do = "flip"
    at = [4011.0, 2806.0]
    """
    path = lay_out(tmp_path, extra)
    original = path.read_text()
    document = RecipeDocument(path)
    document.switch("trim", None, False)
    document.put("trim", None, {"smallest_angle_deg": 2.0})
    assert document.text == original.replace("30.0\n", "30.0\non = false\nsmallest_angle_deg = 2.0\n")
    document.switch("trim", None, True)
    document.drop("edit", 1)
    assert "# Why the second edit.\n[[edit]]   # beside its head" in document.text and "4010.0" not in document.text
    assert "# Why the first edit." not in document.text and document.text.startswith("# The first comment.")
    document.drop("trim", None)
    assert "longest_edge" not in document.text and "# Why the second edit.\n[[edit]]" in document.text
    assert len(document.recipe().tables.edit) == 1
    document.drop("edit", 1)
    assert "edit]]" not in document.text and document.text.startswith(BASE)
    path.write_bytes(original.replace("\n", "\r\n").encode())
    document = RecipeDocument(path)
    document.drop("edit", 1)
    assert "4010.0" not in document.text and "# Why the second edit.\r\n[[edit]]" in document.text


@pytest.mark.parametrize(
    ("change", "output"),
    [
        (lambda d: d.switch("edit", 1, False), r"no \[\[edit\]\]"),
        (lambda d: d.switch("source", 2, False), "no source 2; they are numbered 1 to 1"),
        (lambda d: d.drop("trim", None), r"no \[trim\]"),
        (lambda d: d.switch("site", 1, False), r"there is one \[site\] only"),
        (lambda d: d.switch("source", None, False), "which source"),
        (lambda d: d.drop("trimm", 1), "'trimm' is not one of"),
    ],
)
def test_changes_to_tables_that_are_not_there_are_refused(tmp_path, change, output):
    document = RecipeDocument(lay_out(tmp_path))
    with pytest.raises(DataError, match=output):
        change(document)


def test_a_change_that_makes_a_recipe_faulty_leaves_the_file_as_it_was(tmp_path):
    path = lay_out(tmp_path)
    document = RecipeDocument(path)
    document.append("boundary", file="missing.csv", effect="keep")
    with pytest.raises(RecipeError, match="no file"):
        document.save()
    assert path.read_text() == BASE


def test_flips_are_applied_in_order_and_one_that_no_longer_fits_is_a_finding(tmp_path):
    field = "1,0,0,1,A\n2,0,4,1,A\n3,4,4.2,5,A\n4,4,0,1,A\n5,-9,2,1,A\n"
    plain = lay_out(tmp_path, field=field)
    before = Recipe.read(plain).build().surface
    edit = '\n[[edit]]\ndo = "flip"\nat = [2.0, 2.0]\n'
    flipped = Recipe.read(lay_out(tmp_path, edit, field=field)).build()
    assert flipped.surface.height(2.0, 2.0) != before.height(2.0, 2.0)
    assert flipped.open_findings == [] and np.array_equal(flipped.surface.vertices, before.vertices)
    back = Recipe.read(lay_out(tmp_path, edit + edit, field=field)).build().surface
    assert {frozenset(t) for t in back.triangles.tolist()} == {frozenset(t) for t in before.triangles.tolist()}
    unfit = Recipe.read(lay_out(tmp_path, edit.replace("2.0, 2.0", "99.0, 2.0"), field=field)).build()
    (finding,) = unfit.open_findings
    assert finding.code == "edit-does-not-fit" and "outside the surface" in finding.message
    preview = Recipe.read(plain).preview_edit(checked_edit({"do": "flip", "at": (2.0, 2.0)}))
    assert all(f"shot {number}," in preview.did for number in "1234")
    assert preview.keys["joins"] in ([[0.0, 0.0], [4.2, 4.0]], [[0.0, 4.0], [4.0, 0.0]])


@pytest.mark.parametrize(
    ("place", "reason"),
    [((2.0, 0.0), "on the rim"), ((1.6, 1.0), "not form a convex"), ((2.0, 3.99), "part of a breakline")],
)
def test_flips_that_cannot_be_are_refused_with_the_reason(tmp_path, place, reason):
    field = "1,0,0,1,A\n2,0,6,1,A\n3,2,3,2,A\n4,9,3,1,A\n5,4,0,1,TOP1\n6,4,6,1,TOP1\n"
    edit = f'\n[[edit]]\ndo = "flip"\nat = [{place[0]}, {place[1]}]\n'
    codes = '[field_codes]\ncode = [{ match = "TOP", means = "line" }]\n'
    build = Recipe.read(lay_out(tmp_path, edit + codes, field=field)).build()
    (finding,) = [f for f in build.findings if f.code == "edit-does-not-fit"]
    assert reason in finding.message


selections = st.sampled_from(['codes = ["GR*"]', 'numbers = ["1*"]', 'codes = ["NONE"]', 'numbers = ["2", "30"]'])


@pytest.mark.slow
@given(
    leave_out=st.none() | selections,
    copies=st.integers(0, 5),
    bad=st.integers(0, 3),
    ring=st.booleans(),
    longest=st.none() | st.floats(6.0, 30.0),
    line=st.booleans(),
)
def test_every_item_read_is_in_exactly_one_column_of_the_tally(
    tmp_path_factory, leave_out, copies, bad, ring, longest, line
):
    folder = tmp_path_factory.mktemp("tally")
    rows = grid_field().splitlines(keepends=True)
    field = "".join(rows + rows[:copies]) + "x,y\n" * bad
    extra = f"leave_out = {{ {leave_out} }}\n" if leave_out and leave_out != 'codes = ["GR*"]' else ""
    files = {"limit__csv": LIMIT, "wall__csv": "line,x,y,z\nW,4002,2803,41\nW,4020,2818,41.2\nW,4002,2803,41\nQ,1,1\n"}
    if ring:
        extra += BOUNDARY
    if longest:
        extra += f"[trim]\nlongest_edge = {longest}\n"
    if line:
        extra += '[[source]]\nfile = "wall.csv"\nrole = "breaklines"\n'
    build = Recipe.read(lay_out(folder, extra, field=field, **files)).build()
    tally = build.tally.set_index("source")
    columns = [name for name in tally.columns if name not in ("source", "read")]
    assert (tally[columns].sum(axis=1) == tally["read"]).all()
    assert tally.loc["day 1", "read"] == 36 + copies + bad
    assert tally.loc["all", "used"] <= len(build.surface.vertices)
    assert (tally.drop("all").sum() == tally.loc["all"]).all()
    shots = build.surface.provenance.shot_of
    assert tally.loc["all", "used"] == len(set(shots[shots >= 0].tolist()))


def test_the_order_of_rows_and_sources_does_not_matter_to_the_surface(tmp_path):
    rows = grid_field().splitlines(keepends=True)
    one = surface_bytes(lay_out(tmp_path, field="".join(rows)))
    assert surface_bytes(lay_out(tmp_path, field="".join(rows[::-1]))) == one
    extra = '[[source]]\nfile = "more.csv"\nrole = "points"\ncolumns = "PNEZD"\n'
    split = lay_out(tmp_path, extra, field="".join(rows[20:]), more__csv="".join(rows[:20]))
    assert surface_bytes(split) == one


def test_lines_from_a_file_take_heights_of_their_own_or_from_the_shots(tmp_path):
    own = '[[source]]\nfile = "kerb.csv"\nrole = "breaklines"\n'
    kerb = "line,x,y,z\nkerb,4000,2800,99\nkerb,4010.3,2810,99\n"
    shots = own + 'heights = "shots"\nreach = 0.5\n'
    high = Recipe.read(lay_out(tmp_path, own, kerb__csv=kerb)).build()
    assert high.surface.vertices[:, 2].max() == 99.0
    low = Recipe.read(lay_out(tmp_path, shots, kerb__csv=kerb)).build()
    assert low.surface.vertices[:, 2].max() == 42.0 and len(low.surface.vertices) == 6
    assert (low.surface.edge_lines >= 0).any()
    assert low.tally.set_index("source").loc["kerb.csv", "merged"] == 2
    with pytest.raises(DataError, match='State heights = "shots"'):
        Recipe.read(
            lay_out(
                tmp_path,
                own.replace("csv", "geojson") + 'crs = "local"\n',
                kerb__geojson='{"type":"LineString","coordinates":[[0,0],[1,1]]}',
            )
        ).build()


def test_what_the_reader_guessed_is_reported_with_the_read_stage(tmp_path):
    field = "number;y;x;z\n" + FIELD.replace(",", ";").replace(".", ",").replace(";LAWN", "").replace(";TOP1", "")
    base = BASE.replace('columns = "PNEZD"\n', "")
    build = Recipe.read(lay_out(tmp_path, field=field.replace(" ST", "").replace(" END", ""), base=base)).build()
    assert "day 1: columns from the header: number, northing, easting, height" in build.stages[0].did
    assert "day 1: decimal comma" in build.stages[0].did and len(build.surface.vertices) == 6


def test_boundaries_cut_whole_triangles_where_asked(tmp_path):
    crisp = Recipe.read(lay_out(tmp_path, BOUNDARY, limit__csv=LIMIT)).build().surface
    whole = Recipe.read(lay_out(tmp_path, BOUNDARY + '[carve]\nedges = "whole"\n', limit__csv=LIMIT)).build().surface
    assert crisp.plan_area == pytest.approx(18.0**2) and whole.plan_area == 20.0**2
    assert len(whole.vertices) == 6 < len(crisp.vertices)


def test_a_boundary_with_a_bad_vertex_is_refused_rather_than_cut_elsewhere(tmp_path):
    with pytest.raises(DataError, match=r"limit\.csv line 3: easting 'x' is not a number\. A line with a vertex"):
        Recipe.read(lay_out(tmp_path, BOUNDARY, limit__csv="line,x,y\nl,0,0\nl,x,9\nl,9,9\n")).build()


def test_field_of_the_tests_is_what_it_seems():
    assert FIELD.count("\n") == 6 and grid_field().count("\n") == 36
