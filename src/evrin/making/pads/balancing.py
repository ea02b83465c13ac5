"""The height at which the cut of pads fills the rest."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from evrin.base.errors import DataError, GeometryError
from evrin.making.pads.pad_earthworks import Earthwork, Ground, Pad, earthwork_of
from evrin.making.pads.pads import PadToGround, finished
from evrin.making.patches.settling import without
from evrin.surface.surface import Surface
from evrin.tin.overlay import overlay

# Net volume that is left, as a part of the cut; and a change of height that does not count.
_NET = 1e-5
_SHIFT = 1e-9
_MOST = 60


@dataclass(frozen=True, eq=False)
class Balance:
    """Pads at the height at which they balance.

    Attributes
    ----------
    shift : float
        What was added to the heights of all outlines.
    built : list of PadToGround
        Each pad on the ground as it is.
    factor : float
        Volume of fill that one volume of cut makes.
    tried : int
        How many heights were tried.

    Examples
    --------
    >>> import evrin
    >>> from evrin.making import Pad, balanced
    >>> hill = evrin.triangulate([[0, 0, 0], [90, 0, 9], [90, 90, 9], [0, 90, 0]])
    >>> found = balanced(hill, [Pad.of([[40, 40], [50, 40], [50, 50], [40, 50]], 7.0)])
    >>> round(float(found.built[0].pad.outline[0, 2]), 3), abs(found.net) < 1e-3 * found.cut
    (4.5, True)
    """

    shift: float
    built: list[PadToGround]
    factor: float
    tried: int

    @property
    def cut(self) -> float:
        """Of all pads."""
        return sum(each.cut for each in self.built)

    @property
    def fill(self) -> float:
        """Of all pads."""
        return sum(each.fill for each in self.built)

    @property
    def net(self) -> float:
        """Fill less what the cut makes of it."""
        return self.fill - self.factor * self.cut


def balanced(ground: Surface, pads: Sequence[Pad], factor: float = 1.0) -> Balance:
    """Raise or lower pads together until the cut, times a factor, fills the rest.

    Parameters
    ----------
    ground : Surface
        The ground before.
    pads : sequence of Pad
        Their heights are where the search begins; all are moved by the same.
    factor : float
        Volume of fill that one volume of cut makes.

    Returns
    -------
    Balance
        The net volume is zero to within a thousandth of the cut.

    Raises
    ------
    DataError
        For no pad, or a factor out of bounds.
    GeometryError
        Where earthworks of two pads lie upon one another, or no height balances.

    Notes
    -----
    Newton's method: where slopes keep to their sides, the net volume changes with the height by the plan area.

    Examples
    --------
    >>> import evrin
    >>> from evrin.making import Pad, balanced
    >>> hill = evrin.triangulate([[0, 0, 0], [90, 0, 9], [90, 90, 9], [0, 90, 0]])
    >>> pad = Pad.of([[40, 40], [50, 40], [50, 50], [40, 50]], 7.0)
    >>> balanced(hill, [pad], factor=0.5).shift < balanced(hill, [pad]).shift
    True
    """
    if not pads:
        raise DataError("nothing to balance; give at least one pad")
    if not 0.01 <= factor <= 100.0:
        raise DataError(f"factor must lie between 0.01 and 100; it is {factor:g}")
    ready = Ground(ground, pads)
    low, high = _range(ready, pads)
    shift = min(max(0.0, low), high)
    tried = 0
    while True:
        tried += 1
        moved = [pad.raised(shift) for pad in pads]
        made = [earthwork_of(ready, pad) for pad in moved]
        net, cut = _net(made, factor)
        if abs(net) <= _NET * cut or high - low <= _SHIFT or tried == _MOST:
            break
        low, high = (shift, high) if net < 0.0 else (low, shift)
        step = shift - net / _area(made, factor)
        shift = step if low < step < high else (low + high) / 2.0
    if abs(net) > 1e-3 * max(cut, _NET):
        raise GeometryError(f"no height of {pads[0].name} balances: {net:,.3f} remain at a shift of {shift:.4f}")
    _check_apart(pads, made)
    built = [finished(ready, pad, each) for pad, each in zip(moved, made, strict=True)]
    return Balance(shift, built, factor, tried)


def _range(ground: Ground, pads: Sequence[Pad]) -> tuple[float, float]:
    """Shifts between all pads below the ground and all above it."""
    lowest, highest = ground.heights
    z = np.concatenate([pad.outline[:, 2] for pad in pads])
    return lowest - float(z.max()), highest - float(z.min())


def _net(made: Sequence[Earthwork], factor: float) -> tuple[float, float]:
    cut = sum(each.cut for each in made)
    return sum(each.fill for each in made) - factor * cut, cut


def _area(made: Sequence[Earthwork], factor: float) -> float:
    up, down = (sum(float(each.totals[field]) for each in made) for field in (overlay.CUT_AREA, overlay.FILL_AREA))
    return max(up + factor * down, 1e-12)


def _check_apart(pads: Sequence[Pad], made: Sequence[Earthwork]) -> None:
    for k, first in enumerate(made):
        for j, other in enumerate(made[:k]):
            rest = without(first.patch, other.patch)
            if rest.area < first.patch.area * (1.0 - 1e-9):
                raise GeometryError(
                    f"{pads[j].name} and {pads[k].name} lie upon one another; move one, or build in turn"
                )
