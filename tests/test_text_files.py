"""Delimited text as crews send it: any order, delimiter and encoding; bad rows output by line."""

import itertools

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from evrin.base.errors import DataError
from evrin.formats import Claim, How, read
from evrin.formats.door.intake import take_in_lines
from evrin.surface import Frame

ROWS = [
    ("1", "2810.125", "4020.5", "41.25", "LAWN"),
    ("2A", "2811.5", "4022.75", "-0.5", "TOP1 ST"),
    ("3", "2899.0", "4100.001", "44", "edge of path"),
]
TRUE = np.array([[4020.5, 2810.125, 41.25], [4022.75, 2811.5, -0.5], [4100.001, 2899.0, 44.0]])


def read_points(path, columns=None):
    return read(path, How(columns)).points


def read_lines(path, columns=None, *, needs_height=True):
    return read(path, How(columns, as_lines=True, needs_height=needs_height))


def written(folder, text, name="day.csv", encoding="utf-8"):
    path = folder / name
    path.write_bytes(text.encode(encoding))
    return path


def rows_as(delimiter, order="PNEZD"):
    at = ["PNEZD".index(letter) for letter in order]
    return "\n".join(delimiter.join(row[k] for k in at) for row in ROWS) + "\n"


@pytest.mark.parametrize("order", ["".join(p) for p in itertools.permutations("PNEZ")])
@pytest.mark.parametrize("delimiter", [",", ";", "\t", "  "])
def test_any_order_of_columns_and_any_delimiter(tmp_path, order, delimiter):
    points = read_points(written(tmp_path, rows_as(delimiter, order + "D")), order + "D")
    assert np.array_equal(points.xyz, TRUE)
    assert points.shots.numbers.tolist() == ["1", "2A", "3"]
    assert points.shots.codes.tolist() == ["LAWN", "TOP1 ST", "edge of path"]
    assert points.shots.line_of.tolist() == [1, 2, 3]


@pytest.mark.parametrize(
    "header",
    ["Point,Northing,Easting,Elevation,Description", "no;North;EAST;Height;Code", "Pt No\tY\tX\tZ\tDesc"],
)
def test_a_header_names_the_columns(tmp_path, header):
    delimiter = next(d for d in "\t;," if d in header)
    points = read_points(written(tmp_path, "# from the field\n\n" + header + "\n" + rows_as(delimiter)))
    assert np.array_equal(points.xyz, TRUE)
    assert points.shots.line_of.tolist() == [4, 5, 6]
    assert "columns from the header" in points.notes[0]


def test_decimal_commas_are_understood_where_commas_do_not_separate(tmp_path):
    text = rows_as(";").replace(".", ",")
    points = read_points(written(tmp_path, text), "PNEZD")
    assert np.array_equal(points.xyz, TRUE) and "decimal comma" in points.notes


@pytest.mark.parametrize("encoding", ["utf-8", "utf-8-sig", "utf-16", "cp1252"])
def test_encodings_and_byte_order_marks(tmp_path, encoding):
    points = read_points(written(tmp_path, "1,5,6,7,höhe\n2,5,7,8,übergang\n", encoding=encoding), "PNEZD")
    assert points.shots.codes.tolist() == ["höhe", "übergang"]
    assert points.xyz.tolist() == [[6.0, 5.0, 7.0], [7.0, 5.0, 8.0]]


def test_the_last_column_takes_the_rest_of_the_row(tmp_path):
    points = read_points(written(tmp_path, "1,5,6,7,TREE, oak, 12 m\n2,5,7,8,\n3,5,8,9\n"), "PNEZD")
    assert points.shots.codes.tolist() == ["TREE, oak, 12 m", "", ""]
    assert len(points.xyz) == 3


def test_columns_can_be_ignored_and_quotation_marks_stripped(tmp_path):
    points = read_points(written(tmp_path, '"a",1.5,x,2.5,3.5\n"b",2.5,y,3.5,4.5\n'), "PX-YZ")
    assert points.xyz.tolist() == [[1.5, 2.5, 3.5], [2.5, 3.5, 4.5]]
    assert points.shots.numbers.tolist() == ["a", "b"]


