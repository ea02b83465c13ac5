"""What was brought in: points and lines, selected, coded and given heights, before anything is triangulated."""

from typing import TYPE_CHECKING

from evrin.lazy import exported

if TYPE_CHECKING:
    from evrin.survey.boreholes import Borehole, Boreholes
    from evrin.survey.codes import CodedLine, CodeRule, CodeTable, Meaning, coded_lines
    from evrin.survey.contents import Line, Lines, Points, Refusal
    from evrin.survey.file_inventory import inventory
    from evrin.survey.line_heights import FittedLine, heights_from_shots
    from evrin.survey.selection import Selection

exported(__name__)


__all__ = [
    "Borehole",
    "Boreholes",
    "CodeRule",
    "CodeTable",
    "CodedLine",
    "FittedLine",
    "Line",
    "Lines",
    "Meaning",
    "Points",
    "Refusal",
    "Selection",
    "coded_lines",
    "heights_from_shots",
    "inventory",
]
