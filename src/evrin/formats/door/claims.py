"""What a table or an option states of a file."""

from __future__ import annotations

from pathlib import Path
from typing import NamedTuple

from evrin.base.errors import DataError
from evrin.base.tolerances import FILE_METRES

_KEYS = ("units", "height_units", "crs", "columns", "up", "sheet")
_PARTS = ("layers", "kinds", "codes")
_CHOICES = {"up": ("y", "z"), "sheet": ("top", "bottom")}


class Claim(NamedTuple):
    """What a table or an option states of a file; empty where the file itself counts.

    Attributes
    ----------
    units : str
        ``m``, ``ft``, ``ftUS``, ``mm``, ``cm``, ``dm``, ``km`` or ``in``: of easting and northing, and of heights too
        unless *height_units* is given.
    height_units : str
        Unit of heights.
    crs : str
        Such as ``EPSG:25832``; ``local`` for the site's own system.
    exchanged : bool
        Whether northing comes before easting.
    columns : str or None
        Of delimited text: a letter for each column.
    up : str
        Of a mesh: the axis of heights, ``y`` or ``z``.
    sheet : str
        Of a mesh that covers places more than once: ``top`` or ``bottom``.
    layers, kinds, codes : tuple of str
        Only what is on one of the layers, of one of the kinds, with one of the codes; ``*`` matches anything.

    Examples
    --------
    >>> from evrin.formats import Claim
    >>> path, claim = Claim.parsed("limit.csv,units=ft,exchanged")
    >>> path.name, claim.units, claim.exchanged
    ('limit.csv', 'ft', True)
    """

    units: str = ""
    height_units: str = ""
    crs: str = ""
    exchanged: bool = False
    columns: str | None = None
    up: str = ""
    sheet: str = ""
    layers: tuple[str, ...] = ()
    kinds: tuple[str, ...] = ()
    codes: tuple[str, ...] = ()

    @classmethod
    def parsed(cls, text: str) -> tuple[Path, Claim]:
        """Return the file and the claim of a text such as ``limit.csv,units=ft,exchanged``.

        A file whose name is the whole text is taken literally.

        Parameters
        ----------
        text : str
            A file, and what is stated of it, with commas between.

        Returns
        -------
        path, claim : Path and Claim

        Raises
        ------
        DataError
            For a key or a unit that is not known.

        Examples
        --------
        >>> claim = Claim.parsed("plan.dxf,units=ft,layers=CONT*,layers=INDEX")[1]
        >>> claim.units, claim.layers
        ('ft', ('CONT*', 'INDEX'))
        """
        name, *parts = text.split(",")
        if not parts or Path(text).exists():
            return Path(text), cls()
        keys: dict[str, str | bool] = {}
        chosen: dict[str, tuple[str, ...]] = {}
        for part in parts:
            key, equals, value = part.strip().partition("=")
            if key == "exchanged" and not equals:
                keys[key] = True
            elif key in _KEYS and value:
                keys[key] = value
            elif key in _PARTS and value:
                chosen[key] = (*chosen.get(key, ()), value)
            else:
                raise DataError(
                    f"{text}: {part!r} is not known after a file name. Use units=, height_units=, crs=, columns=, up=, "
                    "sheet=, exchanged, or layers=, kinds= or codes=, which may come again, as in "
                    "limit.csv,units=ft,layers=LIMIT"
                )
        for key in ("units", "height_units"):
            if key in keys and keys[key] not in FILE_METRES:
                raise DataError(f"{text}: {key} must be one of {', '.join(FILE_METRES)}; got {keys[key]!r}")
        for key, choices in _CHOICES.items():
            if key in keys and keys[key] not in choices:
                raise DataError(f"{text}: {key} must be one of {', '.join(choices)}; got {keys[key]!r}")
        return Path(name), cls(**keys, **chosen)  # type: ignore[arg-type]

    @property
    def is_empty(self) -> bool:
        """Whether it states nothing."""
        return self == Claim()
