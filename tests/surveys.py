"""Small surveys of many kinds, as a surveyor would bring them, each with a recipe that builds."""

import numpy as np

KINDS = ("plain", "coded", "breaklines", "limit", "cloud", "feet")
WEST, SOUTH = 4060.0, 2840.0


def lay_out_survey(folder, kind, seed):
    """Write a survey of 20 to 2,000 shots into a folder; return its recipe."""
    rng = np.random.default_rng(seed)
    folder.mkdir(parents=True, exist_ok=True)
    shots = int(rng.choice([20, 60, 167, 300, 700, 2000]))
    side = 8.0 * np.sqrt(shots)
    xy = (rng.random((shots, 2)) * side + (WEST, SOUTH)).round(3)
    z = (heights_at(xy) + rng.normal(0.0, 0.02, shots)).round(3)
    codes = np.full(shots, "GL", object)
    tables = ""
    if kind == "coded":
        along = np.arange(shots // 4) / (shots // 4)
        xy[: len(along)] = (along[:, None] * (0.8 * side, 0.6 * side) + (WEST, SOUTH) + 0.1 * side).round(3)
        z[: len(along)] = (heights_at(xy[: len(along)]) + 0.4).round(3)
        codes[: len(along)] = "TOP"
        codes[0], codes[len(along) - 1] = "TOP ST", "TOP END"
        tables = '[field_codes]\nstart = "ST"\nend = "END"\ncode = [{ match = "TOP", means = "line" }]\n'
    elif kind == "breaklines":
        along = np.linspace(0.1, 0.9, 9) * side
        line = np.column_stack((WEST + along, SOUTH + 0.5 * side + 3.0 * np.sin(along)))
        rows = zip(line.tolist(), heights_at(line).tolist(), strict=True)
        (folder / "top.csv").write_text(
            "line,x,y,z\n" + "".join(f"top,{x:.3f},{y:.3f},{h:.3f}\n" for (x, y), h in rows)
        )
        tables = '[[source]]\nfile = "top.csv"\nrole = "breaklines"\n'
    elif kind == "limit":
        low, high = np.array([WEST, SOUTH]) + 0.1 * side, np.array([WEST, SOUTH]) + 0.9 * side
        ring = [(low[0], low[1]), (high[0], low[1]), (high[0], high[1]), (low[0], high[1]), (low[0], low[1])]
        (folder / "limit.csv").write_text("line,x,y\n" + "".join(f"limit,{x:.3f},{y:.3f}\n" for x, y in ring))
        tables = '[[boundary]]\nfile = "limit.csv"\neffect = "keep"\n'
    elif kind == "cloud":
        places = rng.random((4000, 2)) * side + (WEST, SOUTH)
        rows = zip(places.tolist(), heights_at(places).tolist(), strict=True)
        (folder / "flight.xyz").write_text("".join(f"{x:.2f} {y:.2f} {h:.3f}\n" for (x, y), h in rows))
        tables = (
            '[[source]]\nfile = "flight.xyz"\nrole = "cloud"\ncolumns = "xyz"\nthin = { cell = 4.0, pick = "lowest" }\n'
        )
    units = "ft" if kind == "feet" else "m"
    scale = 1.0 / 0.3048 if kind == "feet" else 1.0
    rows = zip(range(1, shots + 1), (xy * scale).tolist(), (z * scale).tolist(), codes, strict=True)
    (folder / "shots.csv").write_text("".join(f"{n},{y:.3f},{x:.3f},{h:.3f},{c}\n" for n, (x, y), h, c in rows))
    source = '[[source]]\nfile = "shots.csv"\nrole = "points"\ncolumns = "PNEZD"\n'
    recipe = folder / "site.toml"
    recipe.write_text(f'[site]\nname = "{kind} {seed}"\nunits = "{units}"\n{source}{tables}')
    return recipe


def heights_at(xy):
    return 40.0 + 2.0 * np.sin(xy[:, 0] / 17.0) + 1.5 * np.cos(xy[:, 1] / 11.0) + 0.02 * (xy[:, 0] - WEST)
