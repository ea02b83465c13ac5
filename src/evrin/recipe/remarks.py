"""What opening sources brings up, told as findings."""

from __future__ import annotations

import numpy as np

from evrin.check import Finding
from evrin.formats.reference import DEGREES
from evrin.recipe.schema import CutLine, Duplicates, Wall
from evrin.surface import Shots
from evrin.surface.recover import Recovered
from evrin.surface.rings import RingCleaning
from evrin.survey.heights import TextPairs
from evrin.survey.levels import Levelled
from evrin.survey.mismatch import Mismatch
from evrin.survey.strands import Strand
from evrin.survey.things import Points
from evrin.tin.types import Flags, Floats, Indices
from evrin.wording import counted

_MOST = 12
_AGREES = 0.02
_UNIT_WORDS = {"m": "metres", "ft": "international feet", "ftUS": "US survey feet"}


def hinted_units(name: str, hinted: str, site: str) -> Finding:
    """Tell that a file says it is in other units than the site, but is not to be trusted with that."""
    return Finding(
        "units-differ",
        "warning",
        None,
        f"{name} says it is in {_UNIT_WORDS[hinted]}, the site is in {_UNIT_WORDS[site]}; it was taken as the site's",
        mend=f'say units = "{hinted}" in the source to convert it, or units = "{site}" if its header is wrong',
    )


def site_in_other_units(measured: str, site: str, crs: str) -> Finding:
    """Tell that the site's reference system measures in other units than the site says."""
    if measured == DEGREES:
        what, mend = "degrees, in which nothing can be measured", "choose a plane reference system"
    else:
        what, mend = _UNIT_WORDS[measured], f'say units = "{measured}" under [site]'
    told = f"the site is said to be in {_UNIT_WORDS[site]}, but {crs} measures in {what}"
    return Finding("units-differ", "warning", None, told, mend=mend)


def about_texts(
    name: str, points: Points, texts: Points, pairs: TextPairs, bare: Flags, z: Floats, told: Floats
) -> list[Finding]:
    """Show the heights taken from texts, and tell of texts and points left alone."""
    found = []
    for row, text, height in zip(pairs.points.tolist(), pairs.texts.tolist(), told.tolist(), strict=True):
        away = float(np.hypot(*(points.xyz[row, :2] - texts.xyz[text, :2])))
        shots = (points.shots.describe(row), texts.shots.describe(text))
        if bare[row]:
            what = f"height {height:.3f} taken from the text {away:.2f} away ({name})"
            found.append(Finding("height-from-text", "note", _place(points.xyz, row), what, shots))
        elif abs(z[row] - height) > _AGREES:
            what = f"height {z[row]:.3f}, but the text {away:.2f} away says {height:.3f}; its own stands"
            mend = 'correct the point with set_height, or leave it out and take the texts: heights = "text"'
            found.append(Finding("text-disagrees", "warning", _place(points.xyz, row), what, shots, mend))
    for row in pairs.lone_points[bare[pairs.lone_points]].tolist():
        what = f"no height, and no text that gives one within reach ({name})"
        mend = "give it one with set_height, widen reach, or leave it out"
        who = (points.shots.describe(row),)
        found.append(Finding("height-missing", "warning", _place(points.xyz, row), what, who, mend))
    for row in pairs.lone_texts.tolist():
        what = f"the text {texts.column('text')[row]!r} has no point beside it ({name})"
        mend = 'if it marks a shot of its own, take it by a second source with heights = "text"'
        who = (texts.shots.describe(row),)
        found.append(Finding("text-left-alone", "warning", _place(texts.xyz, row), what, who, mend))
    return found


def _place(xyz: Floats, row: int) -> tuple[float, float]:
    return float(xyz[row, 0]), float(xyz[row, 1])


