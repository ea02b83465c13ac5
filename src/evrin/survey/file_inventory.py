"""What a file holds, kind by kind, and what about it looks wrong, before anything is made of it."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from evrin.base.named_values import Row
from evrin.base.tolerances import FILE_METRES, METRES, TEXT_REACH
from evrin.base.wording import counted
from evrin.kernels import Flags, Floats
from evrin.surface.frame import DEGREES, UNIT_NAMES
from evrin.surface.surface import Surface
from evrin.surface.validity.covering_sheets import closes_no_step
from evrin.surface.validity.faults import folded
from evrin.surface.validity.overlaps import overlap_of, under_others
from evrin.survey.codes import bare_code
from evrin.survey.contents import BLOCK, TEXT, Column, Contents, Line, Points
from evrin.survey.drawn_sizes import DrawnSizes, likely_unit
from evrin.survey.heights import has_no_height, height_attribute, heights_in, pair_with_texts
from evrin.survey.mismatch import Extent, are_geocentric
from evrin.survey.unset_heights import find_unset_heights

if TYPE_CHECKING:
    import pandas as pd

# ASPRS, LAS Specification 1.4 – R15 (2019), table 17.
CLASSES = {
    **{0: "never classified", 1: "unclassified", 2: "ground", 3: "low vegetation", 4: "medium vegetation"},
    **{5: "high vegetation", 6: "building", 7: "low point", 9: "water", 10: "rail", 11: "road surface"},
    **{17: "bridge deck", 18: "high noise"},
}
_NAMED = 4
_FAR, _FEWEST = 3.0, 20
_LARGEST_DEGREES = 360.0
COLUMNS = (
    *("kind", "layer", "code", "count", "vertices", "closed", "west", "south", "east", "north"),
    *("lowest", "highest", "no_height", "at_zero"),
)


@dataclass(frozen=True, eq=False)
class Inventory:
    """What a file holds.

    Attributes
    ----------
    contents : Contents
        What the file holds.
    table : DataFrame
        A row for each kind, layer and code or class: how many things, their vertices, how many are closed, their extent
        and heights, and how many have no height or are at zero.
    looks_wrong : list of str
        What looks wrong about it, in words.
    """

    contents: Contents
    table: pd.DataFrame
    looks_wrong: list[str]

    def rows(self) -> list[Row]:
        """Return the table's rows as plain values, None where there is no number."""
        plain = self.table.astype(object).where(self.table.notna(), None)
        rows: list[Row] = [dict(zip(COLUMNS, row, strict=True)) for row in plain.to_numpy().tolist()]
        for row in rows:
            row["closed"] = None if row["closed"] is None else int(row["closed"])
        return rows


def inventory(contents: Contents) -> Inventory:
    """Count what a file holds, and find what looks wrong.

    Parameters
    ----------
    contents : Contents
        What the file holds.

    Returns
    -------
    Inventory

    Examples
    --------
    >>> from evrin.demo import small_site
    >>> from evrin.formats import look
    >>> from evrin.survey import inventory
    >>> inventory(look(small_site().with_name("shots.csv"), "PNEZD")).looks_wrong
    []
    """
    import pandas as pd

    rows = [*_point_rows(contents.points), *_line_rows(contents.lines), *_surface_rows(contents)]
    table = pd.DataFrame(rows, columns=list(COLUMNS))
    return Inventory(contents, table, list(_looks_wrong(contents)))


def box_of_most(xy: Floats) -> tuple[Floats, Floats] | None:
    """Return the box beyond which places are far away, low and high corner; None for few places."""
    if len(xy) < _FEWEST:
        return None
    low, high = np.quantile(xy, [0.05, 0.95], axis=0)
    margin = _FAR * float((high - low).max())
    return low - margin, high + margin


def is_far_away(xy: Floats) -> Flags:
    """Return which of the places (n, 2) are several extents of nine tenths of them away; of few places none."""
    box = box_of_most(xy)
    if box is None:
        return np.zeros(len(xy), np.bool_)
    far: Flags = np.asarray(((xy < box[0]) | (xy > box[1])).any(axis=1))
    return far


