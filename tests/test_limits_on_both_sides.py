"""Lengths that decide something are those of the site: just below one and just above it, in metres and in feet."""

import ezdxf
import numpy as np
import pytest

from evrin import Recipe
from evrin.base.tolerances import METRES
from evrin.check import fix_tables
from sites import lay_out

UNITS = ("m", "ft", "ftUS")
SIDE = 9


def field_in(units, changed=(), further=()):
    """A lattice of shots 5 m apart on gentle ground, some at heights of their own, as a field book in another unit."""
    k = np.arange(SIDE * SIDE)
    x, y = 4000.0 + 5.0 * (k % SIDE) + 0.13 * (k % 4), 2800.0 + 5.0 * (k // SIDE) + 0.07 * (k % 3)
    z = 40.0 + 0.01 * (x - 4000.0) + 0.003 * ((7 * k) % 5)
    for row, by in changed:
        z[row] += by
    rows = [*zip(x.tolist(), y.tolist(), z.tolist(), strict=True), *further]
    factor = 1.0 / METRES[units]
    return "".join(
        f"{n},{y * factor:.6f},{x * factor:.6f},{z * factor:.6f},GL\n" for n, (x, y, z) in enumerate(rows, 1)
    )


def built(folder, units, field, extra="", **files):
    base = f'[site]\nunits = "{units}"\n[[source]]\nfile = "day1.csv"\nrole = "points"\ncolumns = "PNEZD"\n'
    path = lay_out(folder, extra, field=field, base=base, **files)
    return path, Recipe.read(path).build()


def of_code(build, code):
    return [finding for finding in build.findings if finding.code == code]


MIDDLE = SIDE * SIDE // 2
AT = (4000.0 + 5.0 * (MIDDLE % SIDE) + 0.13 * (MIDDLE % 4), 2800.0 + 5.0 * (MIDDLE // SIDE) + 0.07 * (MIDDLE % 3))


@pytest.mark.parametrize("units", UNITS)
@pytest.mark.parametrize(("by", "is_bust"), [(0.45, False), (0.56, True), (-0.45, False), (-0.56, True)])
def test_a_spike_is_half_a_metre_or_more_whatever_the_unit(tmp_path, units, by, is_bust):
    _, build = built(tmp_path, units, field_in(units, [(MIDDLE, by)]), "[busts]\n")
    assert build.tally["left_out"].iloc[-1] == is_bust
    _, raw = built(tmp_path, units, field_in(units, [(MIDDLE, by)]))
    found = of_code(raw, "height-spike")
    assert len(found) == is_bust
    if is_bust:
        assert f"{units} {'above' if by > 0 else 'below'} the ground" in found[0].message
        assert found[0].place == pytest.approx((AT[0] / METRES[units], AT[1] / METRES[units]))
        assert [shot.split(",")[0] for shot in found[0].shots] == [f"shot {MIDDLE + 1}"]


@pytest.mark.parametrize("units", UNITS)
@pytest.mark.parametrize(
    ("away", "off", "severity"), [(0.022, 0.1, ""), (0.018, 0.015, "note"), (0.018, 0.025, "warning")]
)
def test_shots_are_at_one_place_within_two_centimetres_whatever_the_unit(tmp_path, units, away, off, severity):
    ground = 40.0 + 0.01 * (AT[0] - 4000.0) + 0.003 * ((7 * MIDDLE) % 5)
    field = field_in(units, further=[(AT[0] + away, AT[1], ground + off)])
    path, build = built(tmp_path, units, field)
    assert [finding.severity for finding in of_code(build, "close-shots")] == [severity] * bool(severity)
    if severity == "warning":
        path.write_text(path.read_text() + "\n" + fix_tables(build.findings))
        healed = Recipe.read(path).build()
        assert healed.open_findings == [] and len(healed.surface.vertices) == SIDE * SIDE
        height = float(healed.surface.height(AT[0] / METRES[units], AT[1] / METRES[units])) * METRES[units]
        assert min(abs(height - ground), abs(height - ground - off)) < 1e-3


@pytest.mark.parametrize("units", UNITS)
@pytest.mark.parametrize(("off", "severity"), [(0.015, "note"), (0.025, "warning")])
def test_heights_at_one_place_agree_within_two_centimetres_whatever_the_unit(tmp_path, units, off, severity):
    ground = 40.0 + 0.01 * (AT[0] - 4000.0) + 0.003 * ((7 * MIDDLE) % 5)
    field = field_in(units, further=[(*AT, ground + off)])
    path, build = built(tmp_path, units, field)
    (found,) = of_code(build, "unlike-heights")
    assert found.severity == severity and {s.split(",")[0] for s in found.shots} == {
        f"shot {MIDDLE + 1}",
        f"shot {SIDE * SIDE + 1}",
    }
    path.write_text(path.read_text() + "\n" + found.snippet)
    healed = Recipe.read(path).build()
    # Of the two, the first is still there.
    assert not of_code(healed, "unlike-heights") and healed.tally["left_out"].iloc[-1] == 1
    height = float(healed.surface.height(AT[0] / METRES[units], AT[1] / METRES[units])) * METRES[units]
    assert height == pytest.approx(ground, abs=1e-4)


@pytest.mark.parametrize("units", UNITS)
@pytest.mark.parametrize("depth", [0.19, 0.21])
def test_a_hollow_is_two_decimetres_deep_whatever_the_unit(tmp_path, units, depth):
    heights = np.array([float(row.split(",")[3]) for row in field_in("m").split()])
    inner = [MIDDLE + SIDE * j + i for j in (-1, 0, 1) for i in (-1, 0, 1)]
    around = [MIDDLE + SIDE * j + i for j in range(-2, 3) for i in range(-2, 3) if max(abs(i), abs(j)) == 2]
    # The floor is so far below the lowest place of the rim, where it spills.
    lowered = depth + heights[inner].min() - heights[around].min()
    _, build = built(tmp_path, units, field_in(units, [(row, -lowered) for row in inner]))
    assert len(of_code(build, "hollow")) == (depth > 0.2)


@pytest.mark.parametrize("units", UNITS)
@pytest.mark.parametrize(("apart", "is_found"), [(0.015, False), (0.025, True)])
def test_lines_that_cross_agree_within_two_centimetres_whatever_the_unit(tmp_path, units, apart, is_found):
    scale = 1.0 / METRES[units]
    rows = [("A", 4003.0, 2811.0, 40.5), ("A", 4031.0, 2811.0, 40.5), ("B", 4017.0, 2803.0, 40.5 + apart)]
    rows.append(("B", 4017.0, 2831.0, 40.5 + apart))
    lines = "line,x,y,z\n" + "".join(f"{n},{x * scale!r},{y * scale!r},{z * scale!r}\n" for n, x, y, z in rows)
    source = '[[source]]\nfile = "l.csv"\nrole = "breaklines"\n'
    _, build = built(tmp_path, units, field_in(units), source, l__csv=lines)
    found = of_code(build, "crossing-breaklines")
    assert len(found) == is_found
    if is_found:
        first, second = (f"{z * scale:.3f}" for z in (40.5, 40.5 + apart))
        either = (f"A at {first} crosses B at {second}", f"B at {second} crosses A at {first}")
        assert found[0].message.startswith(either)


@pytest.mark.parametrize("units", UNITS)
def test_an_acceptance_is_of_its_place_within_a_metre_whatever_the_unit(tmp_path, units):
    field = field_in(units, [(MIDDLE, 1.0), (MIDDLE + 3, 1.0)])
    _, build = built(tmp_path, units, field)
    assert len(of_code(build, "height-spike")) == 2
    x, y = (AT[0] / METRES[units], AT[1] / METRES[units])
    off = 1.0 / METRES[units]
    for place, accepted in ((f"at = [{x + 0.9 * off}, {y}]\n", 1), (f"at = [{x + 1.1 * off}, {y}]\n", 0), ("", 0)):
        _, build = built(tmp_path, units, field, f'[[accept]]\nfinding = "height-spike"\n{place}why = "a post"\n')
        found = of_code(build, "height-spike")
        assert [f.accepted for f in found].count("a post") == accepted and len(found) == 2
        assert len(of_code(build, "unmet-acceptance")) == 1 - accepted


HOLE = [(4012.0, 2812.0), (4024.0, 2812.0), (4024.0, 2824.0), (4012.0, 2824.0)]


def ring(name, west, south, east, north):
    corners = ((west, south), (east, south), (east, north), (west, north), (west, south))
    return "".join(f"{name},{x},{y}\n" for x, y in corners)


def test_a_coded_hole_stays_a_hole_in_every_limit_of_a_file(tmp_path):
    shots = "".join(
        f"{200 + k},{y},{x},40.1,HOLE{' ST' * (k == 0)}{' CL' * (k == 3)}\n" for k, (x, y) in enumerate(HOLE)
    )
    halves = {"w.csv": ring("w", 4002, 2802, 4010, 2836), "e.csv": ring("e", 4010, 2802, 4036, 2836)}
    tables = "".join(f'[[boundary]]\nfile = "{name}"\neffect = "keep"\n' for name in halves) + (
        '[field_codes]\nstart = "ST"\nclose = "CL"\ncode = [{ match = "HOLE", means = "hole" }]\n'
    )
    files = {name.replace(".", "__"): "line,x,y\n" + text for name, text in halves.items()}
    _, build = built(tmp_path, "m", field_in("m") + shots, tables, **files)
    assert build.surface.plan_area == pytest.approx(34.0 * 34.0 - 144.0)
    assert np.isnan(float(build.surface.height(4018.0, 2818.0)))


@pytest.mark.parametrize("units", UNITS)
@pytest.mark.parametrize(("height", "is_unset"), [(0.45, True), (0.55, False), (-0.45, True)])
def test_a_height_within_half_a_metre_of_zero_was_never_set_whatever_the_unit(tmp_path, units, height, is_unset):
    field = field_in(units, further=[(4017.0, 2813.0, height), (4023.0, 2822.0, height + 0.01)])
    _, build = built(tmp_path, units, field, '[busts]\nleave_out = ["zero"]\n')
    assert build.tally["left_out"].iloc[-1] == 2 * is_unset


@pytest.mark.parametrize("units", UNITS)
@pytest.mark.parametrize(("off", "is_found"), [(0.015, False), (0.025, True)])
def test_merged_points_agree_within_two_centimetres_whatever_the_unit(tmp_path, units, off, is_found):
    ground = 40.0 + 0.01 * (AT[0] - 4000.0) + 0.003 * ((7 * MIDDLE) % 5)
    merge = f"[duplicates]\nwithin = {0.05 / METRES[units]}\n"
    _, build = built(tmp_path, units, field_in(units, further=[(AT[0] + 0.03, AT[1], ground + off)]), merge)
    found = [each for each in of_code(build, "near-duplicates") if each.message.startswith("two shots")]
    assert len(found) == is_found
    if is_found:
        apart, height = 0.03 / METRES[units], off / METRES[units]
        assert found[0].message.startswith(f"two shots {apart:.3f} {units} apart in plan, {height:.3f} {units} in hei")


@pytest.mark.parametrize("units", UNITS)
@pytest.mark.parametrize(("away", "is_found"), [(46.0, False), (58.0, True)])
def test_ground_extrapolated_half_a_metre_beyond_all_heights_is_found_whatever_the_unit(
    tmp_path, units, away, is_found
):
    scale = 1.0 / METRES[units]
    limit = "line,x,y\n" + ring("r", *(edge * scale for edge in (4002, 2802, 4040 + away, 2836)))
    table = '[[boundary]]\nfile = "r.csv"\neffect = "keep"\nreach = true\n'
    _, build = built(tmp_path, units, field_in(units), table, r__csv=limit)
    assert len(of_code(build, "extrapolated-far")) == is_found


@pytest.mark.parametrize("policy", ["mean", "lowest", "highest", "first", "last"])
def test_a_vertex_of_a_line_keeps_its_height_beside_a_shot_and_shots_follow_the_policy(tmp_path, policy):
    line = "line,x,y,z\nL,4003,2807.5,40.6\nL,4017.2,2807.5,40.6\nL,4033,2807.5,40.6\n"
    beside = [(4017.21, 2807.5, 44.0), (4021.5, 2822.5, 40.2), (4021.51, 2822.5, 40.8)]
    tables = f'[[source]]\nfile = "l.csv"\nrole = "breaklines"\n[duplicates]\npolicy = "{policy}"\nwithin = 0.05\n'
    _, build = built(tmp_path, "m", field_in("m", further=beside), tables, l__csv=line)
    assert float(build.surface.height(4017.2, 2807.5)) == 40.6
    vertices = build.surface.vertices
    (kept,) = vertices[np.hypot(vertices[:, 0] - 4021.5, vertices[:, 1] - 2822.5) < 0.1]
    heights = {"mean": 40.5, "lowest": 40.2, "highest": 40.8, "first": 40.2, "last": 40.8}
    assert kept[2] == pytest.approx(heights[policy])
    assert build.tally["merged"].iloc[-1] == 2


def test_a_flip_holds_against_what_is_edited_after_it(tmp_path):
    a, b, c, d = (MIDDLE, MIDDLE + 1, MIDDLE + SIDE + 1, MIDDLE + SIDE)
    _, plain = built(tmp_path, "m", field_in("m"))
    places = plain.surface.provenance.shots
    xy = {int(n): plain.surface.vertices[v, :2] for v, n in enumerate(places.numbers[plain.surface.provenance.shot_of])}
    a, b, c, d = (xy[k + 1] for k in (a, b, c, d))
    joined = {frozenset(map(tuple, plain.surface.vertices[e, :2].tolist())) for e in plain.surface.edges}
    wanted = (a, c) if frozenset((tuple(a), tuple(c))) not in joined else (b, d)
    middle = (a + b + c + d) / 4.0
    flip = f'[[edit]]\ndo = "flip"\nat = {middle.tolist()}\njoins = {[p.tolist() for p in wanted]}\n'
    near = "".join(
        f'[[edit]]\ndo = "add"\nat = {(middle + by).tolist()}\n'
        for by in ((4.1, 0.3), (-4.2, 0.4), (0.2, 4.3), (0.4, -4.4))
    )
    _, build = built(tmp_path, "m", field_in("m"), flip + near)
    edges = {frozenset(map(tuple, build.surface.vertices[e, :2].tolist())) for e in build.surface.edges}
    assert frozenset(tuple(p) for p in wanted) in edges and len(build.edits) == 5


def test_a_bed_lies_below_its_water_within_the_bank(tmp_path):
    ring = "line,x,y\n" + "".join(f"p,{x},{y}\n" for x, y in [*HOLE, HOLE[0]])
    table = '[[flat]]\nfile = "p.csv"\nlevel = 39.5\ndepth = 1.5\nbank = 2.0\n'
    _, build = built(tmp_path, "m", field_in("m"), table, p__csv=ring)
    assert float(build.surface.height(4018.0, 2818.0)) == 38.0 and float(build.surface.height(4013.0, 2818.0)) == 38.75


def test_ground_reaches_a_boundary_only_as_far_as_asked(tmp_path):
    ring = "line,x,y\n" + "".join(
        f"r,{x},{y}\n" for x, y in ((4002, 2802), (4050, 2802), (4050, 2836), (4002, 2836), (4002, 2802))
    )
    areas = {}
    for reach in ("false", "3.0", "true"):
        table = f'[[boundary]]\nfile = "r.csv"\neffect = "keep"\nreach = {reach}\n'
        _, build = built(tmp_path, "m", field_in("m"), table, r__csv=ring)
        areas[reach] = build.surface.plan_area
    assert areas["true"] == pytest.approx(48.0 * 34.0)
    assert areas["3.0"] - areas["false"] == pytest.approx(3.0 * 34.0, rel=0.01)


@pytest.mark.parametrize("units", UNITS)
@pytest.mark.parametrize(("off", "is_found"), [(0.015, False), (0.025, True)])
def test_a_text_disagrees_with_its_point_from_two_centimetres_on_whatever_the_unit(tmp_path, units, off, is_found):
    scale = 1.0 / METRES[units]
    drawing = ezdxf.new()
    space = drawing.modelspace()
    for k, row in enumerate(field_in("m").split()):
        y, x, z = (float(value) for value in row.split(",")[1:4])
        space.add_point((x * scale, y * scale, z * scale))
        text = f"{(z + off * (k == MIDDLE)) * scale:.4f}"
        space.add_text(text, height=0.1).set_placement(((x + 0.2) * scale, (y + 0.1) * scale))
    drawing.saveas(tmp_path / "d.dxf")
    (tmp_path / "site.toml").write_text(
        f'[site]\nunits = "{units}"\n[[source]]\nfile = "d.dxf"\nrole = "points"\nheights = "text nearby"\n'
    )
    build = Recipe.read(tmp_path / "site.toml").build()
    found = of_code(build, "text-disagrees")
    assert len(found) == is_found
    if is_found:
        assert found[0].place == pytest.approx((AT[0] * scale, AT[1] * scale)) and "It was kept" in found[0].message
    height = float(build.surface.height(AT[0] * scale, AT[1] * scale)) / scale
    assert height == pytest.approx(40.0 + 0.01 * (AT[0] - 4000.0) + 0.003 * ((7 * MIDDLE) % 5), abs=1e-4)


@pytest.mark.parametrize("units", UNITS)
@pytest.mark.parametrize(("threshold", "stays"), [(0.25, False), (0.35, True)])
def test_a_point_is_ground_up_to_the_threshold_whatever_the_unit(tmp_path, units, threshold, stays):
    scale = 1.0 / METRES[units]
    xy = np.array([(4000.0 + i, 2800.0 + j) for j in range(20) for i in range(20)])
    z = np.full(len(xy), 40.0)
    z[[84, 213, 297]] += 0.3
    rows = zip((xy * scale).tolist(), (z * scale).tolist(), strict=True)
    (tmp_path / "c.xyz").write_text("".join(f"{x:.5f} {y:.5f} {h:.5f}\n" for (x, y), h in rows))
    table = f"cell = {2.1 * scale}, window = {4.0 * scale}, threshold = {threshold * scale}, scale = 0.0"
    (tmp_path / "site.toml").write_text(
        f'[site]\nunits = "{units}"\n[[source]]\nfile = "c.xyz"\nrole = "cloud"\ncolumns = "xyz"\n'
        f"ground_filter = {{ {table} }}\n"
    )
    build = Recipe.read(tmp_path / "site.toml").build()
    assert build.tally["left_out"].iloc[-1] == (0 if stays else 3)
