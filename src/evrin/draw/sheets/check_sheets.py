"""Maps of what was checked: contours over the given ones, check points, distance to shots, water."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Literal

import numpy as np
from matplotlib import colormaps
from matplotlib.cm import ScalarMappable
from matplotlib.collections import LineCollection, PolyCollection
from matplotlib.colors import Normalize, TwoSlopeNorm
from matplotlib.figure import Figure
from matplotlib.lines import Line2D
from matplotlib.patches import Patch

from evrin.base.named_values import Row
from evrin.base.wording import signed, unsigned
from evrin.draw import plan_layers
from evrin.draw.colours import CONTOUR, INK, MARK, RING, WATER, lightened
from evrin.draw.label_places import label_places
from evrin.draw.shading import Shades, draw_shading
from evrin.draw.sheets.plan_sheets import legend_beside
from evrin.draw.sheets.sheet import PANEL, PANEL_FOOT, Window, finish_plan, new_plan, write_rows

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.axes import Axes

    from evrin.analysis.contours.contour_agreement import ContourFit
    from evrin.analysis.quality.check_point_fit import CheckPoints
    from evrin.analysis.quality.shot_distances import Trust
    from evrin.analysis.terrain.drainage import WaterPath
    from evrin.kernels import Flags, Floats
    from evrin.surface.surface import Surface

_RELIEF, _PLAIN = Shades("relief"), Shades("none")
# Numbers of places on a plan, how many fit across it, and rows of the table beside it.
_MOST_NUMBERED, _ACROSS, _ROWS = 60, 40.0, 12
_SPOKEN = {"pit": "ends in a pit", "edge of the surface": "at the edge", "level ground": "on level ground"}


def _columns(places: Floats) -> tuple[Floats, Floats]:
    return places[:, 0], places[:, 1]


def _bar(
    figure: Figure, mappable: ScalarMappable, top: float, label: str, extend: Literal["neither", "max"] = "neither"
) -> float:
    """Draw a colour bar into the panel; return how far down it reaches."""
    bar = figure.add_axes((PANEL, top - 0.035, 0.22, 0.016))
    figure.colorbar(mappable, cax=bar, orientation="horizontal", extend=extend).set_label(label, fontsize=8)
    bar.tick_params(labelsize=7.5)
    return top - 0.115


def contour_fit_sheet(surface: Surface, fit: ContourFit, window: Window | None = None) -> Figure:
    """Return a plan of a surface's contours over the given ones, coloured by the distance between them.

    Parameters
    ----------
    surface : Surface
        What is drawn.
    fit : ContourFit
        How far the given contours lie from the surface's own.
    window : Window, optional
        West, south, east, north of the part that is drawn; all of it if not given.

    Returns
    -------
    Figure

    Examples
    --------
    >>> import evrin
    >>> field = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]], name="field")
    >>> from evrin.analysis import contour_fit
    >>> from evrin.draw import contour_fit_sheet
    >>> import numpy as np
    >>> old = evrin.SourceLine("old", np.array([[1.0, 4, 1.5], [7, 4, 1.5]]), effect="contour")
    >>> type(contour_fit_sheet(field, contour_fit(field, [old]))).__name__
    'Sheet'
    """
    figure, axes = new_plan(surface, window)
    own = [line.points for line in fit.own]
    axes.add_collection(LineCollection(own, colors=CONTOUR, linewidths=0.8, zorder=3))
    measured = np.isfinite(fit.distances)
    largest = max(fit.largest if measured.any() else 0.0, 0.1)
    most = float(np.quantile(fit.distances[measured], 0.98)) if measured.any() else 0.0
    norm = Normalize(0.0, max(most, largest / 10.0))
    cmap = colormaps["viridis_r"]
    order = np.flatnonzero(measured)[np.argsort(fit.distances[measured], kind="stable")]
    axes.add_collection(LineCollection(list(fit.given), colors=INK, linewidths=0.7, alpha=0.8, zorder=3.5))
    axes.scatter(
        *_columns(fit.places[order]), c=fit.distances[order], cmap=cmap, norm=norm, s=9, linewidths=0, zorder=4
    )
    axes.scatter(*_columns(fit.places[~measured]), c=MARK, s=12, marker="x", linewidths=0.8, zorder=5)
    for loop in surface.rim():
        axes.plot(*_columns(surface.vertices[np.append(loop, loop[0])]), color=RING, linewidth=1.0, zorder=2)
    handles: list[Line2D | Patch] = [
        Line2D([], [], color=CONTOUR, linewidth=1.0, label="contour of the surface"),
        Line2D([], [], color=INK, linewidth=0.8, label="given contour"),
        Line2D([], [], color=cmap(0.5), marker="o", markersize=4, linewidth=0, label="place on a given contour"),
    ]
    if not measured.all():
        label = "given, but not in the surface"
        handles.append(Line2D([], [], color=MARK, marker="x", markersize=5, linewidth=0, label=label))
    foot = legend_beside(figure, handles, None, _PLAIN, surface.units)
    foot = _bar(figure, ScalarMappable(norm, cmap), foot, f"distance ({surface.units})", "max")
    rows = [
        (f"{row['level']:g}", f"{row['places']:,}", _text_of(row["mean"], 2), _text_of(row["largest"], 2))
        for row in fit.table.to_dict(orient="records")
    ]
    write_rows(figure, foot, "Distance by level", rows, ("level", "places", "mean", "largest"))
    facts = [f"all levels: mean {fit.mean:.3f}, largest {fit.largest:.3f} {surface.units}"]
    return finish_plan(figure, axes, surface, "contours over the given ones", facts)


def _text_of(value: float, decimals: int) -> str:
    return f"{value:.{decimals}f}" if np.isfinite(value) else "–"


def check_point_sheet(surface: Surface, checked: CheckPoints, window: Window | None = None) -> Figure:
    """Return a plan of check points coloured by deviation, with their figures and a histogram.

    Parameters
    ----------
    surface : Surface
        What is drawn.
    checked : CheckPoints
        The check points and their deviations.
    window : Window, optional
        West, south, east, north of the part that is drawn; all of it if not given.

    Returns
    -------
    Figure

    Examples
    --------
    >>> import evrin
    >>> field = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]], name="field")
    >>> from evrin.draw import check_point_sheet
    >>> type(check_point_sheet(field, field.check_points([[4, 4, 1.5]]))).__name__
    'Sheet'
    """
    figure, axes = new_plan(surface, window)
    draw_shading(surface, _RELIEF, axes)
    plan_layers.draw_lines(surface, axes)
    table = checked.table
    on = table[table["deviation"].notna() & ~table["own"]]
    deviations = on["deviation"].to_numpy()
    most = max(float(np.abs(deviations).max(initial=0.0)), checked.tolerance or 0.0, 1e-9)
    norm, cmap = TwoSlopeNorm(0.0, -most, most), colormaps["PuOr_r"]
    tolerance = np.inf if checked.tolerance is None else checked.tolerance
    edges = [MARK if abs(value) > tolerance else INK for value in deviations.tolist()]
    places = on[["easting", "northing"]].to_numpy()
    axes.scatter(*_columns(places), c=deviations, cmap=cmap, norm=norm, s=52, edgecolors=edges, lw=1.2, zorder=6)
    off = table[table["deviation"].isna()]
    axes.scatter(off["easting"], off["northing"], marker="x", c=MARK, s=40, zorder=6)
    own = table[table["own"]]
    axes.scatter(own["easting"], own["northing"], facecolors="none", edgecolors=INK, s=52, linewidths=1.0, zorder=6)
    named = _name_points(axes, on)
    handles: list[Line2D | Patch] = [_dot(cmap(0.75), INK, "check point: number, deviation in thousandths")]
    if checked.tolerance is not None:
        handles.append(_dot(cmap(0.95), MARK, "beyond the tolerance"))
    if len(own):
        handles.append(_dot("none", INK, "shot of the surface, not counted"))
    if len(off):
        handles.append(Line2D([], [], color=MARK, marker="x", markersize=6, linewidth=0, label="off the surface"))
    foot = legend_beside(figure, handles, None, _PLAIN, surface.units)
    foot = _bar(figure, ScalarMappable(norm, cmap), foot, f"surface less measured ({surface.units})")
    figures = checked.figures()
    unit = surface.units
    rows = [
        ("points", f"{figures['count']:,}"),
        ("off the surface", f"{figures['off_surface']:,}"),
        *([("shots of the surface, not counted", f"{checked.own:,}")] if checked.own else []),
        ("mean", f"{signed(figures['mean'])} {unit}"),
        ("standard deviation", f"{unsigned(figures['standard_deviation'])} {unit}"),
        ("RMSE", f"{unsigned(figures['rmse'])} {unit}"),
        ("95 %: 1.96 RMSE", f"{unsigned(figures['accuracy_95'])} {unit}"),
        ("95 % lie within", f"{unsigned(figures['percentile_95'])} {unit}"),
        (f"largest, at {figures['largest_at'] or '–'}", f"{signed(figures['largest'])} {unit}"),
    ]
    verdict = []
    if checked.tolerance is not None:
        state = {True: "passed", False: f"failed: {checked.beyond} beyond", None: "nothing to judge"}[checked.passed]
        verdict = [f"tolerance {checked.tolerance:g} {unit}: {state}"]
        rows.append((f"tolerance {checked.tolerance:g} {unit}", state))
    if named < len(on):
        verdict.append(f"{named} of {len(on)} points are named, the largest deviations first")
    foot = write_rows(figure, foot, "Deviations", rows)
    if len(deviations) > 2:
        _histogram(figure, deviations, most, foot, checked.tolerance)
    return finish_plan(figure, axes, surface, "check points", verdict)


def _dot(face: object, edge: str, label: str) -> Line2D:
    style: Row = {"markerfacecolor": face, "markeredgecolor": edge}
    return Line2D([], [], marker="o", markersize=7, linewidth=0, label=label, **style)


def _name_points(axes: Axes, points: pd.DataFrame) -> int:
    """Name check points with their deviations, the largest first; return how many found room."""
    order = np.argsort(-points["deviation"].abs().to_numpy(), kind="stable")
    rows = points.iloc[order]
    texts = [f"{name}  {signed(1000.0 * off, 0)}" for name, off in zip(rows["name"], rows["deviation"], strict=True)]
    return label_places(axes, rows[["easting", "northing"]].to_numpy(), texts)


def _histogram(figure: Figure, deviations: np.ndarray, most: float, top: float, tolerance: float | None) -> None:
    height = top - PANEL_FOOT - 0.055
    if height < 0.08:
        return
    axes = figure.add_axes((PANEL, PANEL_FOOT + 0.03, 0.22, min(height, 0.17)))
    axes.hist(deviations, bins=np.linspace(-most, most, 22).tolist(), color=WATER, alpha=0.75)
    for side in (-1.0, 1.0) if tolerance is not None else ():
        axes.axvline(side * (tolerance or 0.0), color=MARK, linewidth=1.0, linestyle="--")
    axes.tick_params(labelsize=7)
    axes.set_title("histogram of deviations", fontsize=8, color=INK, loc="left")
    for side_name in ("top", "right"):
        axes.spines[side_name].set_visible(False)


def trust_sheet(surface: Surface, trusted: Trust, large: Flags, window: Window | None = None) -> Figure:
    """Return a plan coloured by the distance to the nearest shot, with triangles that are too large outlined.

    Parameters
    ----------
    surface : Surface
        What is drawn.
    trusted : Trust
        Distances to the nearest shot.
    large : Flags
        Which triangles are too large.
    window : Window, optional
        West, south, east, north of the part that is drawn; all of it if not given.

    Returns
    -------
    Figure

    Examples
    --------
    >>> import evrin
    >>> field = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]], name="field")
    >>> from evrin.analysis import too_large, trust
    >>> from evrin.draw import trust_sheet
    >>> type(trust_sheet(field, trust(field), too_large(field))).__name__
    'Sheet'
    """
    figure, axes = new_plan(surface, window)
    rows, columns = trusted.grid.shape
    half = trusted.step / 2.0
    norm = Normalize(0.0, max(float(np.nanquantile(trusted.grid, 0.998)), trusted.spacing, 1e-9))
    # The farther from a shot, the more it strikes the eye.
    cmap = lightened("YlOrRd")
    axes.imshow(
        trusted.grid,
        origin="lower",
        extent=(
            trusted.west - half,
            trusted.west + columns * trusted.step - half,
            trusted.south - half,
            trusted.south + rows * trusted.step - half,
        ),
        cmap=cmap,
        norm=norm,
        interpolation="nearest",
        zorder=1,
        aspect="equal",
    )
    axes.autoscale(False)
    corners = surface.vertices[surface.triangles[large], :2]
    axes.add_collection(PolyCollection(list(corners), facecolors="none", edgecolors=MARK, linewidths=0.9, zorder=5))
    plan_layers.draw_lines(surface, axes)
    handles = plan_layers.line_handles(surface)
    if large.any():
        handles.append(Patch(facecolor="none", edgecolor=MARK, label="triangle too large for its surroundings"))
    foot = legend_beside(figure, handles, None, _PLAIN, surface.units)
    label = f"distance to the nearest shot ({surface.units})"
    foot = _bar(figure, ScalarMappable(norm, cmap), foot, label, "max")
    bands = trusted.bands()
    band_names = [
        (f"{row['from']:.1f} – {row['to']:.1f}" if np.isfinite(row["to"]) else f"over {row['from']:.1f}")
        for row in bands.to_dict(orient="records")
    ]
    cells = [
        (name, f"{area:,.0f}", f"{share:.1f}")
        for name, area, share in zip(band_names, bands["plan_area"], bands["share_percent"], strict=True)
    ]
    foot = write_rows(figure, foot, "Ground by distance to a shot", cells, ("distance", f"plan {surface.units}²", "%"))
    far, east, north = trusted.largest
    figures = [
        ("usual distance between shots", f"{trusted.spacing:.2f} {surface.units}"),
        ("farthest from any shot", f"{far:.2f} {surface.units}"),
        ("  there", f"{east:.1f}, {north:.1f}"),
        ("triangles too large", f"{int(large.sum()):,}"),
    ]
    write_rows(figure, foot - 0.01, "Data coverage", figures)
    return finish_plan(figure, axes, surface, "how far from a measured shot")


def drainage_sheet(
    surface: Surface,
    paths: Sequence[WaterPath],
    pits: pd.DataFrame,
    peaks: pd.DataFrame,
    window: Window | None = None,
) -> Figure:
    """Return a plan of paths of water, numbered hollows and summits on relief.

    Parameters
    ----------
    surface : Surface
        What is drawn.
    paths : Sequence[WaterPath]
        Paths of water.
    pits : pd.DataFrame
        As `Surface.hollows` returns them.
    peaks : pd.DataFrame
        As `Surface.summits` returns them.
    window : Window, optional
        West, south, east, north of the part that is drawn; all of it if not given.

    Returns
    -------
    Figure

    Examples
    --------
    >>> import evrin
    >>> field = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]], name="field")
    >>> from evrin.draw import drainage_sheet
    >>> paths = field.water_paths([(4.0, 4.0)])
    >>> type(drainage_sheet(field, paths, field.hollows(), field.summits())).__name__
    'Sheet'
    """
    figure, axes = new_plan(surface, window)
    draw_shading(surface, _RELIEF, axes)
    plan_layers.draw_lines(surface, axes)
    axes.add_collection(LineCollection([p.points[:, :2] for p in paths], colors=WATER, linewidths=1.0, zorder=5))
    ends = {
        "pit": ("o", WATER),
        "edge of the surface": (">", INK),
        "level ground": ("s", RING),
    }
    for end, (marker, colour) in ends.items():
        places = np.array([path.points[-1, :2] for path in paths if path.end == end]).reshape(-1, 2)
        axes.scatter(*_columns(places), marker=marker, s=14, c=colour, zorder=6, linewidths=0)
    taken: list[tuple[float, float]] = []
    for frame, colour in ((pits, WATER), (peaks, CONTOUR)):
        _number_places(axes, frame, colour, taken)
    handles: list[Line2D | Patch] = [Line2D([], [], color=WATER, linewidth=1.2, label="path of water")]
    for end, (marker, colour) in ends.items():
        count = sum(path.end == end for path in paths)
        if count:
            label = f"{_SPOKEN[end]} ({count})"
            handles.append(Line2D([], [], color=colour, marker=marker, markersize=5, linewidth=0, label=label))
    foot = legend_beside(figure, handles, None, _PLAIN, surface.units)
    unit = surface.units
    cells = [
        (f"{k}  {row['easting']:.1f}, {row['northing']:.1f}", f"{row['height']:.2f}", f"{row['depth']:.2f}")
        for k, row in enumerate(pits.to_dict(orient="records"), 1)
    ]
    heads = ("place", f"floor ({unit})", "depth")
    shown = [*cells[:_ROWS], *([(f"… and {len(cells) - _ROWS:,} more", "", "")] if len(cells) > _ROWS else [])]
    foot = write_rows(figure, foot, "Hollows, the deepest first (blue)", shown or [("none", "", "")], heads)
    cells = [
        (f"{k}  {row['easting']:.1f}, {row['northing']:.1f}", f"{row['height']:.2f}", f"{row['rise']:.2f}")
        for k, row in enumerate(peaks.to_dict(orient="records"), 1)
    ]
    heads = ("place", f"top ({unit})", "rise")
    write_rows(figure, foot, "Summits, most prominent first (brown)", cells or [("none", "", "")], heads)
    count = len(pits) + len(peaks)
    thinned = f"; {len(taken)} of {count:,} numbered" if len(taken) < count else ""
    return finish_plan(figure, axes, surface, f"where water runs and collects{thinned}")


def _number_places(axes: Axes, frame: pd.DataFrame, colour: str, taken: list[tuple[float, float]]) -> None:
    """Number the places of a table, the first first, as long as the numbers have room beside those there are."""
    style: Row = {"facecolor": "white", "edgecolor": colour, "boxstyle": "round,pad=0.18", "linewidth": 0.9}
    text: Row = {
        "fontsize": 7,
        "fontweight": "bold",
        "color": colour,
        "ha": "center",
        "va": "center",
        "zorder": 8,
    }
    (west, east), (south, north) = axes.get_xlim(), axes.get_ylim()
    room = max(abs(east - west), abs(north - south)) / _ACROSS
    most = len(taken) + _MOST_NUMBERED
    for number, (x, y) in enumerate(frame[["easting", "northing"]].itertuples(index=False), 1):
        if len(taken) == most:
            break
        if all(abs(x - a) > room or abs(y - b) > 0.6 * room for a, b in taken):
            axes.text(x, y, str(number), bbox=style, clip_on=True, **text)
            taken.append((x, y))
