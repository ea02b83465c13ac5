"""What was brought in: points and lines, selected, coded and given heights, before anything is triangulated."""

from typing import TYPE_CHECKING

from evrin.base.exports import loader

if TYPE_CHECKING:
    from evrin.survey.codes import CodedLine, CodeRule, CodeTable, Meaning, coded_lines
    from evrin.survey.contents import Line, Points, Refusal
    from evrin.survey.doubts.height_busts import find_busts
    from evrin.survey.doubts.level_triangles import find_flats, fix_flats
    from evrin.survey.file_inventory import inventory
    from evrin.survey.lines.line_heights import FittedLine, heights_from_shots
    from evrin.survey.selection import Selection

__all__ = [
    "CodeRule",
    "CodeTable",
    "CodedLine",
    "FittedLine",
    "Line",
    "Meaning",
    "Points",
    "Refusal",
    "Selection",
    "coded_lines",
    "find_busts",
    "find_flats",
    "fix_flats",
    "heights_from_shots",
    "inventory",
]

if not TYPE_CHECKING:
    # Each module is loaded when a name of it is first used, so that a command loads what it needs and nothing else.
    __getattr__ = loader(
        __name__,
        {
            "CodeRule": "evrin.survey.codes",
            "CodeTable": "evrin.survey.codes",
            "CodedLine": "evrin.survey.codes",
            "FittedLine": "evrin.survey.lines.line_heights",
            "Line": "evrin.survey.contents",
            "Meaning": "evrin.survey.codes",
            "Points": "evrin.survey.contents",
            "Refusal": "evrin.survey.contents",
            "Selection": "evrin.survey.selection",
            "coded_lines": "evrin.survey.codes",
            "find_busts": "evrin.survey.doubts.height_busts",
            "find_flats": "evrin.survey.doubts.level_triangles",
            "fix_flats": "evrin.survey.doubts.level_triangles",
            "heights_from_shots": "evrin.survey.lines.line_heights",
            "inventory": "evrin.survey.file_inventory",
        },
    )
