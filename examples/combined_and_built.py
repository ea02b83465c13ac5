"""A corner surveyed again, a lay-by at its balancing level, and what lies under it, each beside what is known of it."""

from pathlib import Path
from tempfile import mkdtemp

import evrin
from evrin.demo import lay_out, works
from evrin.formats import read_boreholes
from evrin.making import Pad, Slopes, balanced, combine, layers_under, pad_to_ground

folder = Path(mkdtemp())
lay_out(folder)
works.lay_out_works(folder / "earthworks")
ground = evrin.Recipe.read(folder / "clean.toml").build().surface

combined = combine([ground, works.corner_surface()])
print(combined.surface)
print(combined.parts.round(1).to_string(index=False))
print(combined.table.round(3).to_string(index=False))

pad = Pad.of(works.lay_by_outline(), 43.6, Slopes(cut=1.5, fill=2.0), "lay-by")
built = pad_to_ground(ground, pad)
print(f"\nat 43.600: cut {built.cut:,.1f}, fill {built.fill:,.1f} m³, {len(built.daylight[0].points)} daylight places")
found = balanced(ground, [pad])
print(
    f"balances at {43.6 + found.shift:.3f}: cut {found.cut:,.1f}, fill {found.fill:,.1f} m³, after {found.tried} tries"
)

holes, _ = read_boreholes(folder / "earthworks" / "boreholes.csv", ground.frame)
layers = layers_under(ground, holes)
print("\n" + layers.table.round(2).to_string(index=False))
print("\n" + layers.volumes(found.built[0].earthwork, within=works.lay_by_outline()).round(2).to_string(index=False))

print()
for row in works.work_on(ground, folder / "earthworks").rows:
    print(f"{row.name}: {row.found:,.3f} {row.units}, true {row.truth:,.3f}")
