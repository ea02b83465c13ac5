"""A profile: the ground line, its heights and chainages in a strip below, its grades along it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

import numpy as np
from matplotlib.figure import Figure

from evrin.base.errors import DataError
from evrin.base.named_values import Row
from evrin.base.wording import signed
from evrin.draw.axes import axes_or_new
from evrin.draw.colours import INK, LINE, MARK, PROFILES
from evrin.draw.datums import Stretch, datum_stretches
from evrin.draw.paper import new_sheet, sheet_paper
from evrin.draw.sheets.sheet import UNIT_NAMES, draw_title_block
from evrin.draw.strips import MOST_ROWS, spaced, strip_height, write_strip

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from evrin.analysis.along.profiles import Profile
    from evrin.kernels import Floats

EXAGGERATIONS = (1, 2, 5, 10, 20, 50, 100)
_BOX = (0.115, 0.945, 0.855)
_FOOT, _LETTERS = 0.115, 7.5
_MOST_STRETCHES = 40
_LABEL_LENGTH, _LEAST_ACROSS = 0.5, 0.16
_GRADE_CHANGE = 1.0


def draw_profile(
    profiles: Mapping[str, Profile], base: float, ax: Axes | None = None, *, stretches: Sequence[Stretch] = ()
) -> Axes:
    """Draw the ground along one line, a surface each.

    Parameters
    ----------
    profiles : mapping of str to Profile
        By name; the first is filled down to *base*.
    base : float
        Height of the lower edge of the drawing.
    ax : Axes, optional
        Where to draw; new axes of pyplot if not given.
    stretches : sequence of Stretch, optional
        Parts of the line with a datum each, drawn as far above the base as they lie above their datum.

    Returns
    -------
    Axes

    Examples
    --------
    >>> import evrin
    >>> field = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]], name="field")
    >>> from matplotlib.figure import Figure
    >>> from evrin.draw import draw_profile
    >>> axes = draw_profile({"field": field.profile([(0, 4), (8, 4)])}, 0.0, Figure().add_subplot())
    """
    axes = axes_or_new(ax)
    first = next(iter(profiles.values()))
    parts = stretches or [Stretch(float(first.bends[0]), float(first.bends[-1]), base)]
    for number, (name, profile) in enumerate(profiles.items()):
        colour = PROFILES[number % len(PROFILES)]
        for k, part in enumerate(parts):
            chainage, heights = _within(profile, part)
            shown = heights - part.datum + base
            label = name if k == 0 else None
            axes.plot(chainage, shown, color=colour, linewidth=1.6, label=label, zorder=4 - number / 10)
            if number == 0:
                axes.fill_between(chainage, shown, base, color=colour, alpha=0.14, linewidth=0, zorder=1)
    for bend in first.bends[1:-1]:
        axes.axvline(float(bend), color=LINE, linewidth=0.8, linestyle=(0, (4, 3)), zorder=2)
    axes.set_ylabel("height")
    axes.grid(axis="y", color=INK, alpha=0.15, linewidth=0.6)
    axes.set_xlim(float(first.bends[0]), float(first.bends[-1]))
    return axes


def _within(profile: Profile, part: Stretch) -> tuple[Floats, Floats]:
    """Rows of a profile within a stretch, with its ends."""
    inside = (profile.chainage > part.start) & (profile.chainage < part.end)
    ends = np.array([part.start, part.end])
    heights = profile.height(ends)
    chainage = np.concatenate((ends[:1], profile.chainage[inside], ends[1:]))
    return chainage, np.concatenate((heights[:1], profile.heights[inside], heights[1:]))


def draw_ordinates(axes: Axes, profile: Profile, stations: Floats, shown: Floats) -> None:
    """Draw a line from the foot of the drawing up to the ground at each station; *shown* is where that is."""
    lowest = axes.get_ylim()[0]
    heights = profile.height(stations)
    for station, height, at in zip(stations.tolist(), heights.tolist(), shown.tolist(), strict=True):
        if np.isfinite(height):
            axes.plot([station, station], [lowest, at], color=INK, linewidth=0.4, alpha=0.45, zorder=2)


def label_grades(axes: Axes, profile: Profile, stretches: Sequence[Stretch], base: float) -> None:
    """Write the grade of each straight stretch above it, along the line drawn, where there is room for it."""
    chainages, _ = profile.changes(_GRADE_CHANGE)
    span = profile.length
    (left, right), (low, high) = axes.get_xlim(), axes.get_ylim()
    box = axes.get_position()
    # How many times steeper the line is on paper than on the ground.
    steeper = (box.height * sheet_paper().height / (high - low)) / (box.width * sheet_paper().width / (right - left))
    for start, end in zip(chainages[:-1].tolist(), chainages[1:].tolist(), strict=True):
        middle = (start + end) / 2.0
        part = next(each for each in stretches if each.end >= middle)
        if not (part.start <= start and end <= part.end):
            continue
        edge = min(1e-6 * span, (end - start) / 4.0)
        from_, to, at = profile.height([start + edge, end - edge, middle]).tolist()
        if not np.isfinite([from_, to, at]).all():
            continue
        grade = (to - from_) / (end - start - 2.0 * edge)
        angle = float(np.degrees(np.arctan(grade * steeper)))
        across = (end - start) / span * box.width * sheet_paper().width
        if across < _LEAST_ACROSS or across / np.cos(np.radians(angle)) < _LABEL_LENGTH:
            continue
        axes.annotate(
            f"{signed(100.0 * grade, 1)} %",
            (middle, max(at, (from_ + to) / 2.0) - part.datum + base),
            xytext=(-4.0 * np.sin(np.radians(angle)), 4.0 * np.cos(np.radians(angle))),
            textcoords="offset points",
            rotation=angle,
            rotation_mode="anchor",
            ha="center",
            va="bottom",
            fontsize=7,
            color=INK,
            zorder=6,
        )


def profile_sheet(
    profiles: Mapping[str, Profile],
    *,
    units: str = "m",
    exaggeration: float | None = None,
    interval: float | None = None,
    name: str = "",
    title: str = "profile",
    credit: str = "",
) -> Figure:
    """Return a profile on one sheet, with its grades, and a strip of ground heights and chainages.

    Where the exaggeration asked for makes the ground higher than the sheet, its datum steps: each stretch is drawn
    above a datum of its own, which is labelled.

    Parameters
    ----------
    profiles : mapping of str to Profile
        By surface name, all along one line.
    units : str
        Unit of all lengths.
    exaggeration : float, optional
        Vertical over horizontal scale; the largest usual one that fits without steps if not given.
    interval : float, optional
        Distance between labelled stations; chosen to be readable if not given.
    name, title, credit : str
        For the title block; the surfaces' names if not given.

    Returns
    -------
    Figure

    Raises
    ------
    DataError
        Where no surface has ground on the line, or the exaggeration is not above 0.

    Examples
    --------
    >>> import evrin
    >>> field = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]], name="field")
    >>> from evrin.draw import profile_sheet
    >>> type(profile_sheet({"field": field.profile([(0, 4), (8, 4)])})).__name__
    'Sheet'
    """
    figure = new_sheet()
    foot = _FOOT + strip_height(min(len(profiles), MOST_ROWS) + 1, _LETTERS) / sheet_paper().height
    box = (_BOX[0], foot, _BOX[2], _BOX[1] - foot)
    axes = figure.add_axes(box)
    first = next(iter(profiles.values()))
    low, high = _heights_of(profiles)
    room = box[3] * sheet_paper().height * first.length / (box[2] * sheet_paper().width)
    asked = chosen_exaggeration(exaggeration, room, max(high - low, 1e-6))
    exaggeration_used, base, stretches = _stepped(list(profiles.values()), asked, room, (low, high))
    span = room / exaggeration_used
    axes.set_ylim(base, base + span)
    draw_profile(profiles, base, axes, stretches=stretches)
    axes.set_ylim(base, base + span)
    _label_heights(axes, units)
    label_grades(axes, first, stretches, base)
    stations = chosen_stations(first, interval)
    named = [("ground" if len(profiles) == 1 else name, ground) for name, ground in profiles.items()]
    datums = np.array([next(each.datum for each in stretches if each.end >= at - 1e-9) for at in stations.tolist()])
    draw_ordinates(axes, first, stations, np.minimum(first.height(stations) - datums, span) + base)
    write_strip(axes, stations, named, f"chainage ({units})", size=_LETTERS)
    if len(stretches) > 1:
        _label_datums(axes, stretches, base, units)
    if len(profiles) > 1:
        axes.legend(fontsize=8, frameon=False, loc="lower right", bbox_to_anchor=(1.0, 1.0), ncols=4, borderaxespad=0.2)
    steps = f"; the datum steps {len(stretches) - 1} times" if len(stretches) > 1 else ""
    facts = [
        f"units: {UNIT_NAMES[units]}",
        f"length {first.length:,.2f} {units}, heights {low:.2f} to {high:.2f}",
        f"vertical exaggeration {exaggeration_used:g}{steps}",
    ]
    if exaggeration_used < asked:
        facts.append(
            f"drawn at {exaggeration_used:g} instead of {asked:g}, at which the datum would step at every turn"
        )
    if len(profiles) > MOST_ROWS:
        facts.append(f"heights of {MOST_ROWS} of {len(profiles)} surfaces are written")
    draw_title_block(figure, name or " and ".join(profiles), title, facts, credit)
    return figure


def _stepped(
    profiles: list[Profile], asked: float, room: float, heights: tuple[float, float]
) -> tuple[float, float, list[Stretch]]:
    """The exaggeration, base and stretches: those asked for, or the largest with few enough steps of the datum."""
    low, high = heights
    lower = [float(step) for step in reversed(EXAGGERATIONS) if step < asked]
    for exaggeration in (asked, *lower, chosen_exaggeration(None, room, max(high - low, 1e-6))):
        span = room / exaggeration
        base = _round_down((low + high) / 2.0 - span / 2.0 if span > 2.5 * (high - low) else low - 0.15 * span, span)
        stretches = datum_stretches(profiles, span, base)
        if len(stretches) <= _MOST_STRETCHES:
            break
    return exaggeration, base, stretches


def _heights_of(profiles: Mapping[str, Profile]) -> tuple[float, float]:
    heights = np.concatenate([profile.heights for profile in profiles.values()])
    heights = heights[np.isfinite(heights)]
    if len(heights) == 0:
        raise DataError("the line is off the surface everywhere, so there is no ground to draw")
    return float(heights.min()), float(heights.max())


def _label_heights(axes: Axes, units: str) -> None:
    axes.set_ylabel(f"height ({units})", fontsize=9)
    axes.tick_params(labelsize=8)
    axes.ticklabel_format(axis="y", style="plain", useOffset=False)


def _label_datums(axes: Axes, stretches: Sequence[Stretch], base: float, units: str) -> None:
    """Label the datum of each stretch at its foot, and divide them; heights on the frame would hold for one only."""
    axes.set_yticks([])
    axes.set_ylabel("")
    room = 0.06 * (stretches[-1].end - stretches[0].start)
    for k, part in enumerate(stretches):
        if k:
            axes.axvline(part.start, color=MARK, linewidth=0.9, linestyle=(0, (2, 2)), zorder=5)
        if part.end - part.start > room:
            label = f"datum {part.datum:g} {units}"
            place = (part.start, base)
            style: Row = {"fontsize": 7, "color": MARK, "ha": "left", "va": "bottom", "zorder": 6}
            axes.annotate(label, place, xytext=(3, 3), textcoords="offset points", **style)


def chosen_exaggeration(asked: float | None, room: float, relief: float) -> float:
    """Return the exaggeration asked for, or the largest usual one that fits."""
    if asked is not None:
        if not (asked > 0.0 and np.isfinite(asked)):
            raise DataError(f"the exaggeration must be above 0; it is {asked:g}")
        return asked
    most = room / (1.25 * relief)
    fitting = [step for step in EXAGGERATIONS if step <= most]
    return float(fitting[-1]) if fitting else most


def _round_down(value: float, span: float) -> float:
    step = 10.0 ** np.floor(np.log10(span)) / 10.0
    return float(np.floor(value / step) * step)


def chosen_stations(profile: Profile, interval: float | None) -> Floats:
    """Stations at the ends, bends and changes of grade, and at an interval, no two so close that labels collide."""
    least = profile.length / 55.0
    start, end = float(profile.bends[0]), float(profile.bends[-1])
    is_free = interval is None
    if interval is None:
        power = 10.0 ** np.floor(np.log10(profile.length / 20.0))
        interval = next(step * power for step in (1.0, 2.0, 5.0, 10.0) if step * power >= profile.length / 25.0)
    if not interval > 0.0:
        raise DataError(f"the interval must be above 0; it is {interval:g}")
    step = max(interval, least)
    regular = np.arange(np.ceil(start / step - 1e-9), np.floor(end / step) + 1.0) * step + 0.0
    turns = profile.changes(_GRADE_CHANGE)[0].tolist()
    others = [*turns, *regular.tolist()] if is_free else [*regular.tolist(), *turns]
    return spaced([start, end, *profile.bends[1:-1].tolist()], others, least)
