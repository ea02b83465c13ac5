"""Boundaries table after table, coded holes and water, ground carried beyond the data, levels that do not fit."""

import json

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import evrin
from evrin import Recipe
from evrin.tin.mesh.limiting import Limit, are_kept, limit_mesh
from evrin.tin.query.inside_rings import ring_sides
from sites import grid_field, lay_out
from test_triangulation_is_exact import mesh_of


def distances(places, rings):
    sides = ring_sides(rings)
    start, leg = sides[:, :2], sides[:, 2:] - sides[:, :2]
    part = ((places[:, None] - start) * leg).sum(2) / np.maximum((leg**2).sum(1), 1e-300)
    return np.hypot(*(places[:, None] - start - np.clip(part, 0, 1)[..., None] * leg).transpose(2, 0, 1)).min(1)


@given(st.integers(0, 10**6), st.lists(st.booleans(), min_size=1, max_size=5), st.booleans())
def test_limits_unite_and_subtract_in_turn_and_leave_the_ground_as_it_was(seed, effects, is_far):
    rng = np.random.default_rng(seed)
    shift = np.array([436000.0, 5412000.0]) * is_far
    xy = shift + rng.uniform(0, 100, (60, 2)).round(rng.integers(0, 4))
    mesh = mesh_of(xy, 3.0 * (xy[:, 0] - shift[0]))

    def ring():
        return shift + rng.uniform(-20, 120, (rng.integers(3, 7), 2)).round(rng.integers(0, 4))

    limits = [Limit(keeps, [ring() for _ in range(rng.integers(1, 3))]) for keeps in effects]
    places = shift + rng.uniform(-10, 110, (200, 2))
    before = mesh.heights(places)
    limit_mesh(mesh, limits)
    clear = distances(places, [ring for limit in limits for ring in limit.rings]) > 1e-3
    stays = are_kept(limits, places) & np.isfinite(before) & clear
    after = mesh.heights(places)
    assert (np.isfinite(after) == stays)[clear].all()
    assert np.allclose(after[stays], before[stays], atol=1e-5)


def square(name, west, south, east, north):
    corners = [(west, south), (east, south), (east, north), (west, north), (west, south)]
    return "".join(f"{name},{x},{y}\n" for x, y in corners)


def ring_file(*squares):
    return "line,x,y\n" + "".join(squares)


def boundary(file, effect="keep", **keys):
    more = "".join(f"{key} = {json.dumps(value)}\n" for key, value in keys.items())
    return f'[[boundary]]\nfile = "{file}"\neffect = "{effect}"\n{more}'


def codes_of(build):
    return {finding.code for finding in build.findings}


def test_tables_unite_subtract_and_add_again_while_one_file_alternates(tmp_path):
    files = {
        "a__csv": ring_file(square("a", 4001, 2801, 4015, 2815)),
        "b__csv": ring_file(square("b", 4010, 2810, 4024, 2824)),
        "hole__csv": ring_file(square("hole", 4009, 2809, 4016, 2816)),
        "back__csv": ring_file(square("back", 4012, 2812, 4014, 2814)),
        "both__csv": ring_file(square("a", 4001, 2801, 4024, 2824), square("b", 4010, 2810, 4014, 2814)),
    }
    tables = [boundary("a.csv"), boundary("b.csv"), boundary("hole.csv", "cut"), boundary("back.csv")]
    areas = []
    for count in range(1, 5):
        build = Recipe.read(lay_out(tmp_path, "".join(tables[:count]), field=grid_field(), **files)).build()
        areas.append(build.surface.plan_area)
        assert "boundary-idle" not in codes_of(build)
    whole = 2 * 14.0**2 - 5.0**2
    assert areas == pytest.approx([14.0**2, whole, whole - 47.0, whole - 43.0])
    nested = Recipe.read(lay_out(tmp_path, boundary("both.csv"), field=grid_field(), **files)).build()
    assert nested.surface.plan_area == pytest.approx(23.0**2 - 16.0)
    early = Recipe.read(lay_out(tmp_path, tables[2] + tables[0], field=grid_field(), **files)).build()
    assert early.surface.plan_area == pytest.approx(14.0**2 - 36.0)
    assert early.tally["outside"].iloc[-1] > 0


def test_a_ring_that_changes_nothing_or_takes_most_is_a_warning(tmp_path):
    files = {
        "wide__csv": ring_file(square("wide", 3000, 1800, 5000, 3800)),
        "far__csv": ring_file(square("far", 100, 100, 110, 110), square("tiny", 4012.2, 2812.2, 4012.6, 2812.6)),
        "small__csv": ring_file(square("small", 4001, 2801, 4009, 2809)),
    }
    idle = Recipe.read(
        lay_out(tmp_path, boundary("wide.csv") + boundary("far.csv", "cut"), field=grid_field(), **files)
    ).build()
    named = [finding.shots[0] for finding in idle.open_findings if finding.code == "boundary-idle"]
    assert sorted(named) == ["far", "wide"]
    taken = Recipe.read(lay_out(tmp_path, boundary("small.csv"), field=grid_field(), **files)).build()
    (found,) = [finding for finding in taken.open_findings if finding.code == "boundary-takes-most"]
    assert "takes away 35 of 36 points (97.2 %)" in found.message


