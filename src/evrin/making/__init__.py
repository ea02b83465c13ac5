"""Making surfaces: triangulated, edited, limited, combined, with pads built in, with layers below."""

from typing import TYPE_CHECKING

from evrin.base.exports import loader

if TYPE_CHECKING:
    from evrin.making.combining.combined_surfaces import Combined, Join, combine
    from evrin.making.editor import Editor
    from evrin.making.from_arrays import triangulate
    from evrin.making.layers.boreholes import Borehole, Boreholes
    from evrin.making.layers.ground_layers import GroundLayers, layers_under
    from evrin.making.limits.limit_cells import Area, Stripped
    from evrin.making.limits.outlines import as_lines, outline, outline_round
    from evrin.making.pads.balancing import Balance, balanced
    from evrin.making.pads.pad_earthworks import Pad
    from evrin.making.pads.pad_slopes import Slopes
    from evrin.making.pads.pads import PadToGround, pad_to_ground
    from evrin.making.pads.planes import Plane
    from evrin.making.shared_vertices import welded
    from evrin.making.triangulation import Triangulation

__all__ = [
    "Area",
    "Balance",
    "Borehole",
    "Boreholes",
    "Combined",
    "Editor",
    "GroundLayers",
    "Join",
    "Pad",
    "PadToGround",
    "Plane",
    "Slopes",
    "Stripped",
    "Triangulation",
    "as_lines",
    "balanced",
    "combine",
    "layers_under",
    "outline",
    "outline_round",
    "pad_to_ground",
    "triangulate",
    "welded",
]

if not TYPE_CHECKING:
    # Each module is loaded when a name of it is first used, so that a command loads what it needs and nothing else.
    __getattr__ = loader(
        __name__,
        {
            "Area": "evrin.making.limits.limit_cells",
            "Balance": "evrin.making.pads.balancing",
            "Borehole": "evrin.making.layers.boreholes",
            "Boreholes": "evrin.making.layers.boreholes",
            "Combined": "evrin.making.combining.combined_surfaces",
            "Editor": "evrin.making.editor",
            "GroundLayers": "evrin.making.layers.ground_layers",
            "Join": "evrin.making.combining.combined_surfaces",
            "Pad": "evrin.making.pads.pad_earthworks",
            "PadToGround": "evrin.making.pads.pads",
            "Plane": "evrin.making.pads.planes",
            "Slopes": "evrin.making.pads.pad_slopes",
            "Stripped": "evrin.making.limits.limit_cells",
            "Triangulation": "evrin.making.triangulation",
            "as_lines": "evrin.making.limits.outlines",
            "balanced": "evrin.making.pads.balancing",
            "combine": "evrin.making.combining.combined_surfaces",
            "layers_under": "evrin.making.layers.ground_layers",
            "outline": "evrin.making.limits.outlines",
            "outline_round": "evrin.making.limits.outlines",
            "pad_to_ground": "evrin.making.pads.pads",
            "triangulate": "evrin.making.from_arrays",
            "welded": "evrin.making.shared_vertices",
        },
    )
