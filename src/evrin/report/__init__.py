"""Pages that a client can open: the report, and the viewer page. Each is one file and needs no network."""

from typing import TYPE_CHECKING

from evrin.lazy import exported

if TYPE_CHECKING:
    from evrin.report.report_page import report_page, write_report
    from evrin.report.report_pictures import Along
    from evrin.report.viewer_page import look_page, write_look

exported(__name__)


__all__ = ["Along", "look_page", "report_page", "write_look", "write_report"]
