"""Recipes put together at random from tables of every kind, over one small field."""

from hypothesis import strategies as st

from sites import BASE, grid_field

FILES = {
    "limit__csv": "line,x,y\nlimit,3999,2798\nlimit,4024,2799\nlimit,4023,2828\nlimit,4000,2822\nlimit,3999,2798\n",
    "wide__csv": "line,x,y\nwide,3990,2795\nwide,4030,2795\nwide,4032,2830\nwide,3991,2829\nwide,3990,2795\n",
    "hole__csv": "line,x,y\nh,4007,2807\nh,4012,2807\nh,4012,2812\nh,4007,2812\nh,4007,2807\n",
    "wall__csv": "line,x,y,z\nW,4002,2803,41\nW,4003.1,2804,41\nW,4020,2818,41.2\nQ,4021,2804,40.4\nQ,4004,2817,40.9\n",
    "plan__csv": "line,x,y\nP,4000.1,2805\nP,4011,2809.4\nP,4024,2824\n",
    "bare__csv": "line,x,y\n"
    + "".join(f"c{k},{x},{2801 + 2.5 * k + 0.3 * (x % 3)}\n" for k in range(6) for x in range(4001, 4024, 2)),
    "pond__csv": "line,x,y\np,4014,2814\np,4019,2815\np,4018,2821\np,4013,2820\np,4014,2814\n",
    "road__csv": "line,x,y\nr,3998,2806\nr,4026,2816\n",
}
SOURCES = (
    '[[source]]\nfile = "wall.csv"\nrole = "breaklines"\nweed = { tolerance = 0.3 }\nfill = { spacing = 4.0 }\n',
    '[[source]]\nfile = "plan.csv"\nrole = "breaklines"\nheights = "shots"\nreach = 0.4\n',
    '[[source]]\nfile = "plan.csv"\nname = "laid"\nrole = "breaklines"\nheights = "surface"\n',
    '[[source]]\nfile = "bare.csv"\nrole = "contours"\nheights = "levels"\n'
    "weed = { spacing = 5.0, deflection_deg = 8.0 }\n"
    "ladder = [{ along = [[4010.0, 2799.0], [4010.5, 2812.0]], start = 40.0, step = 0.1 }]\n",
)
TABLES = (
    '[[cut_line]]\nline = "Q"\nat = [4012.0, 2811.0]\nkeep = "before"\n',
    '[[cut_line]]\nline = "c2"\nat = [4006.0, 2806.3]\nto = [4012.0, 2806.3]\n',
    '[[wall]]\nline = "W"\nhigh_side = "left"\nrise = 0.8\n',
    '[[flat]]\nfile = "pond.csv"\nlevel = 40.1\ndepth = 0.6\nbank = 0.3\n',
    '[busts]\nleave_out = ["zero", "spikes"]\n',
    '[duplicates]\npolicy = "lowest"\nwithin = 0.05\n',
    '[crossings]\npolicy = "higher"\n',
    '[[along]]\nfile = "road.csv"\nwithin = 9.0\n',
    '[flat_triangles]\nfix = "points"\n',
    '[[boundary]]\nfile = "limit.csv"\neffect = "keep"\n',
    '[[boundary]]\nfile = "wide.csv"\neffect = "keep"\nreach = true\n',
    '[[boundary]]\nfile = "hole.csv"\neffect = "cut"\n',
    "[trim]\nlongest_edge = 9.0\nsmallest_angle_deg = 3.0\n",
    '[[edit]]\ndo = "flip"\nat = [4016.2, 2806.1]\n',
    '[[edit]]\ndo = "raise"\npolygon = [[4001.0, 2801.0], [4009.0, 2801.0], [4009.0, 2809.0]]\nby = 0.4\n',
    '[[edit]]\ndo = "delete"\nat = [4005.1, 2820.0]\n',
    '[[edit]]\ndo = "remove"\nat = [4022.0, 2823.0]\n',
    '[[edit]]\ndo = "add"\nat = [4003.3, 2811.7]\nheight = 40.9\n',
    '[[edit]]\ndo = "force"\njoins = [[4010.2, 2815.0], [4020.1, 2820.0]]\n',
)


def field():
    """Spots with a bust, one at zero height, two at one place and two almost at one."""
    rows = grid_field().splitlines()
    rows[14] = rows[14].replace(",40.", ",49.")
    number, y, x, _, code = rows[21].split(",")
    rows[21] = ",".join([number, y, x, "0.000", code])
    _, y, x, z, _ = rows[8].split(",")
    rows.append(f"91,{y},{x},{float(z) + 0.3:.3f},GRASS")
    _, y, x, z, _ = rows[28].split(",")
    rows.append(f"92,{y},{float(x) + 0.02:.3f},{float(z) + 0.01:.3f},GRASS")
    return "\n".join(rows) + "\nx,y\n"


@st.composite
def recipes(draw):
    """The text of a recipe: the field, and any of the other tables in a fixed order."""
    picked = [text for text in (*SOURCES, *TABLES) if draw(st.booleans())]
    singles = [text for text in picked if not text.startswith("[[")]
    return BASE + "\n" + "\n".join([text for text in picked if text not in singles] + singles)
