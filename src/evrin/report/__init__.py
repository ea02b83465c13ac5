"""Pages that a client can open: the report, and the page to look around on. Each is one file and needs no network."""

from evrin.report.look import look_page, write_look
from evrin.report.pictures import Along
from evrin.report.report import report_page, write_report

__all__ = ["Along", "look_page", "report_page", "write_look", "write_report"]
