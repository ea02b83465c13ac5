"""Triangles coloured by height, slope, aspect or light, smoothly or in bands, and the legend of it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Literal

import numpy as np
from matplotlib import colormaps
from matplotlib.cm import ScalarMappable
from matplotlib.colors import BoundaryNorm, Normalize
from matplotlib.tri import Triangulation

from evrin.analysis.terrain.banding import SLOPE_LIMITS
from evrin.analysis.terrain.slopes import COMPASS, SlopeUnit, aspects, slope_from, slope_in
from evrin.base.errors import DataError
from evrin.base.named_values import Row
from evrin.draw.axes import axes_or_new
from evrin.draw.colours import lightened
from evrin.kernels import Flags, Floats

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.colorbar import Colorbar

    from evrin.surface.surface import Surface

Shading = Literal["height", "slope", "aspect", "relief", "none"]
_SUN = np.array([-1.0, 1.0, 1.6]) / np.sqrt(1.0 + 1.0 + 1.6**2)
_UNITS = {"ratio": "rise over run", "percent": "%", "degrees": "degrees", "one_in": "1 in n"}
_STEPS = 65
_MOST_BANDS = 40


@dataclass(frozen=True)
class Shades:
    """How triangles are coloured.

    Attributes
    ----------
    by : {"height", "slope", "aspect", "relief", "none"}
        What decides the colour.
    limits : tuple of float, optional
        Bands between them: heights, or slopes in *unit* from flatter to steeper. Of slope there are bands unless
        *smooth* is asked for; of height there are none unless limits are given.
    smooth : bool
        Colour slopes smoothly instead of in bands.
    within : (float, float), optional
        Only ground from the one to the other is coloured: heights, or slopes in *unit*.
    unit : {"percent", "degrees", "one_in", "ratio"}
        Of slopes.

    Examples
    --------
    >>> from evrin.draw import Shades
    >>> Shades("slope", (2.0, 5.0)).by
    'slope'
    """

    by: Shading = "height"
    limits: tuple[float, ...] = ()
    smooth: bool = False
    within: tuple[float, float] | None = None
    unit: SlopeUnit = "percent"

    def __post_init__(self) -> None:
        rising = slope_from(self.limits, self.unit) if self.by == "slope" else np.asarray(self.limits, np.float64)
        if len(rising) and not ((np.diff(rising) > 0.0).all() and np.isfinite(rising).all()):
            raise DataError(f"the limits of bands must rise, from flatter to steeper; they are {list(self.limits)}")
        if len(rising) > _MOST_BANDS:
            raise DataError(f"{len(rising)} limits give more bands than can be distinguished; at most {_MOST_BANDS}")
        if self.limits and self.by not in ("height", "slope"):
            raise DataError(f"there are bands of height and of slope, not of {self.by}")
        if self.within is not None and self.by not in ("height", "slope"):
            raise DataError(f"a range is one of height or of slope, not of {self.by}")
        if self.within is not None and not self.within[0] != self.within[1]:
            raise DataError(f"a range needs two different ends; they are {list(self.within)}")

    @property
    def band_limits(self) -> Floats:
        """The limits in use, slopes as rise over run; empty for smooth shading."""
        if self.smooth:
            return np.empty(0)
        if self.by == "slope":
            return np.asarray(slope_from(self.limits, self.unit) if self.limits else SLOPE_LIMITS)
        return np.asarray(self.limits, np.float64)

    @property
    def is_banded(self) -> bool:
        """Whether the areas of bands are listed."""
        return self.by == "aspect" or (len(self.band_limits) > 0 and not self.smooth)

    @property
    def label(self) -> str:
        """The legend's heading, without units of height."""
        return f"slope ({_UNITS[self.unit]})" if self.by == "slope" else self.by

    def chosen(self, values: Floats) -> Flags:
        """Return which heights, or slopes as rise over run, are coloured.

        Parameters
        ----------
        values : (n,) float64
            Heights, or slopes as rise over run.

        Returns
        -------
        (n,) bool
        """
        if self.within is None:
            return np.isfinite(values)
        ends = slope_from(self.within, self.unit) if self.by == "slope" else np.asarray(self.within)
        return np.asarray((values >= ends.min()) & (values <= ends.max()))


