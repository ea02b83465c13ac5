"""Features with attributes, as any GIS format has them: points, lines, rings and triangles."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from evrin.formats.door.reference_systems import system_in, units_of
from evrin.kernels import Floats, Indices
from evrin.making.shared_vertices import welded
from evrin.surface.line_edges import with_edges_of_lines
from evrin.surface.provenance import Shots
from evrin.surface.surface import SourceLine, Surface
from evrin.surface.validity.covering_sheets import without_skirts
from evrin.survey.contents import POINT, Contents, Line, Points, Refusal, Value

PLACE, PATH, RING = 0, 1, 2
_SURFACE_FIELDS = ("surface", "about", "state", "colour", "units")
_EFFECTS = ("breakline", "contour", "flat", "keep", "cut")
_NAME_FIELDS = ("name", "line", "string")
_CODE_FIELDS = ("code", "feature", "description")
_NUMBER_FIELDS = ("number", "point", "id")
_LARGEST = 1e12


@dataclass(eq=False)
class FeatureLayer:
    """One layer of a file.

    Attributes
    ----------
    file, name, crs : str
        Of the file, of the layer, and its reference system.
    fields : dict of str to (f,) array
        Attributes by name, an entry a feature.
    kind : (p,) int8
        Of each part of a feature: PLACE, PATH or RING. A polygon has a RING for its outline, and one for each hole.
    feature : (p,) int64
        The feature that each part is of, from 0.
    polygon : (p,) int64
        Parts of one polygon have one number.
    starts : (p + 1,) int64
        Where the coordinates of each part begin.
    xyz : (n, 3) float64
        NaN for a height that is not given.
    refused : list of Refusal
        Features that cannot be used.
    notes : list of str
        What the reader guessed or ignored.
    """

    file: str
    name: str
    crs: str
    fields: dict[str, np.ndarray]
    kind: NDArray[np.int8]
    feature: Indices
    polygon: Indices
    starts: Indices
    xyz: Floats
    refused: list[Refusal] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)

    def where(self, row: int) -> str:
        """Name a feature, counted from 1."""
        return f"{self.file} feature {row + 1}"

    def _field(self, names: Sequence[str], row: int) -> str:
        for key, values in self.fields.items():
            if key.lower() in names and values[row] is not None and values[row] == values[row]:
                return str(values[row])
        return ""

    def _values(self, row: int) -> dict[str, Value]:
        values: dict[str, Value] = {}
        for key, column in self.fields.items():
            value = column[row].item() if isinstance(column[row], np.generic) else column[row]
            values[key] = value if isinstance(value, (int, float, str)) else "" if value is None else str(value)
        return values

    def attributes(self) -> list[str]:
        """Name its attributes, those that are numbers with their range."""
        attributes = []
        for key, values in self.fields.items():
            numbers = values[np.isfinite(values)] if values.dtype.kind in "iuf" else np.empty(0)
            attributes.append(f"{key} ({numbers.min():g} to {numbers.max():g})" if len(numbers) else key)
        return [f"layer {self.name} has the attributes {', '.join(attributes)}"] if attributes else []

    def points(self) -> Points:
        """Return its points, attribute by attribute."""
        chosen = np.flatnonzero(self.kind == PLACE)
        if not len(chosen):
            return Points.none()
        xyz = self.xyz[self.starts[chosen]]
        good = self._usable(xyz, self.feature[chosen])
        chosen, xyz = chosen[good], xyz[good]
        rows = self.feature[chosen].tolist()
        numbers, codes = (
            np.array([self._field(names, row) for row in rows], object) for names in (_NUMBER_FIELDS, _CODE_FIELDS)
        )
        shots = Shots.of_file(self.file, np.array(rows, np.int64) + 1, numbers, codes, "feature")
        columns = {key: values[rows] for key, values in self.fields.items()}
        columns |= {"layer": np.full(len(rows), self.name, object), "kind": np.full(len(rows), POINT, object)}
        return Points(xyz, shots, columns=columns)

    def _usable(self, xyz: Floats, feature: np.ndarray) -> np.ndarray:
        good = np.isfinite(xyz[:, :2]).all(axis=1) & ~np.isinf(xyz[:, 2])
        good &= (np.abs(np.nan_to_num(xyz)) <= _LARGEST).all(axis=1)
        for row in feature[~good].tolist():
            self.refused.append(Refusal(self.where(row), "a coordinate is not finite or far too large"))
        return np.flatnonzero(good)

    def lines(self) -> list[Line]:
        """Return its lines and rings."""
        strands = [self._line(part) for part in np.flatnonzero(self.kind != PLACE).tolist()]
        return [line for line in strands if line is not None]

    def _line(self, part: int) -> Line | None:
        row = int(self.feature[part])
        xyz = self.xyz[self.starts[part] : self.starts[part + 1]]
        if len(self._usable(xyz, np.full(len(xyz), row))) < len(xyz):
            return None
        closed = len(xyz) > 3 and bool((xyz[0, :2] == xyz[-1, :2]).all())
        xyz = xyz[:-1] if closed else xyz
        name = self._field(_NAME_FIELDS, row) or f"{self.name} {row + 1}"
        code = self._field(_CODE_FIELDS, row) or name
        shots = Shots.of_file(self.file, np.full(len(xyz), row + 1), "", code, "feature")
        values = {**self._values(row), "layer": self.name, "kind": "polygon" if self.kind[part] == RING else "line"}
        return Line(name, xyz, shots, closed, values)

    def surface(self, crs: str) -> Surface | None:
        """Return its polygons as a surface, where all of them are triangles with heights."""
        if not len(self.kind) or not (self.kind == RING).all() or not (np.diff(self.starts) == 4).all():
            return None
        if len(np.unique(self.polygon)) < len(self.polygon):
            return None
        corners = self.xyz.reshape(-1, 4, 3)[:, :3]
        if not np.isfinite(corners).all():
            return None
        stated = {key: self._field((key,), int(self.feature[0])) for key in _SURFACE_FIELDS}
        # One triangle alone is an area, unless it states that it is of a surface.
        if len(self.kind) < 2 and not stated["surface"]:
            return None
        named = {"name": stated["surface"] or self.name, "kind": stated["state"] or "existing"}
        named["description"] = stated["about"]
        units = stated["units"] if stated["units"] in ("m", "ft", "ftUS") else units_of(crs) or "m"
        surface, _, dropped = welded(corners, **named, units=units, crs=crs or "local", colour=stated["colour"])
        if dropped:
            self.notes.append(f"{dropped} triangles with two equal corners ignored")
        # An upright polygon has no inside: a format may turn it as it likes.
        return without_skirts(surface)


def contents_of(path: Path, form: str, layers: Sequence[FeatureLayer], notes: Sequence[str] = ()) -> Contents:
    """Return what layers of features hold: a layer of triangles with heights as a surface, the rest unchanged."""
    stated = system_in(next((layer.crs for layer in layers if layer.crs), ""))
    crs = stated.crs
    layer_surfaces = [(layer, layer.surface(crs)) for layer in layers]
    surfaces = tuple(surface for _, surface in layer_surfaces if surface is not None)
    flat = [layer for layer, surface in layer_surfaces if surface is None]
    points = Points.joined([layer.points() for layer in flat]) if flat else Points.none()
    lines = tuple(line for layer in flat for line in layer.lines())
    if len(surfaces) == 1:
        surfaces = (_with_own_lines(surfaces[0], lines),)
    layer_notes = [note for layer in flat for note in layer.attributes()]
    layer_notes += [note for layer in layers for note in layer.notes]
    return Contents(
        file=path.name,
        form=f"{form}, {', '.join(layer.name for layer in layers)}",
        points=points,
        lines=lines,
        surfaces=surfaces,
        grids=(),
        refused=tuple(refusal for layer in layers for refusal in layer.refused),
        notes=(*layer_notes, *notes),
        stated=stated,
    )


def _with_own_lines(surface: Surface, lines: Sequence[Line]) -> Surface:
    """A surface with the lines that its file holds beside it and that state what they do to it."""
    own = [
        SourceLine(
            name=line.name,
            points=line.xyz,
            closed=line.closed,
            effect=str(line.facts["effect"]),
            where=line.shots.span(),
            description=str(line.facts.get("about", "")),
        )
        for line in lines
        if line.facts.get("effect") in _EFFECTS
    ]
    ordered = tuple(sorted(own, key=lambda line: line.is_ring))
    return with_edges_of_lines(surface.with_lines(ordered, surface.provenance)) if own else surface


def triangle_fields(surface: Surface) -> dict[str, np.ndarray]:
    """Return the attributes that every triangle of a surface is written with."""
    count = len(surface.triangles)
    return {
        "surface": np.full(count, surface.name, object),
        "about": np.full(count, surface.description, object),
        "state": np.full(count, surface.kind, object),
        "colour": np.full(count, surface.colour, object),
        "units": np.full(count, surface.units, object),
    }
