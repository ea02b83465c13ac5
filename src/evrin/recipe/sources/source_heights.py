"""Heights of points: their own, from an attribute, from texts beside them, corrected by number."""

from __future__ import annotations

import numpy as np

from evrin.base.errors import DataError
from evrin.base.tolerances import EDIT_REACH, HEIGHTS_AGREE, TEXT_REACH
from evrin.base.wording import counted
from evrin.check import Finding, rule
from evrin.formats.door.intake import Intake
from evrin.kernels import Flags, Floats
from evrin.recipe.sources.source_contents import SourceContents
from evrin.recipe.sources.source_table import HeightFrom, Source
from evrin.survey.contents import Points
from evrin.survey.heights import TextPairs, has_no_height, heights_in, pair_with_texts

HEIGHT_FROM_TEXT = rule("height-from-text", "points at zero that took their heights from texts beside them", "note")
TEXT_DISAGREES = rule(
    "text-disagrees",
    "points whose heights differ from the texts beside them",
    "warning",
    fix='correct the point with set_height, or leave it out and take the texts: heights = "text"',
)
TEXTS_GIVE_HEIGHTS = rule(
    "texts-give-heights",
    "points without heights beside texts that give them",
    "warning",
    fix='take them: heights = "text nearby" for the source; or the texts alone: heights = "text"',
)
HEIGHT_MISSING = rule(
    "height-missing",
    "points at zero without a text that gives their height",
    "warning",
    fix="give it one with set_height, widen reach, or leave it out",
)
TEXT_WITHOUT_POINT = rule(
    "text-without-point",
    "texts that give heights, without a point beside them",
    "warning",
    fix='if it marks a shot of its own, take it by a second source with heights = "text"',
)


SET_HEIGHT_UNMET = rule(
    "set-height-unmet",
    "single heights to set for points that are not there, or are several",
    "warning",
    fix="correct the number or the place, or drop it",
)


def heights_of(opened: SourceContents, source: Source, taken: Points, texts: Points, door: Intake) -> Floats:
    """Heights of points from wherever the table states, in the site's units."""
    setting = door.transformation
    z: Floats = taken.xyz[:, 2].copy()
    if isinstance(source.heights, HeightFrom):
        if source.heights.level is not None:
            return np.full(len(z), source.heights.level)
        return setting.heights(heights_in(_attribute(source, taken)))
    if source.heights == "text":
        return setting.heights(heights_in(taken.column("text")))
    if source.heights == "text nearby":
        given = setting.heights(heights_in(texts.column("text")))
        numeric = np.flatnonzero(np.isfinite(given))
        reach = source.reach or TEXT_REACH.in_units(door.frame.units)
        pairs = pair_with_texts(taken.xyz[:, :2], np.ascontiguousarray(texts.xyz[numeric, :2]), reach)
        # A height left at zero in the file may have been raised since.
        bare = has_no_height((z - setting.rise) / setting.stretch)
        given_here = given[numeric[pairs.texts]]
        opened.findings += _about_texts(
            opened.name, door.frame.units, taken, texts.take(numeric), pairs, bare, z, given_here
        )
        replaced = bare[pairs.points]
        z[pairs.points[replaced]] = given_here[replaced]
        lone = np.intersect1d(pairs.lone_points, np.flatnonzero(bare))
        z[lone] = taken.xyz[lone, 2]
        opened.notes.append(f"{counted(int(replaced.sum()), 'height')} taken from texts nearby")
    elif source.heights == "own":
        _note_unused_texts(opened, source, taken, texts, door)
    return z


def _note_unused_texts(opened: SourceContents, source: Source, taken: Points, texts: Points, door: Intake) -> None:
    setting = door.transformation
    bare = np.flatnonzero(has_no_height((taken.xyz[:, 2] - setting.rise) / setting.stretch))
    given = heights_in(texts.column("text"))
    numeric = np.flatnonzero(np.isfinite(given) & ~has_no_height(given))
    reach = source.reach or TEXT_REACH.in_units(door.frame.units)
    pairs = pair_with_texts(taken.xyz[bare, :2], np.ascontiguousarray(texts.xyz[numeric, :2]), reach)
    if len(pairs.points):
        row, text = bare[pairs.points[0]], numeric[pairs.texts[0]]
        several = counted(len(pairs.points), "point", "points")
        what = f"{several} without height, each with a text that gives one; the first {given[text]:g} ({opened.name})"
        shots = (taken.shots.describe(int(row)), texts.shots.describe(int(text)))
        opened.findings.append(TEXTS_GIVE_HEIGHTS.finding(_place(taken.xyz, int(row)), what, shots))


def _attribute(source: Source, points: Points) -> np.ndarray:
    name = (source.heights.attribute or "") if isinstance(source.heights, HeightFrom) else ""
    if name not in points.columns:
        names = ", ".join(sorted(points.columns)) or "none"
        raise DataError(f"{source.file}: no attribute {name!r}. Known here: {names}")
    return points.columns[name]


def set_heights(opened: SourceContents, source: Source, points: Points, z: Floats, units: str) -> None:
    """Correct heights by point number or place; report what fits no point, or several."""
    for correction in source.set_height:
        if correction.at is not None:
            distances = np.hypot(*(points.xyz[:, :2] - np.array(correction.at)).T)
            rows = np.flatnonzero(distances == distances.min(initial=EDIT_REACH.in_units(units)))
            named = f"a point at {correction.at[0]:.2f}, {correction.at[1]:.2f}"
        else:
            rows = np.flatnonzero(points.shots.numbers == correction.number)
            named = f"point {correction.number}"
        if len(rows) == 1:
            z[rows] = correction.to
            continue
        count = "there is none" if not len(rows) else f"there are {len(rows)}"
        what = f"set_height to {correction.to:.3f} was not applied: it names {named}, and {count} ({source.title})"
        opened.findings.append(SET_HEIGHT_UNMET.finding(correction.at, what))


def _about_texts(
    name: str, units: str, points: Points, texts: Points, pairs: TextPairs, bare: Flags, z: Floats, given: Floats
) -> list[Finding]:
    """Report heights taken from texts, and texts and points without a partner."""
    findings = []
    agree = HEIGHTS_AGREE.in_units(units)
    for row, text, height in zip(pairs.points.tolist(), pairs.texts.tolist(), given.tolist(), strict=True):
        distance = float(np.hypot(*(points.xyz[row, :2] - texts.xyz[text, :2])))
        shots = (points.shots.describe(row), texts.shots.describe(text))
        if bare[row]:
            what = f"height {height:.3f} {units} taken from the text {distance:.2f} {units} away ({name})"
            findings.append(HEIGHT_FROM_TEXT.finding(_place(points.xyz, row), what, shots))
        elif abs(z[row] - height) > agree:
            what = f"height {z[row]:.3f} {units}; the text {distance:.2f} {units} away gives {height:.3f}. It was kept"
            findings.append(TEXT_DISAGREES.finding(_place(points.xyz, row), what, shots))
    for row in pairs.lone_points[bare[pairs.lone_points]].tolist():
        what = f"no height, and no text that gives one within reach ({name})"
        findings.append(HEIGHT_MISSING.finding(_place(points.xyz, row), what, (points.shots.describe(row),)))
    for row in pairs.lone_texts.tolist():
        what = f"the text {texts.column('text')[row]!r} has no point beside it ({name})"
        findings.append(TEXT_WITHOUT_POINT.finding(_place(texts.xyz, row), what, (texts.shots.describe(row),)))
    return findings


def _place(xyz: Floats, row: int) -> tuple[float, float]:
    return float(xyz[row, 0]), float(xyz[row, 1])