def as_shades(shading: Shading | Shades) -> Shades:
    """Return a kind of shading with its usual choices, or the choices given."""
    return shading if isinstance(shading, Shades) else Shades(shading)


def light_on(surface: Surface) -> Floats:
    """Return how much light from the north-west falls on each triangle (m,), up to 1.

    References
    ----------
    B. K. P. Horn (1981), Hill shading and the reflectance map, Proceedings of the IEEE 69(1), 14-47: the cosine of the
    angle between the normal and the light.
    """
    normals = np.column_stack((-surface.gradients, np.ones(len(surface.triangles))))
    return np.asarray(np.nan_to_num(normals @ _SUN / np.linalg.norm(normals, axis=1), nan=0.5))


def colouring(shades: Shades, surface: Surface, seen: Floats | None = None) -> ScalarMappable | None:
    """Return the colours and their scale; None for relief and none.

    Parameters
    ----------
    seen : (k,) float64, optional
        The heights that are in the picture, on which colours are spent; all if not given.
    """
    limits = shades.band_limits
    if shades.by == "height":
        heights = surface.vertices[:, 2] if seen is None or len(seen) == 0 else seen
        if len(limits):
            # Of two bands, each has a colour as well.
            span = max(float(np.ptp(heights)), 1.0)
            edges = limits if len(limits) > 1 else np.array([limits[0] - span, limits[0], limits[0] + span])
            # Neighbouring bands differ in hue as well.
            return ScalarMappable(BoundaryNorm(edges, 256, extend="both"), lightened("viridis"))
        low, high = np.quantile(heights, [0.005, 0.995])
        return ScalarMappable(Normalize(low, max(high, low + 1e-9)), lightened("cividis"))
    if shades.by == "slope":
        if len(limits):
            return ScalarMappable(BoundaryNorm((0.0, *limits.tolist()), 256, extend="max"), colormaps["YlOrBr"])
        steep = float(np.quantile(np.nan_to_num(surface.triangle_slopes), 0.98))
        return ScalarMappable(Normalize(0.0, max(steep, 1e-6)), colormaps["YlOrBr"])
    if shades.by == "aspect":
        return ScalarMappable(Normalize(0.0, 360.0), colormaps["twilight"])
    return None


def draw_shading(surface: Surface, shading: Shading | Shades = "height", ax: Axes | None = None) -> Axes:
    """Colour triangles by height, slope or aspect, or as relief lit from the north-west.

    Parameters
    ----------
    surface : Surface
        What is drawn.
    shading : {"height", "slope", "aspect", "relief", "none"} or Shades
        How triangles are coloured.
    ax : Axes, optional
        Where to draw; new axes of pyplot if not given.

    Returns
    -------
    Axes

    Examples
    --------
    >>> import evrin
    >>> field = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]], name="field")
    >>> from matplotlib.figure import Figure
    >>> from evrin.draw import draw_shading
    >>> axes = draw_shading(field, "slope", field.plot(Figure().add_subplot(), shading="none"))
    """
    axes = axes_or_new(ax)
    shade(surface, shading, axes)
    return axes


def shade(surface: Surface, shading: Shading | Shades, axes: Axes) -> ScalarMappable | None:
    """Colour triangles, and return what a legend can be made from; None for relief and for none."""
    shades = as_shades(shading)
    if shades.by == "none":
        return None
    if shades.by == "relief":
        every = np.ones(len(surface.triangles), np.bool_)
        _colour(axes, surface, light_on(surface), ScalarMappable(Normalize(-0.2, 1.0), colormaps["gray"]), every)
        return None
    middles = surface.vertices[surface.triangles].mean(axis=1)
    mappable = colouring(shades, surface, _in_frame(axes, middles)[:, 2])
    assert mappable is not None
    if shades.by == "height" and len(shades.band_limits):
        _bands_of_height(axes, surface, shades, mappable)
        return mappable
    if shades.by == "height" and shades.within is not None:
        _range_of_height(axes, surface, shades.within, mappable)
        return mappable
    if shades.by == "height":
        x, y, z = surface.vertices.T
        style: Row = {"cmap": mappable.get_cmap(), "norm": mappable.norm, "rasterized": True, "zorder": 1}
        axes.tripcolor(Triangulation(x, y, surface.triangles), z, shading="gouraud", **style)
        return mappable
    values = {"height": middles[:, 2], "slope": surface.triangle_slopes, "aspect": aspects(surface)}[shades.by]
    is_shaded = np.isfinite(values) if shades.by == "aspect" else shades.chosen(values)
    _colour(axes, surface, values, mappable, is_shaded)
    return mappable