BAD = [
    ("4,none,6,7,A", "northing 'none' is not a number"),
    ("5,5,,7,A", "no easting"),
    ("6,5,6,nan,A", "height 'nan' is not a finite number"),
    ("7,inf,6,7,A", "northing 'inf' is not a finite number"),
    ("8", "no easting among its 1 field"),
    ("9,5,6,1e15,A", "far too large to be a coordinate"),
    ("10,5,6,7 kg,A", "height '7 kg' is not a number"),
]


@pytest.mark.parametrize(("row", "reason"), BAD)
def test_a_bad_row_is_reported_by_line_and_the_rest_is_kept(tmp_path, row, reason):
    points = read_points(written(tmp_path, f"1,5,6,7,A\n{row}\n2,5,7,8,A\n"), "PNEZD")
    assert len(points.xyz) == 2
    (refusal,) = points.refused
    assert refusal.where == "day.csv line 2" and reason in refusal.reason


@given(st.lists(st.booleans(), min_size=2, max_size=30))
def test_every_row_is_either_a_point_or_refused(tmp_path_factory, good):
    text = "".join(f"{k},5,{k},7,A\n" if ok else f"{k},x,{k},7,A\n" for k, ok in enumerate(good))
    points = read_points(written(tmp_path_factory.mktemp("rows"), text), "PNEZD")
    assert points.shots.numbers.tolist() == [str(k) for k, ok in enumerate(good) if ok]
    assert [r.where for r in points.refused] == [f"day.csv line {k + 1}" for k, ok in enumerate(good) if not ok]


@pytest.mark.parametrize(
    ("text", "columns", "output"),
    [
        ("", "PNEZD", "the file is empty"),
        ("\n# only a comment\n", "PNEZD", "nothing but blank lines"),
        ("1,2,3,4\n", None, "no header row that names the columns"),
        ("Point,North,East\n1,2,3\n", None, "names no height"),
        ("1,2,3,4\n", "PNED", "names no height"),
        ("1,2,3,4\n", "PNEQ", "Q is not known"),
        ("1,2,3,4\n", "PNEEZ", "name easting more than once"),
        ("Point,North,East,Elev\n", None, "no row below it"),
        ("\x00\x01\x02", "PNEZD", "unrecognised format"),
    ],
)
def test_a_file_that_cannot_be_points_is_refused_with_the_reason(tmp_path, text, columns, output):
    with pytest.raises(DataError, match=output):
        read_points(written(tmp_path, text), columns)


def test_columns_of_another_meaning_are_attributes_to_choose_by(tmp_path):
    from evrin.recipe import Recipe

    rows = "".join(
        f"{x},{y},{41 + x / 10},{2 + (x > 2) * 3},{'wet' if y else 'dry'}\n" for x in range(5) for y in range(5)
    )
    path = written(tmp_path, "x,y,z,Class,STATUS\n" + rows)
    points = read_points(path)
    assert points.columns["class"].dtype == np.int64 and points.columns["STATUS"][0] == "dry"
    assert "attributes: Class, STATUS" in points.notes[0]
    table = (
        f'[[source]]\nfile = "{path.name}"\nrole = "cloud"\nkeep = {{ classes = [2], where = "STATUS == \'wet\'" }}\n'
    )
    (tmp_path / "site.toml").write_text(table)
    build = Recipe.read(tmp_path / "site.toml").build()
    assert len(build.surface.vertices) == 12 and build.tally["left_out"].iloc[0] == 13
    ply = "ply\nformat ascii 1.0\nelement vertex 25\n" + "".join(f"property double {axis}\n" for axis in "xyz")
    body = "".join(row.rsplit(",", 1)[0].replace(",", " ") + "\n" for row in rows.splitlines())
    (tmp_path / "c.ply").write_text(ply + "property uchar classification\nend_header\n" + body)
    assert np.array_equal(read(tmp_path / "c.ply").points.columns["class"], points.columns["class"])
    assert np.array_equal(read(tmp_path / "c.ply").points.xyz, points.xyz)