def _measures(xyz: Floats, z: Floats) -> list[float | int]:
    if not len(xyz):
        return [np.nan] * 6 + [0, 0]
    heights = z[np.isfinite(z)]
    low, high = (float(heights.min()), float(heights.max())) if len(heights) else (np.nan, np.nan)
    west, south = xyz[:, :2].min(axis=0).tolist()
    east, north = xyz[:, :2].max(axis=0).tolist()
    return [west, south, east, north, low, high, len(z) - len(heights), int((np.abs(heights) <= 1e-9).sum())]


def _point_rows(points: Points) -> Iterator[list[object]]:
    import pandas as pd

    if not len(points):
        return
    kinds, layers = points.column("kind", "point"), points.column("layer")
    if "class" in points.columns:
        names = {int(k): f"{k} {CLASSES.get(int(k), '')}".strip() for k in np.unique(points.columns["class"])}
        codes: Column = np.array([names[int(k)] for k in points.columns["class"].tolist()], object)
    else:
        each, distinct = pd.factorize(points.shots.codes)
        codes = np.array([bare_code(str(text)) for text in distinct], object)[each]
    frame = pd.DataFrame({"kind": kinds, "layer": layers, "code": codes})
    groups: Mapping[Any, Any] = frame.groupby(["kind", "layer", "code"], sort=True).indices
    for (kind, layer, code), rows in groups.items():
        here = np.asarray(rows)
        xyz = points.xyz[here]
        z = heights_in(points.column("text")[here]) if kind == TEXT else xyz[:, 2]
        yield [kind, layer, code, len(here), len(here), None, *_measures(xyz, z)]


def _line_rows(lines: tuple[Line, ...]) -> Iterator[list[object]]:
    groups: dict[tuple[str, str, str], list[Line]] = {}
    for line in lines:
        layer = str(line.facts.get("layer", ""))
        code = str(line.shots.codes[0]) if len(line.shots) else ""
        kind = str(line.facts.get("kind", "line"))
        groups.setdefault((kind, layer, "" if code in (layer, line.name) else code), []).append(line)
    for (kind, layer, code), group in sorted(groups.items()):
        xyz = np.concatenate([line.xyz for line in group])
        closed = sum(line.closed for line in group)
        yield [kind, layer, code, len(group), len(xyz), closed, *_measures(xyz, xyz[:, 2])]


def _surface_rows(contents: Contents) -> Iterator[list[object]]:
    for surface in contents.surfaces:
        count, vertices = len(surface.triangles), surface.vertices
        yield ["triangles", surface.name, "", count, len(vertices), None, *_measures(vertices, vertices[:, 2])]
    for grid in contents.grids:
        xyz, _ = grid.points()
        measures = _measures(xyz, xyz[:, 2])
        measures[6] = int((~grid.has_height).sum())
        yield ["cells", grid.name, "", grid.heights.size, len(xyz), None, *measures]


def _looks_wrong(contents: Contents) -> Iterator[str]:
    yield from contents.doubts
    yield from _refusals(contents)
    stated = contents.stated.height_units or contents.stated.units
    yield from _unset_heights(contents.points, stated if stated in METRES else "m")
    yield from _lines_without_heights(contents.lines)
    yield from _about_meshes(contents)
    yield from _about_unit(contents)
    every = all_places(contents)
    if len(every) > 2 and not contents.stated.crs and Extent.of(every).is_in_degrees:
        yield "the coordinates look like longitude and latitude in degrees"
    if are_geocentric(every):
        yield "the coordinates are geocentric: counted from the centre of the earth, not on a plane"
    yield from _beyond_degrees(contents, every)
    yield from _far_away(every, contents.points)
    classes = contents.points.columns.get("class")
    if classes is not None and len(np.unique(classes)) == 1 and int(classes[0]) < 2:
        yield "the cloud has no classes; to take the ground alone, state ground_filter = {} in its source"
    yield from _repeated(contents.points)


