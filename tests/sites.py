"""Small recipes on disk for the tests."""

import textwrap

FIELD = """\
1,2800.0,4000.0,40.0,LAWN
2,2800.0,4020.0,41.0,LAWN
3,2820.0,4020.0,42.0,LAWN
4,2820.0,4000.0,41.0,LAWN
5,2810.0,4010.0,41.5,TOP1 ST
6,2811.0,4015.0,41.6,TOP1 END
"""
BASE = """\
# The first comment.
[site]
name = "Test field"   # beside a value

[[source]]
name = "day 1"
file = "day1.csv"
role = "points"
columns = "PNEZD"
"""


def lay_out(folder, extra="", field=FIELD, base=BASE, **files):
    """Write a recipe and its files; keys of *files* have ``__`` for the dot."""
    (folder / "day1.csv").write_text(field, encoding="utf-8")
    for name, text in files.items():
        (folder / name.replace("__", ".")).write_text(textwrap.dedent(text), encoding="utf-8")
    path = folder / "site.toml"
    path.write_text(base + textwrap.dedent(extra), encoding="utf-8")
    return path


def grid_field(side=6, step=5.0, height=lambda x, y: 40.0 + 0.01 * (x - 4000.0)):
    """A field book of spots on a lattice, a little off square."""
    rows = []
    for k in range(side * side):
        x, y = 4000.0 + step * (k % side) + 0.1 * (k % 3), 2800.0 + step * (k // side)
        rows.append(f"{k + 1},{y:.3f},{x:.3f},{height(x, y):.3f},GRASS\n")
    return "".join(rows)