def about_edges(name: str, edges: Floats, shots: Shots, found: Recovered) -> list[Finding]:
    """Tell of every loose edge that is in no triangle, and of what stayed open."""
    out: list[Finding] = []
    for code, rows, what, mend in (
        ("doubled-edges", found.doubled, "repeats another edge; it was taken once", ""),
        ("upright-edges", found.upright, "has no length in plan; it bounds no triangle", ""),
        ("crossing-edges", found.crossing, "crosses or lies on another; neither was used", "draw one of them again"),
        ("dangling-edges", found.dangling, "ends where no other does; it bounds no triangle", "join it, or leave it"),
    ):
        severity = "note" if code == "doubled-edges" else "warning"
        out += _edge_findings(code, severity, name, edges, shots, rows, what, mend)
    for ring in found.gaps[:_MOST]:
        x, y = ring[:, :2].mean(axis=0)
        what = f"{counted(len(ring), 'edge')} bound an opening, which stays open ({name})"
        if len(ring) == 3:
            what = f"three edges bound an opening with something inside, which stays open ({name})"
        mend = "draw the missing edges, or accept it if it is a hole"
        out.append(Finding("open-face", "warning", (float(x), float(y)), what, (), mend))
    if len(found.gaps) > _MOST:
        more = counted(len(found.gaps) - _MOST, "more opening")
        out.append(Finding("open-face", "warning", None, f"{more} of {name} stay open", (), "see them on a map"))
    if len(found.nearly):
        x, y = found.nearly[0, :2]
        ends = counted(len(found.nearly), "end misses", "ends miss")
        mend = "say snap = 0.01, or as far as they are apart, to join them"
        out.append(Finding("near-miss", "warning", (float(x), float(y)), f"{ends} another narrowly", (name,), mend))
    for x, y, z in found.unlike[:_MOST].tolist():
        what = f"edges meet here at different heights; that of most of them stands, {z:.3f} ({name})"
        out.append(Finding("unlike-ends", "warning", (x, y), what, (), "draw them to one height"))
    if len(found.unlike) > _MOST:
        more = f"edges of {name} meet at different heights at {counted(len(found.unlike) - _MOST, 'more place')}"
        out.append(Finding("unlike-ends", "warning", None, more, (), "draw them to one height"))
    return out


def _edge_findings(
    code: str, severity: str, name: str, edges: Floats, shots: Shots, rows: Indices, what: str, mend: str
) -> list[Finding]:
    out = []
    for row in rows[:_MOST].tolist():
        x, y = edges[row, :, :2].mean(axis=0)
        place = (float(x), float(y))
        out.append(Finding(code, severity, place, f"an edge {what}", (shots.describe(row),), mend))  # type: ignore[arg-type]
    if len(rows) > _MOST:
        more = f"{counted(len(rows) - _MOST, 'more edge')} of {name} of the same kind"
        out.append(Finding(code, severity, None, more, (), mend))  # type: ignore[arg-type]
    return out


def about_overlaps(overlaps: list[tuple[str, str, tuple[float, float]]]) -> list[Finding]:
    """Tell of surfaces that could not be taken as they are, because they overlap one another or themselves."""
    places: dict[tuple[str, str], list[tuple[float, float]]] = {}
    for one, other, place in overlaps:
        places.setdefault((min(one, other), max(one, other)), []).append(place)
    out = []
    for (one, other), found in sorted(places.items()):
        what = f"{one} overlaps itself" if one == other else f"{one} and {other} overlap"
        told = f"{what}: edges cross at {counted(len(found), 'place')}, where vertices had to be made"
        mend = "keep one of the two" if one != other else "use its points and lines instead of its triangles"
        out.append(Finding("surface-changed", "warning", min(found), told, (one, other), mend))
    return out


def about_mismatch(mismatch: Mismatch, names: list[str], place: tuple[float, float]) -> Finding:
    """Tell that a source does not go with the rest, and how to mend it."""
    name, other = names[mismatch.source], names[mismatch.beside]
    factor = "0.3048" if mismatch.factor < 1.0 else "3.28084"
    unit = "ft" if mismatch.factor < 1.0 else "m"
    told = {
        "degrees": (
            f"{name} lies at {place[0]:.4f}, {place[1]:.4f}: that looks like longitude and latitude in degrees",
            'say what it is and what the site is: crs = "EPSG:4326" in the source, crs = "EPSG:nnnn" under [site]',
        ),
        "exchanged": (
            f"{name} does not meet {other}, but would with northing and easting exchanged",
            "say exchanged = true in the source",
        ),
        "feet-beside-metres": (
            f"{name} does not meet {other}, but would if its coordinates were multiplied by {factor}",
            f'say units = "{unit}" in the source, or "ftUS" for US survey feet',
        ),
        "heights-in-feet": (
            f"{name} meets {other} in plan, but its heights would only if they were multiplied by {factor}",
            f"say scale_heights = {factor} in the source",
        ),
        "apart": (
            f"{name} does not meet {other} anywhere",
            "check that both are of this site and in its reference system",
        ),
    }[mismatch.kind]
    return Finding(f"sources-{mismatch.kind}", "warning", place, told[0], (), told[1])


