"""How large things are in a drawing, and whether they can be so large in a unit."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from evrin.base.tolerances import FILE_METRES
from evrin.survey.contents import TEXT, Contents
from evrin.survey.heights import heights_in, pair_with_texts

# In metres: what is drawn for a site is within these. Letters are 1 to 5 mm high on plans at 1:50 to 1:5000.
_WIDTHS, _LETTERS, _INTERVALS = (5.0, 300_000.0), (0.05, 30.0), (0.045, 200.0)
_FEWEST_LEVELS, _FEWEST_TEXTS = 3, 3
# Heights are written in metres or feet, never in these.
_NEVER_WRITTEN = ("in", "mm", "cm", "dm", "km")
_BESIDE = 6.0


class DrawnSizes(NamedTuple):
    """Sizes in the unit of a drawing, NaN where it shows none.

    Attributes
    ----------
    width : float
        The longer side of what holds nearly all of it.
    letters : float
        How high the letters of its texts usually are.
    interval : float
        What its contours usually differ by.
    written : bool
        Whether heights are written beside points that have them, as the same numbers.
    """

    width: float
    letters: float
    interval: float
    written: bool

    @classmethod
    def of(cls, contents: Contents) -> DrawnSizes:
        """Measure what a drawing holds."""
        places = [contents.points.xyz, *(line.xyz for line in contents.lines)]
        places += [surface.vertices for surface in contents.surfaces]
        xy = np.concatenate([np.empty((0, 3)), *places])[:, :2]
        width = float(np.ptp(np.quantile(xy, [0.02, 0.98], axis=0), axis=0).max()) if len(xy) > 2 else np.nan
        return cls(width, _letters(contents), _interval(contents), _are_heights_written(contents))

    def contradict(self, unit: str) -> list[str]:
        """Return what speaks against a unit, in words; nothing where nothing does."""
        metres = FILE_METRES[unit]
        out = []
        for size, (least, most), words in (
            (self.width, _WIDTHS, "the drawing is {size} m wide"),
            (self.letters, _LETTERS, "its letters are {size} m high"),
            (self.interval, _INTERVALS, "its contours are {size} m apart"),
        ):
            if not np.isnan(size) and not least <= size * metres <= most:
                out.append(words.format(size=f"{size * metres:,.3g}"))
        if self.written and unit in _NEVER_WRITTEN:
            out.append("its heights are written beside its points in the same numbers")
        return out

    @property
    def prove_nothing(self) -> bool:
        """Whether neither letters nor contours show what is drawn how large."""
        return bool(np.isnan(self.letters) and np.isnan(self.interval))


def likely_unit(sizes: DrawnSizes, hinted: str) -> str:
    """Return the unit that sizes do not speak against: that of the header first, then feet for inches, else metres.

    Inches have to be proved: hardly any survey is drawn in them, and new drawings state them unless they are told not
    to.

    Examples
    --------
    >>> likely_unit(DrawnSizes(width=1200.0, letters=4.0, interval=1.0, written=False), "in")
    'ft'
    >>> likely_unit(DrawnSizes(width=180_000.0, letters=500.0, interval=500.0, written=False), "mm")
    'mm'
    """
    others = ("ft", "m") if hinted in ("in", "ft", "ftUS") else ("m", "ft")
    units = others if hinted == "in" and sizes.prove_nothing else (hinted, *others)
    return next((unit for unit in units if not sizes.contradict(unit)), hinted)


def _letters(contents: Contents) -> float:
    texts = contents.points.column("letter_height", 0.0)
    heights = [float(height) for height in texts.tolist() if isinstance(height, float) and height > 0.0]
    return float(np.median(heights)) if heights else np.nan


def _interval(contents: Contents) -> float:
    levels = {
        round(float(line.xyz[0, 2]), 6)
        for line in contents.lines
        if len(line.xyz) > 2 and np.isfinite(line.xyz[0, 2]) and np.ptp(line.xyz[:, 2]) == 0.0 and line.xyz[0, 2] != 0.0
    }
    return float(np.median(np.diff(sorted(levels)))) if len(levels) >= _FEWEST_LEVELS else np.nan


def _are_heights_written(contents: Contents) -> bool:
    """Whether texts give the heights of points near them in the drawing's own unit."""
    points = contents.points
    is_text = points.column("kind", "point") == TEXT
    solid, texts = points.take(~is_text), points.take(is_text)
    given = heights_in(texts.column("text"))
    numeric = np.flatnonzero(np.isfinite(given) & (given != 0.0))
    if len(solid) < _FEWEST_TEXTS or len(numeric) < _FEWEST_TEXTS:
        return False
    reach = _BESIDE * (_letters(contents) if np.isfinite(_letters(contents)) else 1.0)
    pairs = pair_with_texts(solid.xyz[:, :2], np.ascontiguousarray(texts.xyz[numeric, :2]), reach)
    written, own = given[numeric[pairs.texts]], solid.xyz[pairs.points, 2]
    # Written to a decimal at least, most agree with what they are written beside.
    agrees = np.abs(written - own) <= 0.051
    return bool(agrees.sum() >= _FEWEST_TEXTS and 2 * agrees.sum() > len(agrees))