def test_a_missing_file_is_reported_as_missing(tmp_path):
    with pytest.raises(DataError, match="no such file"):
        read_points(tmp_path / "missing.csv", "PNEZD")


def test_line_vertices_join_by_name_in_order_and_close_where_they_close(tmp_path):
    text = (
        "line,x,y,z\nbank,0,0,1\nkerb,9,9,2\nbank,1,0,1\nring,0,0,5\nring,4,0,5\nring,4,4,5\nring,0,0,5\nkerb,9,8,2\n"
    )
    read = read_lines(written(tmp_path, text))
    assert [(line.name, len(line.xyz), line.closed) for line in read.lines] == [
        ("bank", 2, False),
        ("kerb", 2, False),
        ("ring", 3, True),
    ]
    assert sum(line.drawn for line in read.lines) == 8
    assert read.lines[1].shots.line_of.tolist() == [3, 9]
    assert read.lines[2].shots.span() == "day.csv lines 5 to 7"


def test_plan_lines_may_lack_heights_only_where_that_is_asked_for(tmp_path):
    path = written(tmp_path, "fence,1,2\nfence,3,4\n")
    read = read_lines(path, "LXY", needs_height=False)
    assert np.isnan(read.lines[0].xyz[:, 2]).all()
    with pytest.raises(DataError, match="names no height"):
        read_lines(path, "LXY")


def test_lines_come_from_geojson_by_content_whatever_the_extension(tmp_path):
    text = """{"type": "FeatureCollection", "features": [
      {"type": "Feature", "properties": {"name": "limit"}, "geometry":
        {"type": "Polygon", "coordinates": [[[0,0],[9,0],[9,9],[0,0]], [[1,1],[2,1],[2,2],[1,1]]]}},
      {"type": "Feature", "properties": null, "geometry": {"type": "LineString", "coordinates": [[0,0,5],[1,1,6]]}},
      {"type": "Feature", "properties": {}, "geometry": {"type": "GeometryCollection", "geometries": [
        {"type": "MultiPolygon", "coordinates": [[[[0,0],[5,0],[5,5],[0,0]]]]}]}}]}"""
    lines = read(written(tmp_path, text, "limits.txt")).lines
    assert [(line.name, line.closed, len(line.xyz)) for line in lines] == [
        ("limit", True, 3),
        ("limit", True, 3),
        ("limits 2", False, 2),
        ("limits 3", True, 3),
    ]
    assert lines[2].xyz[:, 2].tolist() == [5.0, 6.0]


@pytest.mark.parametrize(
    ("text", "output"),
    [
        ('{"type": "FeatureCollection", ', "line 1: not valid JSON"),
        ('{"kind": 1}', "no object with a type"),
        ('{"type": "FeatureCollection"}', "its features are not a list"),
        ('{"type": "FeatureCollection", "features": [7]}', "no feature in it that has a geometry"),
        ('{"type": "LineString", "coordinates": [[0, 1], 7]}', "not a list of numbers"),
        ('{"type": "Circle", "coordinates": [0, 1]}', "is a 'Circle', which is ignored"),
        ('{"type": "Polygon", "coordinates": [[[0, true], [1, 1]]]}', "not a list of numbers"),
        ('{"type": "LineString", "coordinates": [[1e999, 0], [1, 1]]}', "not finite"),
        ('{"type": "Point", "coordinates": [0, 0]}', "no line and no polygon"),
        ('{"type": "LineString", "coordinates": [[0, "a"], [1, 1]]}', "not a list of numbers"),
        ('{"type": "LineString", "coordinates": [[0, NaN], [1, 1]]}', "not finite"),
        ('{"a":' * 500_000, "nest deeper|not JSON"),
        ('{"type":' * 100_000 + "[" * 9000, "nest deeper|not JSON"),
    ],
)
def test_broken_geojson_is_refused_with_the_reason(tmp_path, text, output):
    with pytest.raises(DataError, match=output):
        take_in_lines(written(tmp_path, text, "a.geojson"), Frame(), Claim(crs="local"))
