"""Each fix that states a length is applied as it is printed, in metres and in feet, and its finding is gone."""

import re

import numpy as np
import pytest

from evrin.check import fix_tables
from evrin.recipe import Recipe

METRES = {"m": 1.0, "ft": 0.3048, "ftUS": 1200 / 3937}


def field(unit, *more):
    """Shots of a slope, 5 m apart, in a unit; further ones are given in metres."""
    rows = [(4000.0 + 5 * (k % 8), 2800.0 + 5 * (k // 8), 41.0 + 0.1 * (k % 8)) for k in range(64)]
    shots = [[number, *(value / unit for value in place)] for number, place in enumerate((*rows, *more), 1)]
    return "\n".join(["number,easting,northing,height", *(f"{n},{x:.5f},{y:.5f},{z:.5f}" for n, x, y, z in shots)])


def built(folder, units, sources, tables=""):
    (folder / "site.toml").write_text(f'[site]\nunits = "{units}"\n{sources}\n{tables}')
    return Recipe.read(folder / "site.toml").build()


def found(build, code):
    return [finding for finding in build.findings if finding.code == code]


SHOTS = '[[source]]\nfile = "shots.csv"\nrole = "points"\n'


@pytest.mark.parametrize("units", METRES)
@pytest.mark.parametrize("apart", [0.0005, 0.008, 0.0152, 0.0199])
def test_close_shots_are_merged_by_what_is_proposed(tmp_path, units, apart):
    (tmp_path / "shots.csv").write_text(field(METRES[units], (4010.0 + apart, 2810.0, 41.5)))
    (finding,) = found(built(tmp_path, units, SHOTS), "close-shots")
    within = re.search(r"within = ([\d.]+)", finding.fix)[1]
    again = built(tmp_path, units, SHOTS, f"[duplicates]\nwithin = {within}\n")
    assert not found(again, "close-shots") and found(again, "near-duplicates")
    (tmp_path / "site.toml").write_text((tmp_path / "site.toml").read_text() + "\n" + fix_tables(again.findings))
    assert not [each for each in found(Recipe.read(tmp_path / "site.toml").build(), "near-duplicates") if each.is_open]


@pytest.mark.parametrize("units", METRES)
def test_noise_of_a_cloud_is_merged_and_leaves_nothing_open(tmp_path, units):
    rng, unit = np.random.default_rng(7), METRES[units]
    cloud = np.column_stack((rng.uniform(0, 12, (4000, 2)) + (4000, 2800), rng.normal(41, 0.05, 4000)))
    (tmp_path / "cloud.xyz").write_text("\n".join(" ".join(f"{value / unit:.4f}" for value in row) for row in cloud))
    source = '[[source]]\nfile = "cloud.xyz"\nrole = "points"\ncolumns = "XYZ"\n'
    (finding,) = found(built(tmp_path, units, source), "close-shots")
    assert finding.severity == "note"
    within = re.search(r"within = ([\d.]+)", finding.fix)[1]
    again = built(tmp_path, units, source, f"[duplicates]\nwithin = {within}\n")
    assert not found(again, "close-shots") and {each.severity for each in found(again, "near-duplicates")} == {"note"}


@pytest.mark.parametrize("units", METRES)
def test_loose_edges_that_miss_one_another_are_joined_by_what_is_proposed(tmp_path, units):
    unit = METRES[units]
    corners = np.array([[0, 0, 1], [9, 0, 1], [9, 9, 2], [0, 9, 2]]) + (4000, 2800, 40)
    rows = ["line,easting,northing,height"]
    for number, (one, other) in enumerate([(0, 1), (1, 2), (2, 3), (3, 0), (0, 2)]):
        ends = corners[[one, other]] + ([0.007, 0, 0] if number == 1 else [0, 0, 0]) * np.array([[1], [0]])
        rows += [f"e{number},{x / unit:.5f},{y / unit:.5f},{z / unit:.5f}" for x, y, z in ends]
    (tmp_path / "edges.csv").write_text("\n".join(rows))
    source = '[[source]]\nfile = "edges.csv"\nrole = "edges"\n'
    (finding,) = found(built(tmp_path, units, source), "near-miss")
    again = built(tmp_path, units, source + re.search(r"snap = [\d.]+", finding.fix)[0] + "\n")
    assert not found(again, "near-miss") and len(again.surface.triangles) == 2


@pytest.mark.parametrize("units", METRES)
def test_extrapolated_ground_is_cut_back_by_what_is_proposed(tmp_path, units):
    (tmp_path / "shots.csv").write_text(field(METRES[units]))
    ring = [(3980, 2780), (4060, 2780), (4060, 2860), (3980, 2860)]
    rows = [f"limit,{x / METRES[units]:.4f},{y / METRES[units]:.4f}" for x, y in (*ring, ring[0])]
    (tmp_path / "limit.csv").write_text("\n".join(["line,easting,northing", *rows]))
    boundary = '[[boundary]]\nfile = "limit.csv"\neffect = "keep"\nreach = {}\n'
    build = built(tmp_path, units, SHOTS, boundary.format("true"))
    (finding,) = found(build, "extrapolated-ground")
    reach = re.search(r"reach = ([\d.]+)", finding.fix)[1]
    again = built(tmp_path, units, SHOTS, boundary.format(reach))
    far = [
        float(re.search(r"up to ([\d.]+)", found(each, "extrapolated-ground")[0].message)[1]) for each in (build, again)
    ]
    assert far[1] <= 1.05 * float(reach) < 0.6 * far[0]


@pytest.mark.parametrize("units", METRES)
@pytest.mark.parametrize(
    ("code", "wrong"),
    [
        ("zero-height", (4011.0, 2812.0, 0.0)),
        ("height-spike", (4012.0, 2812.0, 55.0)),
        ("no-data-height", (4012.0, 2813.0, "-9999")),
        ("far-off-site", (9000.0, 8000.0, 41.0)),
        ("unlike-heights", (4010.0, 2810.0, 41.9)),
    ],
)
def test_what_is_pasted_settles_its_finding_in_every_unit(tmp_path, units, code, wrong):
    unit = METRES[units]
    place = ",".join(value if isinstance(value, str) else f"{value / unit:.5f}" for value in wrong)
    (tmp_path / "shots.csv").write_text(f"{field(unit)}\n99,{place}\n")
    build = built(tmp_path, units, SHOTS)
    assert code in {each.code for each in build.open_findings}
    (tmp_path / "site.toml").write_text((tmp_path / "site.toml").read_text() + "\n" + fix_tables(build.findings))
    assert code not in {each.code for each in Recipe.read(tmp_path / "site.toml").build().open_findings}
