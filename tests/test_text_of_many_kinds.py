"""One survey as text of many kinds: headings of four languages, marks, units, encodings; the points are the same."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from evrin import DataError, Recipe
from evrin.formats import How, look, read
from evrin.formats.text.column_guesses import guess_columns
from evrin.formats.text.text_layout import heading_of, unit_in_heading
from evrin.formats.text.text_numbers import has_decimal_comma, number, unit_behind
from sites import lay_out

PLACES = [(4120.5 + 7 * (k % 5), 2880.123 + 3 * k, 41.25 + 0.1 * k) for k in range(1, 31)]
WANTED = np.array(PLACES).round(3)
ENGLISH = "Pt,N,E,Z,Code\n"


def rows(form):
    return "".join(form.format(n=k, x=x, y=y, z=z) for k, (x, y, z) in enumerate(PLACES, 1))


def german(text):
    return text.translate(str.maketrans(",.", ".,"))


PLAIN = "{n},{y:.3f},{x:.3f},{z:.3f},GRASS\n"
KINDS = {
    "units in headings": "Point ID,Northing (m),Easting [m],Elevation_m,Description\n" + rows(PLAIN),
    "underscores": "point_id,north_coord,east_coord,z_coord,feature_code\n" + rows(PLAIN),
    "german": "Punktnummer;Rechtswert;Hochwert;Höhe [m ü. NHN];Bemerkung\n"
    + german(rows("{n};{x:.3f};{y:.3f};{z:.3f};W\n")),
    "r and h": "PNR;R;H;Z\n" + rows("{n};{x:.3f};{y:.3f};{z:.3f}\n"),
    "french": "N°\tEst\tNord\tAltitude\tLibellé\n" + rows("{n}\t{x:.3f}\t{y:.3f}\t{z:.3f}\tH\n"),
    "spanish": "Punto,Norte,Este,Cota,Descripción\n" + rows(PLAIN),
    "job block": "Job: Ostrel Weir, phase 2\nDate: 2026-03-04\nScale,1.0\n\n" + ENGLISH + rows(PLAIN),
    "bars": "P|N|E|Z|D\n" + rows("{n}|{y:.3f}|{x:.3f}|{z:.3f}|GRASS\n"),
    "comments": "// a\n; b, c\n* d\n# e\n" + ENGLISH + rows(PLAIN),
    "thousands": ENGLISH + rows('{n},"{y:,.3f}","{x:,.3f}",{z:.3f},GRASS\n'),
    "apostrophes": "Nr;Nord;Ost;Höhe\n" + rows("{n};{y:,.3f};{x:,.3f};{z:.3f}\n").replace(",", "'"),
    "points in thousands": "Nr;Nord;Ost;Höhe\n" + german(rows("{n};{y:,.3f};{x:,.3f};{z:.3f}\n")),
    "quoted commas": ENGLISH + rows('{n},"{y:.3f}","{x:.3f}","{z:.3f}",GRASS\n').replace(".", ","),
    "units behind": ENGLISH + rows("{n},{y:.3f} m,{x:.3f}m,RL {z:.3f},GRASS\n"),
    "units apart": "Pt N E Z\n" + rows("{n} {y:.3f} m {x:.3f} m {z:.3f} m\n"),
    "pages": "".join((ENGLISH if k % 10 == 0 else "") + row + "\n" for k, row in enumerate(rows(PLAIN).splitlines())),
}


@pytest.mark.parametrize("encoding", ["utf-8", "utf-16", "utf-16-le", "utf-16-be", "cp1252"])
@pytest.mark.parametrize("kind", KINDS)
def test_the_points_are_the_same_whatever_the_kind_of_text(tmp_path, kind, encoding):
    (tmp_path / "day.csv").write_bytes(KINDS[kind].encode(encoding))
    contents = look(tmp_path / "day.csv")
    assert np.abs(contents.points.xyz - WANTED).max() < 1e-9 and not contents.refused
    assert contents.points.shots.numbers.tolist() == [str(k) for k in range(1, 31)]
    assert contents.points.shots.line_of[0] == 1 + next(
        k
        for k, row in enumerate(KINDS[kind].splitlines())
        if "4127" in row or "4.127" in row or "4,127" in row or "4'127" in row
    )


@given(
    st.floats(0.001, 9_999_999.0).map(lambda v: round(v, 3)),
    st.booleans(),
    st.sampled_from(["", " ", "'", "\u2019", "\u00a0", ","]),
    st.sampled_from(["", " m", "ft", " usft"]),
)
def test_a_number_is_read_however_it_is_dressed(value, is_negative, mark, unit):
    digits = f"{value:,.3f}".replace(",", mark) if mark else f"{value:.3f}"
    text = ("\u2212" if is_negative else "") + digits + unit
    assert number(text) == pytest.approx(-value if is_negative else value, abs=1e-9)
    assert unit_behind(text) == {"": "", " m": "m", "ft": "ft", " usft": "ftUS"}[unit]
    if mark != ",":
        assert number(text.replace(".", ","), True) == pytest.approx(number(text), abs=1e-9)


@pytest.mark.parametrize("text", ["", "none", "1_000", "12 34", "1,23,456", "N12", "7 kg", "4.1.2", "--3", "1'23"])
def test_what_is_not_a_number_is_none(text):
    assert np.isnan(number(text))


def test_decimal_commas_are_told_from_thousands_by_the_whole_file():
    assert has_decimal_comma(["412,500", "288,100"]) and not has_decimal_comma(["4,120.5", "2880.1"])
    assert number("412,500", True) == 412.5 and number("4,120,500") == 4120500.0


@pytest.mark.parametrize(
    ("heading", "meaning", "unit"),
    [
        ("Rechtswert", "easting", ""),
        ("ELEV. (US survey feet)", "height", "ftUS"),
        ("N°", "number", ""),
        ("x-koordinate [m]", "easting", "m"),
        ("Hz", "", ""),
        ("Coordenada Norte", "northing", ""),
    ],
)
def test_headings_mean_what_the_trade_means_by_them(heading, meaning, unit):
    assert heading_of(heading) == meaning and unit_in_heading(heading) == unit


def test_feet_in_headings_count_and_a_header_is_never_a_refused_row(tmp_path):
    feet = "pt,northing_ft,easting_ft,elev_ft\n" + "".join(
        f"{k},{y / 0.3048},{x / 0.3048},{z / 0.3048}\n" for k, (x, y, z) in enumerate(PLACES, 1)
    )
    base = '[[source]]\nfile = "day1.csv"\nrole = "points"\n'
    build = Recipe.read(lay_out(tmp_path, base=base, field=feet)).build()
    assert np.abs(np.sort(build.surface.vertices[:, 2]) - np.sort(WANTED[:, 2])).max() < 1e-3
    unknown = "Alpha,Beta,Gamma,Delta,Eps\n" + rows(PLAIN)
    path = lay_out(tmp_path, base=base + 'columns = "PNEZD"\n', field=unknown)
    build = Recipe.read(path).build()
    assert not [f for f in build.findings if f.code == "refused-rows"] and int(build.tally["used"].iloc[-1]) == 30
    with pytest.raises(DataError, match="no header row that names the columns"):
        read(tmp_path / "day1.csv", How())


def test_point_numbers_that_name_several_places_are_reported(tmp_path):
    twice = "".join(f"{k % 28},{y:.3f},{x:.3f},{z:.3f},A\n" for k, (x, y, z) in enumerate(PLACES, 1))
    base = '[[source]]\nfile = "day1.csv"\nrole = "points"\ncolumns = "PNEZD"\n'
    found = [
        f
        for f in Recipe.read(lay_out(tmp_path, base=base, field=twice)).build().findings
        if f.code == "repeated-number"
    ]
    assert len(found) == 1 and "2 point numbers name several places (day1.csv): 1, 2" in found[0].message
    same = twice + twice.splitlines()[0] + "\n"
    again = Recipe.read(lay_out(tmp_path, base=base, field=same)).build().findings
    assert [f.message for f in again if f.code == "repeated-number"] == [found[0].message]
    assert "1, 2" in " ".join(look(tmp_path / "day1.csv", "PNEZD").notes)


@pytest.mark.parametrize(
    ("first", "second", "letters"),
    [(604_000.0, 5_702_800.0, "PENZ"), (5_702_800.0, 604_000.0, "PNEZ"), (2880.0, 4120.0, "PNEZ")],
)
def test_axes_are_guessed_by_what_the_numbers_prove_and_the_guess_is_explained(first, second, letters):
    sample = [[str(k), f"{first + k}", f"{second + 2 * k}", "41.2"] for k in range(1, 9)]
    guessed, why = guess_columns(sample)
    assert guessed == letters and ("nothing in the file proves it" in why) == (first < 1e5)


def test_axes_that_headings_leave_open_are_taken_by_custom_and_the_doubt_is_noted(tmp_path):
    german = "Punkt Y X Höhe\n" + rows("{n} {x:.3f} {y:.3f} {z:.3f}\n")
    (tmp_path / "a.txt").write_text(german)
    seen = look(tmp_path / "a.txt")
    assert np.abs(seen.points.xyz - WANTED).max() < 1e-9 and any(
        "X is taken as the northing" in note for note in seen.notes
    )
    (tmp_path / "b.txt").write_text("pt,y,x,z\n" + rows("{n},{y:.3f},{x:.3f},{z:.3f}\n"))
    seen = look(tmp_path / "b.txt")
    assert np.abs(seen.points.xyz - WANTED).max() < 1e-9 and any(
        "then state exchanged = true" in note for note in seen.notes
    )


def test_latitude_and_longitude_in_headings_are_degrees_and_names_of_points_are_not_lines(tmp_path):
    degrees = "Name,lat,lon,elevation\n" + "".join(f"P{k},51.4{k:02d},9.5{k:02d},41.2\n" for k in range(20))
    (tmp_path / "a.csv").write_text(degrees)
    seen = look(tmp_path / "a.csv")
    assert (seen.stated.units, seen.stated.crs) == ("degrees", "EPSG:4326")
    assert seen.points.xyz[3, :2].tolist() == [9.503, 51.403]
    assert seen.points.shots.numbers[3] == "P3" and not seen.lines