def _about_unit(contents: Contents) -> Iterator[str]:
    """What the unit in the header of a drawing would make of its sizes."""
    hinted = contents.stated.hinted_units
    if not contents.form.startswith("DXF"):
        return
    sizes = DrawnSizes.of(contents)
    against = sizes.contradict(hinted or "m")
    stated = f"the file states {UNIT_NAMES[hinted]}" if hinted else "the file states no unit"
    if against:
        likely = likely_unit(sizes, hinted or "m")
        more = f"; {UNIT_NAMES[likely]} are likelier" if likely != (hinted or "m") else ""
        in_unit = "in it" if hinted else "in metres"
        yield f"{stated}, and {in_unit} {'; '.join(against)}{more}"
    elif hinted not in ("", "m"):
        width = sizes.width * FILE_METRES[hinted]
        size = f"; in it the drawing is {width:,.1f} m wide" if np.isfinite(width) else ""
        yield f"{stated}, and headers of this format are often wrong{size}"


def _beyond_degrees(contents: Contents, places: Floats) -> Iterator[str]:
    if contents.stated.units == DEGREES and len(places) and float(np.abs(places[:, :2]).max()) > _LARGEST_DEGREES:
        x, y = places[int(np.argmax(np.abs(places[:, :2]).max(axis=1))), :2].tolist()
        yield (
            f"the file states longitude and latitude in degrees, and has a place at {x:,.1f}, {y:,.1f}: its "
            "coordinates are those of a plane system. State that system, as in crs=EPSG:25832"
        )


def all_places(contents: Contents) -> Floats:
    """Return every place (n, 3) that a file holds, heights as in its geometry."""
    parts = [contents.points.xyz, *(line.xyz for line in contents.lines)]
    parts += [surface.vertices for surface in contents.surfaces]
    parts += [grid.points()[0] for grid in contents.grids]
    return np.concatenate([np.empty((0, 3)), *parts])


def _refusals(contents: Contents) -> Iterator[str]:
    count = sum(refusal.count for refusal in contents.refused)
    if count:
        shown = "; ".join(f"{refusal.where}: {refusal.reason}" for refusal in contents.refused[:_NAMED])
        more = f"; and {count - _NAMED:,} more" if count > _NAMED else ""
        yield f"{counted(count, 'item')} cannot be used: {shown}{more}"


_UNSET = {
    "zero": "at or near zero height",
    "no-data": "at {height:g}, a value for no data",
    "repeated": "all at the same height {height:g}",
}


def _unset_heights(points: Points, units: str) -> Iterator[str]:
    is_text = points.column("kind", "point") == TEXT
    solid, texts = points.take(~is_text), points.take(is_text)
    for unset in find_unset_heights(solid.xyz[:, 2], units):
        rows = unset.rows
        named = ", ".join(solid.shots.describe(row) for row in rows[:_NAMED].tolist())
        more = f" and {len(rows) - _NAMED:,} more" if len(rows) > _NAMED else ""
        several = counted(len(rows), "item is", "items are")
        yield f"{several} {_UNSET[unset.kind].format(height=unset.height)}, far from the rest: {named}{more}"
    bare = has_no_height(solid.xyz[:, 2])
    if len(solid) > 2 and bare.all():
        yield f"{counted(len(solid), 'item is', 'items are')} without height: each is at zero or has none"
    marked = solid.take(bare & (solid.column("kind", "point") == BLOCK))
    if attribute := height_attribute(marked.columns):
        several = counted(len(marked), "block has", "blocks have")
        how = f'heights = {{ attribute = "{attribute}" }}'
        yield f"{several} no height but an attribute that gives one. To take it, state {how}"
    yield from _texts_beside(solid, texts, bare)


