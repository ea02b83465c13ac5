"""Every default length and tolerance, in metres, with its reason; in a site's own unit where it is used.

Ratios and counts that decide something are beside the code that uses them.
"""

from __future__ import annotations

from typing import NamedTuple

METRES = {"m": 1.0, "ft": 0.3048, "ftUS": 1200.0 / 3937.0}
# Units of files that no site is in.
FILE_METRES = {**METRES, "mm": 0.001, "cm": 0.01, "dm": 0.1, "km": 1000.0, "in": 0.0254}


class Length(NamedTuple):
    """A length in metres, and why it has this value.

    Examples
    --------
    >>> round(Length(0.02, "an example").in_units("ft"), 4)
    0.0656
    """

    metres: float
    reason: str

    def in_units(self, units: str) -> float:
        """Return the length in ``m``, ``ft`` or ``ftUS``."""
        return self.metres / METRES[units]


HEIGHTS_AGREE = Length(0.02, "two careful measurements of one hard point differ by no more")
SHOTS_CLOSE = Length(0.02, "nearer than a pole can be set up twice, so it is one place shot twice")
TEXT_REACH = Length(5.0, "a height is written within a few letters of its point on a plan at 1:500")
SHOT_REACH = Length(0.1, "a line drawn through a shot misses it by no more than its symbol")
DRAWN_THROUGH = Length(0.001, "drawings are written to the millimetre")
ZIGZAG_LEG = Length(0.3, "shots of one line are farther apart than the foot and the top of a kerb")
ZIGZAG = Length(0.015, "a dropped kerb stands this high; careful shots of one edge differ by less")
ZERO_BAND = Length(0.5, "a height that was never set is zero; a target height may have been added to it")
ACCEPTANCE_REACH = Length(1.0, "a finding moves by less when shots near it are corrected")
EDIT_REACH = Length(1.0, "a place read off a map is nearer to what it means")
CUT_REACH = Length(1.0, "a place read off a map is nearer to the line it means")
CURVE_CHORD = Length(0.01, "a drawn curve is kept to the centimetre that it is drawn with")
FIELD_CURVE_CHORD = Length(0.02, "a curve through three shots is known no better than the shots")
WALL_OFFSET = Length(0.01, "the face of a wall leans by too little to be seen in any quantity")
BANK_REACH = Length(20.0, "beyond the bank of a pond or a mill leat the ground is another matter")
SHORE_CLIMB = Length(0.25, "wind, waves and a pole in mud account for less")
FLAT_BANK = Length(0.05, "a bed is drawn in by no more than a shore is shot to")
FLAT_REACH = Length(0.05, "a shot at the water's edge belongs to the shore")
GROUND_CELL = Length(1.0, "the ground filter's coarsest detail")
GROUND_WINDOW = Length(10.0, "half the width of what is bridged or roofed without a wall all round")
WIDEST_OBJECT = Length(150.0, "half the width of the widest hall; what is wider is a plateau")
GROUND_THRESHOLD = Length(0.25, "grass and noise above the bare ground")
REPEATED_GAP = Length(5.0, "one height many times over, so far from the rest, is a placeholder and not a terrace")
BUST_LEAST = Length(0.5, "less than any slip of a target height worth looking for")
DOUBTFUL_EDGE = Length(0.15, "a change of the ground that shows in quarter-metre contours")
HOLLOW_DEPTH = Length(0.2, "shallower hollows are noise of the ground, not a bust")
LOOSE_ENDS = Length(0.01, "ends of edges drawn to one corner miss it by less")
CHANGED = Length(0.001, "a smaller difference does not matter")
HEAP_REACH = Length(60.0, "few heaps have their toe farther from their middle")
SHOT_SPREAD = Length(0.02, "the standard deviation of a height shot on soft ground, or of a cloud's point")
SHARED_SPREAD = Length(0.01, "the standard deviation of what all heights share: station, target height, datum")
SAME_FINDING = Length(0.01, "two builds place one finding within a centimetre")