CODED = """
[field_codes]
close = "CL"
[[field_codes.code]]
match = "BLDG"
means = "hole"
[[field_codes.code]]
match = "POND"
means = "water"
level = 39.0
[[field_codes.code]]
match = "EDGE"
means = "line"
"""


def coded(code, west, south, side, first):
    corners = [(west, south), (west + side, south), (west + side, south + side), (west, south + side)]
    return "".join(f"{first + k},{y},{x},40.0,{code}1{' CL' if k == 3 else ''}\n" for k, (x, y) in enumerate(corners))


def test_coded_outlines_are_holes_shores_and_boundaries_by_name(tmp_path):
    field = grid_field() + coded("BLDG", 4002.3, 2802.3, 3.0, 900) + coded("POND", 4011.3, 2811.3, 4.0, 910)
    field += coded("EDGE", 4000.5, 2800.5, 22.0, 920) + "930,2823.0,4003.0,40.0,BLDG2\n"
    build = Recipe.read(
        lay_out(tmp_path, CODED + '[[boundary]]\nline = "EDGE*"\neffect = "keep"\n', field=field)
    ).build()
    assert build.surface.plan_area == pytest.approx(22.0**2 - 9.0)
    assert np.isnan(build.surface.height(4004.0, 2804.0))
    assert float(build.surface.height(4013.0, 2813.0)) == 39.0
    assert "coded-ring-short" in codes_of(build)
    with pytest.raises(evrin.DataError, match=r"no line EDGES\* .* Lines here: EDGE1"):
        Recipe.read(lay_out(tmp_path, CODED + '[[boundary]]\nline = "EDGES*"\neffect = "keep"\n', field=field)).build()
    with pytest.raises(evrin.RecipeError, match="level is needed for"):
        Recipe.read(lay_out(tmp_path, CODED.replace("level = 39.0", ""), field=field))
    with pytest.raises(evrin.RecipeError, match="a file, the line of a source, or places"):
        Recipe.read(lay_out(tmp_path, '[[boundary]]\neffect = "keep"\n', field=field))


def test_ground_beyond_the_data_is_measured_limited_and_refused_where_absurd(tmp_path):
    files = {
        "near__csv": ring_file(square("near", 3998, 2798, 4028, 2828)),
        "wide__csv": ring_file(square("wide", 3970, 2770, 4055, 2855)),
        "absurd__csv": ring_file(square("absurd", 3500, 2300, 4500, 3300)),
    }

    def built(table):
        return Recipe.read(lay_out(tmp_path, table, field=grid_field(), **files)).build()

    near, wide = built(boundary("near.csv", reach=True)), built(boundary("wide.csv", reach=True))
    (note,) = [finding for finding in near.findings if finding.code == "extrapolated-ground"]
    (warning,) = [finding for finding in wide.findings if finding.code == "extrapolated-ground"]
    assert wide.surface.plan_area == pytest.approx(85.0**2)
    share = 100.0 * (1.0 - 25.1 * 25.0 / 85.0**2)
    assert note.severity == "warning" or "twice the distance" in note.message
    assert warning.severity == "warning" and f"({share:.1f} %)" in warning.message
    limited = built(boundary("wide.csv", reach=5.0)).surface
    assert 25.0**2 + 4 * 5 * 25.0 < limited.plan_area < 40.0**2
    assert np.isfinite(limited.height(3995.5, 2812.0)) and np.isnan(limited.height(3990.0, 2812.0))
    with pytest.raises(evrin.GeometryError, match=r"beyond data that is .* across.*reach = "):
        built(boundary("absurd.csv", reach=True))
    assert built(boundary("absurd.csv", reach=5.0)).surface.plan_area < 40.0**2


def test_a_level_that_does_not_fit_its_banks_is_a_finding(tmp_path):
    pond = ring_file(square("pond", 4008, 2808, 4014, 2814))
    climbing = "line,x,y,z\n" + "".join(
        f"brook,{x},{y},{z}\n" for x, y, z in [(4004, 2804, 38), (4018, 2804, 39), (4018, 2809, 39), (4004, 2809, 38)]
    )
    for level, code in ((39.8, None), (44.0, "flat-off-banks"), (4.0, "flat-off-banks")):
        table = f'[[flat]]\nfile = "pond.csv"\nlevel = {level}\n'
        build = Recipe.read(lay_out(tmp_path, table, field=grid_field(), pond__csv=pond)).build()
        assert (code in codes_of(build)) if code else not codes_of(build) & {"flat-off-banks", "flat-shore-climbs"}
    table = '[[flat]]\nfile = "brook.csv"\nlevel = 38.5\n'
    build = Recipe.read(lay_out(tmp_path, table, field=grid_field(), brook__csv=climbing)).build()
    assert "flat-shore-climbs" in codes_of(build)


def test_two_levels_on_one_shore_build_and_are_a_finding(tmp_path):
    pools = ring_file(square("upper", 4004, 2804, 4010, 2812), square("lower", 4010, 2804, 4016, 2812))
    tables = "".join(
        f'[[flat]]\nfile = "pools.csv"\nkeep = {{ names = ["{name}"] }}\nlevel = {level}\n'
        for name, level in (("upper", 39.8), ("lower", 39.1))
    )
    build = Recipe.read(lay_out(tmp_path, tables, field=grid_field(), pools__csv=pools)).build()
    (found,) = [finding for finding in build.findings if finding.code == "flats-meet"]
    assert "share 2 vertices of their shores, 0.700 m apart" in found.message
