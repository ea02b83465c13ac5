"""How large a sheet is, and at how many dots an inch a picture of it is saved."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass

from matplotlib.backend_bases import RendererBase
from matplotlib.figure import Figure
from matplotlib.text import Text

from evrin.base.errors import DataError
from evrin.base.wording import literal

_MM = 25.4
_FORMATS = {"A4": (297.0, 210.0), "A3": (420.0, 297.0), "A2": (594.0, 420.0), "A1": (841.0, 594.0)}
_SMALLEST, _LARGEST = (280.0, 175.0), 2000.0
_DOTS = (30, 1200)
_MOST_PIXELS = 200_000_000


@dataclass(frozen=True)
class Paper:
    """A sheet: width and height in inches, and dots an inch."""

    width: float = 12.8
    height: float = 8.0
    dpi: int = 100

    @property
    def size(self) -> tuple[float, float]:
        """Width and height in inches."""
        return self.width, self.height


_USUAL = Paper()
_PAPER: ContextVar[Paper | None] = ContextVar("paper", default=None)


def sheet_paper() -> Paper:
    """Return what sheets are drawn on now."""
    return _PAPER.get() or _USUAL


class Sheet(Figure):
    """A figure whose texts are literal: a name with dollar signs is a name, not a formula."""

    def draw(self, renderer: RendererBase) -> None:
        """Draw, every text literally."""
        for text in self.findobj(Text):
            if isinstance(text, Text):
                text.set_parse_math(False)
                text.set_text(literal(text.get_text()))
        super().draw(renderer)


def new_sheet() -> Sheet:
    """Return an empty sheet of the paper that is drawn on now."""
    now = sheet_paper()
    return Sheet(figsize=now.size, dpi=now.dpi)


@contextmanager
def paper(size: str = "", dpi: int = 100) -> Iterator[Paper]:
    """Draw sheets on other paper.

    Parameters
    ----------
    size : str
        ``A4`` to ``A1``, lying, or width and height in millimetres, as in ``325x203``; as usual if empty.
    dpi : int
        Dots an inch.

    Raises
    ------
    DataError
        If the size is not valid, too small for the texts of a sheet, or would make a picture of absurdly many dots.

    Examples
    --------
    >>> with paper("A3", 200) as sheet:
    ...     print(round(sheet.width * sheet.dpi), round(sheet.height * sheet.dpi))
    3307 2339
    """
    width, height = _inches(size) if size else _USUAL.size
    if not _DOTS[0] <= dpi <= _DOTS[1]:
        raise DataError(f"a picture has {_DOTS[0]} to {_DOTS[1]} dots an inch; got {dpi}")
    if width * height * dpi**2 > _MOST_PIXELS:
        raise DataError(
            f"{size or 'the sheet'} at {dpi} dots an inch is a picture of {width * height * dpi**2 / 1e6:,.0f} million "
            f"dots; at most {_MOST_PIXELS / 1e6:,.0f} million are drawn. Take fewer dots, or write a .pdf"
        )
    sheet = Paper(width, height, dpi)
    token = _PAPER.set(sheet)
    try:
        yield sheet
    finally:
        _PAPER.reset(token)


def _inches(size: str) -> tuple[float, float]:
    if size.upper() in _FORMATS:
        width, height = _FORMATS[size.upper()]
    else:
        try:
            width, height = (float(side) for side in size.lower().replace("×", "x").split("x"))
        except ValueError as error:
            formats = ", ".join(_FORMATS)
            raise DataError(f"{size!r} is not a size of a sheet. Use {formats}, or mm as in 325x203") from error
    if not (_SMALLEST[0] <= width <= _LARGEST and _SMALLEST[1] <= height <= _LARGEST):
        least = f"{_SMALLEST[0]:g} x {_SMALLEST[1]:g}"
        raise DataError(f"a sheet of {width:g} x {height:g} mm: at least {least} mm and at most {_LARGEST:g} mm a side")
    return width / _MM, height / _MM
