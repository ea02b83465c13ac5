"""The rule about ground that a boundary promises and the surface does not have."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
import scipy

from evrin.base.wording import counted
from evrin.check.evidence import LISTED, Evidence, Finding
from evrin.check.rule_registry import rule
from evrin.tin.mesh.limiting import are_kept

# Of what a boundary keeps: beyond the first it is worth a look, beyond the second it changes what is handed over.
_WORTH_NOTING, _MUCH_MISSING = 0.002, 0.03
_FEW_TRIANGLES, _COARSE, _FINE = 2000, 100, 300
# However narrow a strip is, no more nodes than this for each of a square, along it.
_LONGEST_STRIP = 20

MISSING_GROUND = rule(
    "missing-ground",
    "ground inside a boundary that the surface does not have, whatever took it away",
    "warning",
    "note",
    fix="draw the boundary nearer to the data, carry the ground out to it with reach = true, or trim less",
)


@MISSING_GROUND.finds
def missing_ground(evidence: Evidence) -> Iterator[Finding]:
    """Find the parts of what boundaries keep that have no triangle, sampled on a grid, the largest first."""
    kept = [ring for limit in evidence.limits if limit.keeps for ring in limit.rings]
    if not kept:
        return
    surface = evidence.surface
    low, high = (side(np.concatenate([ring[:, :2] for ring in kept]), axis=0) for side in (np.min, np.max))
    nodes = _COARSE if len(surface.triangles) <= _FEW_TRIANGLES else _FINE
    width, height = (high - low).tolist()
    cell = max(float(np.sqrt(width * height)), max(width, height) / _LONGEST_STRIP) / nodes
    if not cell > 0.0:
        return
    x, y = (np.arange(low[k] + cell / 2.0, high[k], cell) for k in (0, 1))
    places = np.stack(np.meshgrid(x, y), axis=-1).reshape(-1, 2)
    is_meant = are_kept(evidence.limits, places).reshape(len(y), len(x))
    is_there = (surface.triangles_at(*places.T) >= 0).reshape(is_meant.shape)
    is_missing = is_meant & ~is_there
    parts, count = scipy.ndimage.label(is_missing)
    sizes = np.bincount(parts.ravel(), minlength=count + 1)[1:] if count else np.empty(0, np.int64)
    least = max(_WORTH_NOTING * is_meant.sum(), 4)
    depth = scipy.ndimage.distance_transform_edt(is_missing)
    share = float(sizes[sizes >= least].sum()) / max(int(is_meant.sum()), 1)
    for number in np.argsort(-sizes, kind="stable")[:LISTED].tolist():
        if sizes[number] < least:
            break
        row, column = np.unravel_index(int(np.argmax(np.where(parts == number + 1, depth, 0.0))), parts.shape)
        area = float(sizes[number]) * cell**2
        yield MISSING_GROUND.finding(
            (float(x[column]), float(y[row])),
            f"about {evidence.length(area, 0)}² inside the boundary, {100.0 * sizes[number] / is_meant.sum():.1f} % of "
            "what it keeps, have no triangle",
            severity="warning" if share > _MUCH_MISSING else "note",
        )
    left = sizes[np.argsort(-sizes, kind="stable")[LISTED:]]
    if (left >= least).any():
        more = counted(int((left >= least).sum()), "more part")
        yield MISSING_GROUND.finding(None, f"{more} inside the boundary have no triangle", severity="note")
