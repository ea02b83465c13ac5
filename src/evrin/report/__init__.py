"""Pages that a client can open: the report, and the viewer page. Each is one file and needs no network."""

from typing import TYPE_CHECKING

from evrin.base.exports import loader

if TYPE_CHECKING:
    from evrin.report.report_pictures import Along
    from evrin.report.surface_report import report_page
    from evrin.report.viewer_page import look_page, write_look

__all__ = [
    "Along",
    "look_page",
    "report_page",
    "write_look",
]

if not TYPE_CHECKING:
    # Each module is loaded when a name of it is first used, so that a command loads what it needs and nothing else.
    __getattr__ = loader(
        __name__,
        {
            "Along": "evrin.report.report_pictures",
            "look_page": "evrin.report.viewer_page",
            "report_page": "evrin.report.surface_report",
            "write_look": "evrin.report.viewer_page",
        },
    )
