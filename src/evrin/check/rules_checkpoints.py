"""Rules about check points: where the surface departs from what was measured independently."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from evrin.check.evidence import Evidence, Finding
from evrin.check.registry import rule


@rule(
    "check-point-off",
    "check points from which the surface departs by more than their tolerance",
    "warning",
    "shoot the ground there again, or look for a wrong target height or a missing line round it",
)
def check_points_off(evidence: Evidence) -> Iterator[Finding]:
    """Tell each check point beyond its tolerance, the worst first, with the shots that hold the ground there."""
    surface = evidence.surface
    for name, checked in evidence.checked:
        if checked.tolerance is None:
            continue
        away = checked.table["deviation"].to_numpy()
        beyond = np.flatnonzero(np.abs(np.nan_to_num(away)) > checked.tolerance)
        for row in beyond[np.argsort(-np.abs(away[beyond]), kind="stable")].tolist():
            point = checked.table.iloc[row]
            place = (float(point["easting"]), float(point["northing"]))
            triangle = int(surface.triangles_at(*place))
            side = "above" if away[row] > 0.0 else "below"
            yield Finding(
                "check-point-off",
                "warning",
                place,
                f"the surface lies {abs(away[row]):.3f} {side} check point {point['name']} of {name}, beyond its "
                f"tolerance of {checked.tolerance:g}",
                evidence.named(surface.triangles[triangle].astype(np.int64)),
                "shoot the ground there again, or look for a wrong target height or a missing line round it",
            )