def unmet_cut(number: int, table: CutLine, away: float | None) -> Finding:
    """Tell that a line which was to be cut is not there."""
    why = f"there is no line {table.line}" if away is None else f"the nearest line {table.line} is {away:.3f} away"
    what = f"cut_line {number} was not made: {why}, and it must be within {table.reach:g}"
    return Finding("cut-does-not-fit", "error", table.at, what, (), f"move it, or switch it off: cut_line:{number}")


def unmet_wall(number: int, table: Wall) -> Finding:
    """Tell that a wall has no line."""
    what = f"wall {number} was not parted: there is no line {table.line}"
    return Finding("cut-does-not-fit", "error", None, what, (), f"correct its name, or switch it off: wall:{number}")


def about_levels(name: str, strands: list[Strand], levelled: Levelled) -> list[Finding]:
    """Tell of contours without a level, and of those that were to have two."""
    out = []
    for clash in levelled.clashes[:_MOST]:
        line = strands[clash.line]
        levels = f"level {clash.levels[1]:g} here, {clash.levels[0]:g} before"
        what = f"contour {line.name} is met again and was to have {levels}"
        mend = "end the ladder before it turns back, or set the level with set_level"
        out.append(Finding("contour-without-level", "error", clash.place, what, (line.where,), mend))
    bare = [strand for strand, level in zip(strands, levelled.levels.tolist(), strict=True) if np.isnan(level)]
    for strand in bare[:_MOST]:
        place = _place(strand.xyz, len(strand) // 2)
        what = f"no ladder meets contour {strand.name}, so it has no level and was not used"
        mend = "draw a ladder across it, or give its level with set_level"
        out.append(Finding("contour-without-level", "warning", place, what, (strand.where,), mend))
    if len(bare) > _MOST:
        what = f"{counted(len(bare) - _MOST, 'more contour')} of {name} without a level"
        out.append(Finding("contour-without-level", "warning", None, what, (), "draw ladders across them"))
    return out


def about_near(
    xyz: Floats, shots: Shots, keeper: Indices, gone: Indices, apart: Floats, table: Duplicates
) -> list[Finding]:
    """Tell of points that gave way to others close by: those of unlike height one by one, the rest together."""
    out = []
    unlike = np.flatnonzero(apart > _AGREES)
    for k in unlike[np.argsort(-apart[unlike], kind="stable")][:_MOST].tolist():
        one, other = int(keeper[k]), int(gone[k])
        away = float(np.hypot(*(xyz[one, :2] - xyz[other, :2])))
        what = f"two shots {away:.3f} apart in plan and {apart[k]:.3f} in height; policy {table.policy} decided"
        who = (shots.describe(one), shots.describe(other))
        out.append(
            Finding("near-duplicates", "warning", _place(xyz, other), what, who, "leave the wrong one out by number")
        )
    if len(gone):
        most = f"by at most {apart.max():.3f} in height"
        what = f"{counted(len(gone), 'point')} within {table.within:g} of another gave way, {most}"
        out.append(Finding("near-duplicates", "note", _place(xyz, int(gone[0])), what))
    return out


def about_busts(xyz: Floats, shots: Shots, left: dict[str, Indices]) -> list[Finding]:
    """Name the shots that were left out because of their heights."""
    out = []
    for what, rows in left.items():
        for row in rows[:_MOST].tolist():
            told = f"height {xyz[row, 2]:.3f}, {what}: left out by [busts]"
            out.append(Finding("bust-left-out", "note", _place(xyz, row), told, (shots.describe(row),)))
        if len(rows) > _MOST:
            told = f"{counted(len(rows) - _MOST, 'more shot')} {what} left out by [busts]"
            out.append(Finding("bust-left-out", "note", None, told))
    return out


def leave_out_unmet(number: int, file: str, missing: list[str]) -> Finding:
    """Tell of shots to leave out that are not there."""
    where = f" of {file}" if file else ""
    what = f"leave_out {number}: there is no shot {', '.join(missing[:_MOST])}{where} that could be left out"
    return Finding("leave-out-unmet", "warning", None, what, (), "correct its number, or drop it")


def along_no_effect(number: int, file: str) -> Finding:
    """Tell that an alignment turned nothing."""
    what = f"along {number} ({file}) turned no edge: none within reach was free to turn"
    return Finding("along-no-effect", "note", None, what, (), "widen within, or switch it off")


def ring_cleaned(name: str, cleaning: RingCleaning) -> Finding:
    """Tell what was taken out of a boundary before anything was cut along it."""
    mend = "draw the ring again without them" if cleaning.repeated or cleaning.spikes else "check which side is meant"
    return Finding("boundary-cleaned", "note", cleaning.place, f"boundary {name}: {cleaning}", (name,), mend)