def _in_frame(axes: Axes, places: Floats) -> Floats:
    """The places that the axes show, all of them if there is none, so that colours are spent on what is seen."""
    (west, east), (south, north) = axes.get_xlim(), axes.get_ylim()
    x, y = places[:, 0], places[:, 1]
    seen = (x >= west) & (x <= east) & (y >= south) & (y <= north)
    return places[seen] if seen.any() else places


def _colour(axes: Axes, surface: Surface, values: Floats, colours: ScalarMappable, is_shaded: Flags) -> None:
    if not is_shaded.any():
        return
    x, y = surface.vertices[:, 0], surface.vertices[:, 1]
    # Smoothing of edges would leave hairlines between neighbours.
    style: Row = {"edgecolors": "none", "antialiased": False, "rasterized": True, "zorder": 1}
    style |= {"cmap": colours.get_cmap(), "norm": colours.norm}
    axes.tripcolor(x, y, surface.triangles[is_shaded], facecolors=values[is_shaded], **style)


def _bands_of_height(axes: Axes, surface: Surface, shades: Shades, mappable: ScalarMappable) -> None:
    """Colour bands of height to their exact limits, across triangles."""
    limits = shades.band_limits
    heights = surface.vertices[:, 2]
    low, high = float(heights.min()), float(heights.max())
    marks = np.unique(np.concatenate(([min(low, limits[0] - 1e-9)], limits, [max(high, limits[-1]) + 1e-9])))
    if shades.within is not None:
        inside = (min(shades.within), max(shades.within))
        marks = np.unique(np.concatenate((marks[(marks > inside[0]) & (marks < inside[1])], inside)))
    middles = (marks[:-1] + marks[1:]) / 2.0
    colours = list(mappable.to_rgba(middles))
    x, y = surface.vertices[:, 0], surface.vertices[:, 1]
    axes.tricontourf(Triangulation(x, y, surface.triangles), heights, levels=marks, colors=colours, zorder=1)


def _range_of_height(axes: Axes, surface: Surface, within: tuple[float, float], mappable: ScalarMappable) -> None:
    """Colour a range of heights to its exact ends, across triangles."""
    heights = surface.vertices[:, 2]
    if heights.max() < min(within) or heights.min() > max(within):
        return
    marks = np.linspace(min(within), max(within), _STEPS)
    colours = list(mappable.to_rgba((marks[:-1] + marks[1:]) / 2.0))
    x, y, heights = surface.vertices.T
    axes.tricontourf(Triangulation(x, y, surface.triangles), heights, levels=marks, colors=colours, zorder=1)


def shading_text(bar: Colorbar, shading: Shading | Shades, units: str) -> None:
    """Write heading and ticks of a legend."""
    shades = as_shades(shading)
    bar.set_label(f"height ({units})" if shades.by == "height" else shades.label, fontsize=8)
    limits = shades.band_limits
    if shades.by == "slope" and len(limits):
        marks = [0.0, *limits.tolist()] if shades.unit != "one_in" else limits.tolist()
        bar.set_ticks(marks, labels=[slope_text(float(slope_in(mark, shades.unit)), shades.unit) for mark in marks])
    elif shades.by == "slope":
        marks = np.linspace(0.0, float(bar.norm.vmax or 1.0), 6)[1 if shades.unit == "one_in" else 0 :].tolist()
        bar.set_ticks(marks, labels=[slope_text(float(slope_in(mark, shades.unit)), shades.unit) for mark in marks])
    elif shades.by == "height" and len(limits):
        shown = limits[:: max(1, len(limits) // 8)].tolist()
        bar.set_ticks(shown, labels=[f"{mark:g}" for mark in shown])
    elif shades.by == "aspect":
        bar.set_label("falls to the", fontsize=8)
        bar.set_ticks([45.0 * k for k in range(9)], labels=[*COMPASS, "N"])


def slope_text(value: float, unit: SlopeUnit) -> str:
    """Return a slope in a unit as it is read."""
    return f"1:{value:.3g}" if unit == "one_in" else f"{value:.3g}"
