"""How much ground: a dredged bed, a heap on three dates, and the level of a pond, each beside what is known of it."""

from evrin.analysis import methods_table
from evrin.demo import earthworks

found = earthworks.measure()
for row in found.rows:
    away = row.volume - row.truth
    print(f"{row.name}: {row.volume:,.1f} m³ ± {row.within_95:,.1f}, true {row.truth:,.1f}, {away:+.1f}")

before, after = found.surfaces["bed-before.xml"], found.surfaces["bed-after.xml"]
dredging = after.volume_above(before, areas := {"work": [[4097, 2806], [4137, 2806], [4137, 2812], [4097, 2812]]})
total, difference = dredging.total, after.less(before, areas)
print(after)
print(f"dredged within the work: cut {total.cut:,.1f}, fill {total.fill:,.1f}, net {total.net:,.1f} m³")
print(f"standard deviation by shots {total.net_spread.shots:.2f}, shared {total.net_spread.shared:.2f} m³")

for spacing in (4.0, 2.0, 1.0):
    table, _ = methods_table(difference, (total.cut, total.fill), spacing=spacing, bearing_deg=90.0, cell=spacing / 4)
    print(f"\nspacing {spacing:g} m, cells {spacing / 4:g} m")
    print(table.round(2).to_string(index=False))

heap = found.heaps["2026-05-12"]
print("\n" + heap.table.round(1).to_string(index=False))
print("\n" + before.level_volumes().table(levels=[39.8, 39.9, 40.0]).round(2).to_string(index=False))
