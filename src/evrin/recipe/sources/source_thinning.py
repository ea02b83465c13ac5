"""Filtering a cloud to its ground and thinning it, as a source asks for."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from evrin.base.named_values import Row
from evrin.base.wording import counted
from evrin.recipe.sources.source_contents import SourceContents
from evrin.recipe.sources.source_table import GroundFilter, Source
from evrin.surface.frame import Frame
from evrin.survey.cloud.cell_thinning import thinned_by_cell
from evrin.survey.cloud.ground_filter import FilterSizes, filter_sizes, is_ground
from evrin.survey.cloud.tolerance_thinning import thinned_by_tolerance
from evrin.survey.contents import Points


def take_parts(opened: SourceContents, source: Source, parts: Iterable[Points], frame: Frame) -> None:
    """Filter and thin what comes in, where the table asks for it."""
    thin, ground = source.thin, source.ground_filter
    if ground is not None:
        whole = Points.joined(list(parts))
        if len(whole):
            given: Row = {"slope": ground.slope, "units": frame.units}
            sizes = filter_sizes(whole.xyz, cell=ground.cell, window=ground.window, **given)
            given |= {"threshold": ground.threshold, "scale": ground.scale}
            ground_points = is_ground(whole.xyz, cell=sizes.cell, window=sizes.window, **given)
            opened.left_out += int((~ground_points).sum())
            opened.notes.append(f"{counted(int((~ground_points).sum()), 'point')} classified as non-ground")
            opened.notes.append(_about_sizes(sizes, frame.units, ground))
            whole = whole.take(ground_points)
        parts = [whole]
    if thin is not None and thin.cell is not None:
        points = _counted_thinning(opened, parts, thin.cell, thin.pick, frame)
    else:
        points = Points.joined(list(parts))
    if thin is not None and thin.tolerance is not None and len(points):
        thinned = thinned_by_tolerance(points.xyz, thin.tolerance)
        opened.thinned += int((~thinned.kept).sum())
        opened.notes.append(
            f"{counted(int(thinned.kept.sum()), 'point')} represent the cloud within {thinned.worst:.3f} {frame.units} "
            f"(measured on all {len(points):,}; tolerance {thin.tolerance:g} {frame.units})"
        )
        points = points.take(thinned.kept)
    opened.points = points


def _about_sizes(sizes: FilterSizes, units: str, table: GroundFilter) -> str:
    by_default = [name for name, value in (("cell", table.cell), ("window", table.window)) if value is None]
    how = f"; {' and '.join(by_default)} chosen from the cloud" if by_default else ""
    widest = f", widest object {2.0 * sizes.widest:.0f} {units}" if sizes.widest else ""
    return f"ground filter: cell {sizes.cell:g} {units}, window {sizes.window:.1f} {units}{how}{widest}"


def _counted_thinning(opened: SourceContents, parts: Iterable[Points], cell: float, pick: str, frame: Frame) -> Points:
    came = 0

    def counting() -> Iterator[Points]:
        nonlocal came
        for part in parts:
            came += len(part)
            yield part

    points = thinned_by_cell(counting(), cell, pick)  # type: ignore[arg-type]
    opened.thinned += came - len(points)
    opened.notes.append(
        f"{came:,} points thinned to {len(points):,}, the {pick} in each cell of {cell:g} {frame.units}"
    )
    return points
