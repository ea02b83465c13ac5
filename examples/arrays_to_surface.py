"""The array route: points, a breakline and a boundary as NumPy arrays, straight to a surface and its answers."""

import numpy as np

import evrin


def main() -> None:
    """Triangulate a bank made of arrays and ask the surface a few things."""
    rng = np.random.default_rng(4)
    points = np.empty((400, 3))
    points[:, 0] = rng.uniform(4000.0, 4060.0, 400)
    points[:, 1] = rng.uniform(2800.0, 2860.0, 400)
    # A field that falls to the east, with a bank 2 m high whose top runs along northing 2830.
    points[:, 2] = 45.0 - 0.02 * (points[:, 0] - 4000.0) - np.clip(2830.0 - points[:, 1], 0.0, 4.0) * 0.5
    top = np.array([[4000.0, 2830.0, 45.0], [4060.0, 2830.0, 43.8]])
    toe = np.array([[4000.0, 2826.0, 43.0], [4060.0, 2826.0, 41.8]])
    limit = np.array([[4004.0, 2804.0], [4056.0, 2804.0], [4056.0, 2856.0], [4004.0, 2856.0]])

    ground = evrin.triangulate(points, breaklines=[top, toe], boundaries=[limit], name="bank")
    print(ground)
    print(f"plan area {ground.plan_area:.1f} m², slope area {ground.slope_area:.1f} m²")
    print(f"height at the toe: {float(ground.height(4030.0, 2826.0)):.3f} m")
    print(ground.slope_bands([0.05, 0.25]).round(3).to_string(index=False))
    lines = ground.contours(interval=0.5)
    print(f"{len(lines)} contours, the longest {lines.lengths.max():.1f} m long")
    print(ground.profile([(4030.0, 2820.0), (4030.0, 2836.0)]).table(4.0).round(3).to_string(index=False))


if __name__ == "__main__":
    main()