def _texts_beside(solid: Points, texts: Points, bare: Flags) -> Iterator[str]:
    given = heights_in(texts.column("text"))
    numeric = np.flatnonzero(np.isfinite(given))
    if len(numeric) and not len(solid):
        several = counted(len(numeric), "text gives", "texts give")
        yield f'{several} heights, and there is no point. To take them, state heights = "text"'
    pairs = pair_with_texts(solid.xyz[:, :2], np.ascontiguousarray(texts.xyz[numeric, :2]), TEXT_REACH.metres)
    names = [
        f"{given[numeric[text]]:g} beside {solid.shots.describe(row)}"
        for row, text in zip(pairs.points.tolist(), pairs.texts.tolist(), strict=True)
        if bare[row]
    ]
    if names:
        yield (
            f"{counted(len(names), 'item without height has', 'items without height have')} a number close by: "
            f"{', '.join(names[:_NAMED])}{', …' if len(names) > _NAMED else ''}. "
            'To take it, state heights = "text nearby"'
        )


def _about_meshes(contents: Contents) -> Iterator[str]:
    if contents.is_y_up:
        yield 'the faces look along the second axis: heights seem to be there. To turn it, state up = "y"'
        return
    for surface in () if contents.is_loose else contents.surfaces:
        yield from _about_overlaps(surface)
    for surface in contents.surfaces if contents.is_loose else ():
        loose = int(closes_no_step(surface).sum())
        if loose:
            faces = counted(loose, "upright face closes", "upright faces close")
            yield f"{surface.name}: {faces} no step; a surface is read without"
        covering = under_others(surface)
        if covering:
            several = counted(covering, "triangle has", "triangles have")
            yield (
                f"{surface.name} covers places more than once: {several} another above. For one of its sheets, state "
                'sheet = "top" or "bottom"'
            )


def _about_overlaps(surface: Surface) -> Iterator[str]:
    overlap = overlap_of(surface)
    if overlap is not None:
        x, y = overlap.place
        several = counted(overlap.triangles, "triangle shares", "triangles share")
        yield f"{surface.name}: {several} ground with another, up to {overlap.width:.2f} wide, at {x:.2f}, {y:.2f}"
    rows = folded(surface)
    if len(rows):
        x, y = surface.vertices[surface.triangles[rows[0]], :2].mean(axis=0).tolist()
        several = counted(len(rows), "triangle lies", "triangles lie")
        yield f"{surface.name}: {several} over the ground beside, at {x:.2f}, {y:.2f}"


def _lines_without_heights(lines: tuple[Line, ...]) -> Iterator[str]:
    groups: dict[str, list[bool]] = {}
    for line in lines:
        label = str(line.facts.get("layer", "")) or "lines"
        groups.setdefault(label, []).append(bool(has_no_height(line.xyz[:, 2]).all()))
    any_high = any(not flat for flags in groups.values() for flat in flags)
    for label, flags in groups.items():
        if sum(flags) and (any_high or sum(flags) < len(flags)):
            yield f"{label}: {sum(flags)} of {counted(len(flags), 'line')} in plan only, at zero or without height"


def _far_away(xyz: Floats, points: Points) -> Iterator[str]:
    far = is_far_away(xyz[:, :2])
    if far.any():
        rows = [row for row in np.flatnonzero(far).tolist() if row < len(points)]
        named = f": {', '.join(points.shots.describe(row) for row in rows[:_NAMED])}" if rows else ""
        yield f"{counted(int(far.sum()), 'place lies', 'places lie')} far from all the rest{named}"


def _repeated(points: Points) -> Iterator[str]:
    import pandas as pd

    solid = points.xyz[points.column("kind", "point") != TEXT]
    again = int(pd.DataFrame(solid[:, :2]).duplicated().sum())
    if again:
        yield f"{counted(again, 'point is', 'points are')} at the same place as another"


def record(inventory: Inventory) -> Mapping[str, object]:
    """Return what a file states of itself, notes and what looks wrong, as plain values; see `Inventory.rows`."""
    contents = inventory.contents
    return {
        "file": contents.file,
        "form": contents.form,
        "units": contents.stated.units or contents.stated.hinted_units or None,
        "height_units": contents.stated.height_units or None,
        "crs": contents.stated.crs or None,
        "notes": list(contents.notes),
        "looks_wrong": inventory.looks_wrong,
    }
