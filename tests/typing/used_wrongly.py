"""Each statement has one fault that a check of types has to see. It is never run."""

from pathlib import Path

import evrin
from evrin.analysis import Factors, cross_sections, find_toe, trust
from evrin.draw import Shades, map_sheet
from evrin.making import Pad, Slopes, combine, pad_to_ground
from evrin.recipe import append_entry, read_record
from evrin.report import write_look

ground = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2]])
build = evrin.Recipe.read("site.toml").build()
line = evrin.Alignment.along([(0, 0), (8, 8)])
# From here on, every statement is wrong.
evrin.Surfaces
evrin.triangulate()
evrin.triangulate([[0, 0, 1]], longest="far")
evrin.triangulate([[0, 0, 1]], units=1)
evrin.read_surface(3)
evrin.read_surface("a.xml", unit="m")
evrin.write("a.xml")
evrin.write("a.xml", build)
evrin.write("a.xml", ground, method="cubic")
evrin.write_lines("a.dxf", ground)
evrin.compare(build)
evrin.compare(build, "b.toml")
evrin.freeze(ground, "folder")
evrin.checked_edit("flip")
evrin.Frame(units=3)
evrin.Recipe.read(None)
evrin.Recipe.read("a.toml").build(kept=True)
evrin.Recipe.read("a.toml").build(fresh="yes")
evrin.Recipe.read("a.toml").tables.sites
evrin.RecipeDocument(4)
evrin.RecipeDocument("a.toml").appends("trim")
evrin.Editor.of(build)
evrin.Editor.of(ground).flip("here")
evrin.SourceLine("kerb")
evrin.SourceLine("kerb", [[0, 0, 1]], closed="yes")
evrin.Surface.read()
evrin.Surface.read("a.xml", axes="exchanged")
evrin.Surface.from_arrays([[0, 0, 1]])
evrin.Surface.from_arrays([[0, 0, 1]], [[0, 1, 2]], title="field")
ground.renamed(called="field")
ground.renamed(name=7)
ground.vertex
ground.height(1.0)
ground.slope(1.0, 2.0, unit="percent")
ground.height_at(1.0).height
ground.height_at(1.0, 2.0).heights
ground.contours(intervall=0.5)
ground.contours("x")
ground.contours(0.5, index="five")
ground.contours(0.5).lines
ground.contours(0.5, smooth=None)
ground.profile()
ground.profile([(0, 0), (8, 8)], 100.0)
ground.profile([(0, 0), (8, 8)]).chainages
ground.sections(line, 5.0)
ground.sections(line, 5.0, left="wide", right=4.0)
ground.sections(line, 5.0, left=4.0, right=4.0)[0].station
ground.points_along([(0, 0), (8, 8)])
ground.points_along(line, every=5.0)
ground.slope_bands()
ground.slope_bands([2, 5], unit="per cent")
ground.height_bands([1.0], unit="m")
ground.aspect_bands(8)
ground.check_points()
ground.check_points([[0, 0, 1]], tolerance="3 cm")
ground.check_points([[0, 0, 1]]).rmse
ground.figures("all")
ground.figures().plan_area
ground.faults(True)
ground.water_paths()
ground.water_paths([(1.0, 1.0)])[0].ends
ground.hollows("deep")
ground.summits(rise=0.2)
ground.difference()
ground.difference(1.0)
ground.difference(ground).root_mean_square
ground.less("plane")
ground.less(ground, inside={})
ground.volume_above()
ground.volume_above("level")
ground.volume_above(1.0, factors=1.2)
ground.volume_above(1.0, spread="2 cm")
ground.volume_above(1.0).total.cuts
ground.heap_volume()
ground.heap_volume([(0, 0)], distance=5.0)
ground.level_volumes().below(1.0)
ground.gridded()
ground.gridded(1.0, "cubic")
ground.gridded(1.0).height
ground.clip(inside=[[0, 0]])
ground.clip([[0, 0]], crisp="yes")
ground.transform()
ground.transform(25832)
ground.write()
ground.write("a.dxf", parts="faces", cells=1.0)
ground.plot(shading="colour")
ground.plot(contour=None)
build.surfaces
build.compare()
build.compare("b.toml")
build.freeze()
build.report()
build.report("a.html", contours=0.5)
build.report("a.html", progress=3)
build.findings[0].where
build.open_findings()
trust("ground")
trust(ground).far
find_toe(ground)
cross_sections(ground, line, left=4.0)
Factors(bulk=1.2)
Shades("colour")
map_sheet(ground, shading="rainbow")
combine(ground, newer=True)
pad_to_ground(Pad([[0, 0]], Slopes()))
read_record(Path("a.jsonl"))[0][0].day
append_entry("a.jsonl")
write_look(ground)
