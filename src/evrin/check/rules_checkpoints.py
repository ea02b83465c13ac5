"""Rules about check points: where the surface departs from what was measured independently."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from evrin.base.wording import counted
from evrin.check.evidence import LISTED, Evidence, Finding
from evrin.check.rule_registry import rule

CHECK_POINT_OWN = rule(
    "check-point-own",
    "check points that are shots of the surface itself, so that they prove nothing",
    "warning",
    fix="leave them out of the sources, or of the check points; no figure counts them",
)


@CHECK_POINT_OWN.finds
def check_points_of_the_surface(evidence: Evidence) -> Iterator[Finding]:
    """Report check points that are vertices of the surface."""
    for name, checked in evidence.checked:
        own = checked.table[checked.table["own"]]
        if len(own):
            place = (float(own["easting"].iloc[0]), float(own["northing"].iloc[0]))
            several = counted(len(own), "check point is a shot", "check points are shots")
            what = f"{several} of the surface itself ({name}, {len(checked.table):,} in all); no figure counts them"
            yield CHECK_POINT_OWN.finding(place, what, tuple(str(each) for each in own["name"][:LISTED]))


CHECK_POINT_OFF = rule(
    "check-point-off",
    "check points whose deviation exceeds their tolerance",
    "warning",
    fix="shoot the ground there again, or look for a wrong target height or a missing line around it",
)


@CHECK_POINT_OFF.finds
def check_points_off(evidence: Evidence) -> Iterator[Finding]:
    """Report each check point beyond its tolerance, the worst first, with the shots that hold the ground there."""
    surface = evidence.surface
    for name, checked in evidence.checked:
        if checked.tolerance is None:
            continue
        deviations = checked.table["deviation"].to_numpy()
        beyond = np.flatnonzero(np.abs(np.nan_to_num(deviations)) > checked.tolerance)
        for row in beyond[np.argsort(-np.abs(deviations[beyond]), kind="stable")].tolist():
            point = checked.table.iloc[row]
            place = (float(point["easting"]), float(point["northing"]))
            triangle = int(surface.triangles_at(*place))
            side = "above" if deviations[row] > 0.0 else "below"
            yield CHECK_POINT_OFF.finding(
                place,
                f"the surface is {evidence.length(abs(deviations[row]))} {side} check point {point['name']} of {name}; "
                f"the tolerance is {checked.tolerance:g} {surface.units}",
                evidence.named(surface.triangles[triangle].astype(np.int64)),
            )
