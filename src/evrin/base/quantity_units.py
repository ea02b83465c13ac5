"""Units in which volumes, areas and masses are stated, such as cubic yards, acres and tons."""

from __future__ import annotations

from typing import NamedTuple

from evrin.base.errors import DataError

# The length behind each unit, how many of them make it, and how it is written.
_VOLUMES = {"m3": ("m", 1.0, "m³"), "ft3": ("ft", 1.0, "ft³"), "yd3": ("ft", 27.0, "yd³")}
_AREAS = {
    "m2": ("m", 1.0, "m²"),
    "ha": ("m", 1e4, "ha"),
    "ft2": ("ft", 1.0, "ft²"),
    "yd2": ("ft", 9.0, "yd²"),
    "acre": ("ft", 43560.0, "acre"),
}
_MASSES = {"t": "t", "ton": "short ton", "long-ton": "long ton"}
_METRES = {"m": 1.0, "ft": 0.3048, "ftUS": 1200.0 / 3937.0}


class QuantityUnits(NamedTuple):
    """Units of volumes, areas and masses.

    Attributes
    ----------
    volume, area, mass : str
        As they are written.
    volume_factor, area_factor : float
        By which a volume and an area of the surface are multiplied. A mass is a volume times a density for one of
        *volume*.

    Examples
    --------
    >>> units = QuantityUnits.of("yd3,acre,ton", "ft")
    >>> units.volume, round(units.volume_factor * 27.0, 9), round(units.area_factor * 43560.0, 9)
    ('yd³', 1.0, 1.0)
    >>> QuantityUnits.of("", "m").mass
    't'
    """

    volume: str
    area: str
    mass: str
    volume_factor: float
    area_factor: float

    @classmethod
    def of(cls, text: str, units: str) -> QuantityUnits:
        """Return the units that a text names, and for what it does not name those of the surface.

        Parameters
        ----------
        text : str
            Names with commas between: ``m3``, ``ft3`` or ``yd3``; ``m2``, ``ft2``, ``yd2``, ``ha`` or ``acre``; ``t``
            (1000 kg), ``ton`` (2000 lb) or ``long-ton`` (2240 lb).
        units : str
            Of the surface. Feet, yards and acres of a surface in ``ftUS`` are of that foot, otherwise of 0.3048 m.

        Raises
        ------
        DataError
            For a name that is none of these, or two of one kind.
        """
        chosen: dict[str, str] = {}
        kinds: dict[str, list[str]] = {"volume": [*_VOLUMES], "area": [*_AREAS], "mass": [*_MASSES]}
        for name in (part.strip() for part in text.split(",")):
            kind = next((kind for kind, names in kinds.items() if name in names), "")
            if name and not kind:
                known = "; ".join(", ".join(names) for names in kinds.values())
                raise DataError(f"{name!r} is no unit of volumes, areas or masses; known are {known}")
            if kind in chosen:
                raise DataError(f"{chosen[kind]} and {name} are both units of {kind}; give one")
            if name:
                chosen[kind] = name
        foot = units if units in ("ft", "ftUS") else "ft"
        volume, volume_factor = _chosen(chosen.get("volume"), _VOLUMES, units, foot, 3)
        area, area_factor = _chosen(chosen.get("area"), _AREAS, units, foot, 2)
        mass = _MASSES[chosen.get("mass", "t" if units == "m" else "ton")]
        return cls(volume, area, mass, volume_factor, area_factor)


def _chosen(
    name: str | None, known: dict[str, tuple[str, float, str]], units: str, foot: str, power: int
) -> tuple[str, float]:
    if name is None:
        return f"{units}{'²' if power == 2 else '³'}", 1.0
    length, count, written = known[name]
    base = foot if length == "ft" else "m"
    return written, (1.0 if base == units else (_METRES[units] / _METRES[base]) ** power) / count
