"""Ground that a boundary keeps and the surface does not have is reported, whatever took it away."""

import re

import numpy as np
import pytest

from evrin.recipe import Recipe

SHOTS = '[[source]]\nfile = "shots.csv"\nrole = "points"\n'
LIMIT = '[[boundary]]\nfile = "limit.csv"\neffect = "keep"\n'


def built(folder, tables, *, hollow=False, size=100.0, units="m"):
    """Build a field of shots 5 m apart within a limit, with a hollow of 30 by 30 m where none was shot."""
    rows = [(x, y) for x in np.arange(0.0, size + 1, 5.0) for y in np.arange(0.0, size + 1, 5.0)]
    rows = [(x, y) for x, y in rows if not (hollow and 35 < x < 65 and 35 < y < 65)]
    (folder / "shots.csv").write_text("e,n,z\n" + "\n".join(f"{4000 + x},{2800 + y},{40 + x / 50}" for x, y in rows))
    ring = [(1, 1), (99, 1), (99, 99), (1, 99), (1, 1)]
    (folder / "limit.csv").write_text("line,e,n\n" + "\n".join(f"limit,{4000 + x},{2800 + y}" for x, y in ring))
    (folder / "site.toml").write_text(f'[site]\nunits = "{units}"\n' + tables)
    return [f for f in Recipe.read(folder / "site.toml").build().findings if f.code == "missing-ground"]


@pytest.mark.parametrize("units", ["m", "ft"])
def test_trimming_that_opens_the_ground_inside_a_limit_is_reported_with_its_area_and_place(tmp_path, units):
    assert built(tmp_path, SHOTS + LIMIT, hollow=True, units=units) == []
    trim = "[trim]\nlongest_edge = 12.0\ninside = true\n"
    (found,) = built(tmp_path, SHOTS + LIMIT + trim, hollow=True, units=units)
    area = float(re.search(r"about ([\d,.]+)", found.message)[1].replace(",", ""))
    assert area == pytest.approx(900.0, rel=0.2) and found.severity == "warning" and f" {units}²" in found.message
    assert 4035 < found.place[0] < 4065 and 2835 < found.place[1] < 2865


def test_a_limit_drawn_beyond_the_data_is_reported_until_the_ground_is_carried_out_to_it(tmp_path):
    (found,) = built(tmp_path, SHOTS + LIMIT, size=80.0)
    share = float(re.search(r"([\d.]+) %", found.message)[1])
    assert share == pytest.approx(100.0 * (1 - 79**2 / 98**2), abs=2.0)
    assert built(tmp_path, SHOTS + LIMIT + "reach = true\n", size=80.0) == []


def test_what_is_cut_out_and_what_has_no_limit_is_not_missing(tmp_path):
    assert built(tmp_path, SHOTS + "[trim]\nlongest_edge = 12.0\ninside = true\n", hollow=True) == []
    cut = [(30, 30), (70, 30), (70, 70), (30, 70), (30, 30)]
    (tmp_path / "cut.csv").write_text("line,e,n\n" + "\n".join(f"c,{4000 + x},{2800 + y}" for x, y in cut))
    assert built(tmp_path, SHOTS + LIMIT + '[[boundary]]\nfile = "cut.csv"\neffect = "cut"\n') == []


@pytest.mark.parametrize("width", [0.5, 3.0, 12.0])
def test_ground_that_is_missing_from_a_strip_is_reported_however_narrow_it_is(tmp_path, width):
    chainages = [x for x in range(0, 1001, 10) if not 400 < x < 700]
    rows = [f"{5000 + x},{3000 + y},{10 + x / 100}" for x in chainages for y in (0.0, width / 2, width)]
    (tmp_path / "shots.csv").write_text("\n".join(["e,n,z", *rows]))
    ring = f"[[5000, 3000], [6000, 3000], [6000, {3000 + width}], [5000, {3000 + width}]]"
    limit = f'[[boundary]]\nplaces = {ring}\neffect = "keep"\n'
    (tmp_path / "site.toml").write_text(f'[site]\nunits = "m"\n{SHOTS}{limit}[trim]\nlongest_edge = 30\n')
    (missing,) = [f for f in Recipe.read(tmp_path / "site.toml").build().findings if f.code == "missing-ground"]
    share = float(re.search(r"([\d.]+) % of", missing.message)[1])
    assert missing.severity == "warning"
    assert share == pytest.approx(30.0, abs=1.5)
