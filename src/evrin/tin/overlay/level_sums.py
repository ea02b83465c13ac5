"""How much of a mesh lies below levels: area, volume and area on the ground, in closed form for each triangle."""

import numpy as np

from evrin.kernels import FloatRows, Floats, IntRows, Mutable, kernel, lean


@lean
def _levels_below(levels: Floats, height: float, or_at: bool) -> int:
    """How many of rising levels lie below a height, or at it."""
    low, high = 0, levels.shape[0]
    while low < high:
        middle = (low + high) // 2
        if levels[middle] < height or (or_at and levels[middle] == height):
            low = middle + 1
        else:
            high = middle
    return low


@kernel
def sums_below(vertices: FloatRows, triangles: IntRows, levels: Floats, out: Mutable[FloatRows]) -> None:
    """Write, for each of rising levels, plan area, volume and area on the ground between the mesh and the level.

    Below a level, the area of a triangle is a square of the height up to its middle corner and the rest less a square
    from there on, and the volume is the integral of that.
    """
    count = levels.shape[0]
    middle = levels[count // 2]
    whole = np.zeros((count + 1, 3))
    for t in range(triangles.shape[0]):
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        ax, ay = vertices[a, 0], vertices[a, 1]
        bx, by, cx, cy = vertices[b, 0] - ax, vertices[b, 1] - ay, vertices[c, 0] - ax, vertices[c, 1] - ay
        twice = bx * cy - by * cx
        if twice <= 0.0:
            continue
        za, zb, zc = vertices[a, 2], vertices[b, 2], vertices[c, 2]
        low, high = min(za, zb, zc), max(za, zb, zc)
        mid = max(min(za, zb), min(max(za, zb), zc))
        area = 0.5 * twice
        mean = (low - middle) + ((mid - low) + (high - low)) / 3.0
        east = ((zb - za) * cy - (zc - za) * by) / twice
        north = ((zc - za) * bx - (zb - za) * cx) / twice
        steep = np.sqrt(1.0 + east * east + north * north)
        begin, end = _levels_below(levels, low, True), _levels_below(levels, high, False)
        if high == low:
            end = begin
        for k in range(begin, end):
            level = levels[k]
            if level <= mid:
                part = area * ((level - low) / (mid - low)) * ((level - low) / (high - low))
                volume = part * (level - low) / 3.0
            else:
                above = area * ((high - level) / (high - mid)) * ((high - level) / (high - low))
                part = area - above
                volume = area * ((level - middle) - mean) + above * (high - level) / 3.0
            out[k, 0] += part
            out[k, 1] += volume
            out[k, 2] += part * steep
        whole[end, 0] += area
        whole[end, 1] += area * mean
        whole[end, 2] += area * steep
    areas = moments = grounds = 0.0
    for k in range(count):
        areas += whole[k, 0]
        moments += whole[k, 1]
        grounds += whole[k, 2]
        out[k, 0] += areas
        out[k, 1] += areas * (levels[k] - middle) - moments
        out[k, 2] += grounds
