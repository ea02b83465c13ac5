"""Eight stories, each from files that a colleague might send to something that can be handed on, in a few commands."""

import os
import subprocess
import sys
import tempfile
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

import evrin
from evrin.demo import lay_out, stories

LADDER = "ladder=[{along=[[4090,2900],[4090,3000]],start=43.5,step=0.5}]"
STORIES: dict[str, tuple[str, ...]] = {
    "bare contours levelled, extended to a boundary, contours out": (
        "draft bare-contours.dxf limit.geojson -o hill.toml",
        f"edit hill.toml put source:1 {LADDER}",
        "edit hill.toml put boundary:1 reach=25",
        "contours hill.toml --interval 0.25 -o hill-contours.dxf -o hill.png",
        "report hill.toml -o hill.html",
    ),
    "a road with kerbs and a coded building": (
        "inspect road.csv --columns PNEZD",
        "draft road.csv -o road.toml",
        "edit road.toml put trim longest_edge=30",
        "map road.toml -o road.png --interval 0.1 --scale 500 --size A3",
        "profile road.toml --along 4000,2940;4084,2946 -o road-profile.png",
        "report road.toml -o road.html",
    ),
    "a legacy drawing of loose edges: the same triangles, outline, edit, freeze": (
        "draft received/other-office-edges.dxf -o legacy.toml",
        "compare legacy.toml received/other-office.xml",
        "outline legacy.toml -o legacy-outline.geojson",
        "edit legacy.toml raise --at {vertex} --by 0.05 --why step-in-the-deck",
        "freeze legacy.toml -o legacy-frozen",
    ),
    "somebody's surface: a vertex moved, the rim trimmed, handed back": (
        "draft their-ground.xml -o theirs.toml",
        "edit theirs.toml move --at 4096,2896 --to 4096.4,2896.3 --why shot-again",
        "edit theirs.toml put trim longest_edge=40",
        "build theirs.toml -o theirs-back.xml",
        "compare their-ground.xml theirs-back.xml",
    ),
    "with and without breaklines compared": (
        "draft field/day1.csv -o with.toml",
        "draft field/day1.csv -o without.toml",
        "edit without.toml off field_codes",
        "compare with.toml without.toml -o breaklines.png",
    ),
    "points at zero, raised to their texts": (
        "draft floor.dxf -o floor.toml",
        "build floor.toml -o floor.xml",
        "report floor.toml -o floor.html",
    ),
    "several islands as boundary": (
        "draft shots.csv islands.geojson -o islands.toml",
        "edit islands.toml on boundary:1 --why surveyed-on-foot",
        "report islands.toml -o islands.html",
    ),
    "a cloud, shots and breaklines": (
        "inspect received/flight-bare.laz",
        "draft received/flight-bare.laz field/day1.csv -o all.toml",
        "build all.toml -o all.xml",
        "trust all.toml -o trust.png",
        "report all.toml -o all.html",
    ),
}
RECIPES = ("hill", "road", "legacy", "theirs", "with", "floor", "islands", "all")


def run(words: Sequence[str]) -> None:
    """Print a command and run it."""
    print("$ evrin", *words, flush=True)
    command = [sys.executable, "-m", "evrin", *words, "--quiet"]
    print(subprocess.run(command, capture_output=True, text=True, check=False).stdout, end="")


def main(folder: Path) -> None:
    """Lay out what was sent, and run each story."""
    lay_out(folder, received=True)
    for write in (stories.write_bare_contours, stories.write_road, stories.write_floor, stories.write_islands):
        write(folder)
    os.chdir(folder)
    ours = evrin.Recipe.read("clean.toml").build().surface
    evrin.write("their-ground.xml", replace(ours, description="as handed over in May", crs="EPSG:25832"))
    x, y = evrin.read_surface("received/other-office.xml").vertices[200, :2].tolist()
    places = {"{vertex}": f"{x:.3f},{y:.3f}"}
    for (story, commands), recipe in zip(STORIES.items(), RECIPES, strict=True):
        print(f"\n{story} ({len(commands)} commands)")
        for command in commands:
            run([places.get(word, word.replace(";", " ")) for word in command.split()])
        print(evrin.Recipe.read(f"{recipe}.toml").build().surface)


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as temporary:
        main(Path(temporary))
