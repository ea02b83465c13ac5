"""Degenerate and awkward shapes that every test can draw from."""

import numpy as np
from hypothesis import strategies as st
from hypothesis.extra import numpy as hnp

SITE = np.array([652345.678, 5123456.789])


def lattice(side):
    east, north = np.meshgrid(np.arange(float(side)), np.arange(float(side)))
    return np.column_stack((east.ravel(), north.ravel()))


def ring_of(count, radius=10.0):
    angle = np.linspace(0.0, 2.0 * np.pi, count, endpoint=False)
    return radius * np.column_stack((np.cos(angle), np.sin(angle)))


def level_contours(lines, vertices):
    along = np.linspace(0.0, 100.0, vertices)
    return np.concatenate([np.column_stack((along, 5.0 * k + np.sin(along / 9.0 + k))) for k in range(lines)])


SHAPES = {
    "lattice": lattice(12),
    "ring": ring_of(64),
    "contours": level_contours(6, 80),
    "cross": np.array([[0.0, 0], [1, 0], [2, 0], [3, 0], [0, 1], [0, 2], [0, -1], [-1, 0]]),
    "needle": np.array([[0.0, 0], [1e6, 1e-3], [2e6, 0], [1e6, -1e-3], [5e5, 0.0]]),
    "lattice at the site": SITE + lattice(9) / 1000.0,
    "ring at the site": SITE + ring_of(40, 0.01),
    "one far outlier": np.vstack((lattice(6), [[1e7, -3e6]])),
}

small_grid = st.integers(-4, 4).map(float)
millimetres = st.integers(0, 4000).map(lambda k: SITE[0] + k / 1000.0)
any_coordinate = st.one_of(small_grid, millimetres, st.floats(-1e3, 1e3).map(lambda v: round(v, 6)))


def places(low=3, high=40):
    """Sets of places: on a coarse grid (many ties), at the site in millimetres, or anywhere."""
    return st.one_of(
        hnp.arrays(np.float64, st.tuples(st.integers(low, high), st.just(2)), elements=coordinate)
        for coordinate in (small_grid, millimetres, any_coordinate)
    )
