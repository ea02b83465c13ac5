"""The whole example: build raw and clean, write what a client gets, and measure both against the truth."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass
from pathlib import Path

from evrin.analysis.along.alignment import Alignment
from evrin.base.named_values import Row
from evrin.base.wording import signed
from evrin.demo.earthworks import VolumeAndTruth, hand_over, measure
from evrin.demo.laying_out import RECIPES, lay_out, true_error
from evrin.demo.works import SECTION, Beside, lay_out_works, work_on
from evrin.draw.sheets.plan_sheets import map_sheet, pair_sheet
from evrin.draw.sheets.profile_sheets import profile_sheet
from evrin.draw.sheets.sheet import save_sheet
from evrin.draw.sheets.view_sheet import view_of
from evrin.formats.door.writers import write
from evrin.recipe.build import Build
from evrin.recipe.building.stage_log import Progress
from evrin.recipe.document.recipe_text import RecipeDocument
from evrin.recipe.recipe import Recipe
from evrin.report.report_pictures import Along
from evrin.report.surface_report import write_report
from evrin.report.viewer_page import write_look

ALONG = [(4078.0, 2889.25), (4112.0, 2902.0), (4096.0, 2832.0)]
INTERVAL = 0.25
TALLIED = ("used", "merged", "weeded", "flattened", "outside", "trimmed", "left_out")


@dataclass(frozen=True)
class Story:
    """What the example showed.

    Attributes
    ----------
    builds : dict of str to Build
        ``raw`` and ``clean``.
    errors : dict of str to (float, float)
        RMSE and largest error against the true ground.
    steps : list of str
        What the clean recipe does, with its reasons.
    written : list of Path
        Files that were written.
    suggestions : list of str
        Commands to try next, without the program's name.
    stages : list of (str, Build, (float, float))
        The clean recipe a group of tables at a time: what was added, the build, its errors.
    volumes : list of VolumeAndTruth
        The silt heap on three dates and the dredged bed, measured beside the truth.
    works : list of Beside
        The lay-by, what lies under it, and a corner surveyed again, beside the truth.
    """

    builds: dict[str, Build]
    errors: dict[str, tuple[float, float]]
    steps: list[str]
    written: list[Path]
    suggestions: list[str]
    stages: list[tuple[str, Build, tuple[float, float]]]
    volumes: list[VolumeAndTruth]
    works: list[Beside]

    def stage_rows(self) -> list[tuple[str, ...]]:
        """Return what each group of the clean recipe's tables does, a row a group: tally, findings, errors."""
        rows = []
        for label, build, (rmse, largest) in self.stages:
            total = build.tally.iloc[-1]
            counts = [f"{int(total[name]):,}" for name in TALLIED]
            rows.append((label, *counts, str(len(build.open_findings)), f"{rmse:.3f}", f"{largest:.2f}"))
        return rows

    def rows(self) -> list[tuple[str, ...]]:
        """Return the comparison, a row a figure: name, raw, clean."""
        raw, clean = self.builds["raw"], self.builds["clean"]
        codes = sorted({finding.code for build in (raw, clean) for finding in build.open_findings})
        counts = [Counter(finding.code for finding in build.open_findings) for build in (raw, clean)]
        return [
            ("shots and line vertices read", *(f"{b.tally['read'].iloc[-1]:,}" for b in (raw, clean))),
            ("triangles", *(f"{len(b.surface.triangles):,}" for b in (raw, clean))),
            ("plan area, m²", *(f"{b.surface.plan_area:,.0f}" for b in (raw, clean))),
            ("open findings", *(f"{len(b.open_findings)}" for b in (raw, clean))),
            *((f"  {code}", *(str(count[code]) for count in counts)) for code in codes),
            ("RMSE against the true ground, m", *(f"{self.errors[name][0]:.3f}" for name in ("raw", "clean"))),
            ("largest error, m", *(f"{self.errors[name][1]:.2f}" for name in ("raw", "clean"))),
        ]

    def volume_rows(self) -> list[tuple[str, ...]]:
        """Return each volume beside its truth: name, measured, ±, true, difference."""
        return [
            (
                row.name,
                f"{row.volume:,.1f}",
                f"{row.within_95:,.1f}",
                f"{row.truth:,.1f}",
                signed(row.volume - row.truth, 1),
            )
            for row in self.volumes
        ]

    def work_rows(self) -> list[tuple[str, ...]]:
        """Return each figure of the works beside its truth: name, found, true, difference."""
        rows: list[tuple[str, ...]] = []
        for row in self.works:
            places = 3 if row.units == "m" else 1
            measured, truth = (f"{value:,.{places}f}" for value in (row.found, row.truth))
            rows.append((f"{row.name}, {row.units}", measured, truth, signed(row.found - row.truth, places)))
        return rows

    def record(self) -> Row:
        """Return the comparison as plain values."""
        return {
            name: {
                "read": int(build.tally["read"].iloc[-1]),
                "triangles": len(build.surface.triangles),
                "open_findings": dict(Counter(finding.code for finding in build.open_findings)),
                "rmse": self.errors[name][0],
                "largest_error": self.errors[name][1],
            }
            for name, build in self.builds.items()
        } | {
            "volumes": [row._asdict() for row in self.volumes],
            "works": [row._asdict() for row in self.works],
            "stages": [
                {
                    "added": label,
                    "tally": {name: int(value) for name, value in build.tally.iloc[-1].items() if name != "source"},
                    "open_findings": dict(Counter(finding.code for finding in build.open_findings)),
                    "rmse": error[0],
                    "largest_error": error[1],
                }
                for label, build, error in self.stages
            ],
        }


def run(folder: Path, progress: Progress) -> Story:
    """Lay out the site in *folder* and run the example on it."""
    progress("laying out the field files")
    written = lay_out(folder, received=True)
    builds, errors = {}, {}
    for name in RECIPES:
        key = name.removesuffix(".toml")
        builds[key] = Recipe.read(folder / name).build(lambda stage, key=key: progress(f"{key}: {stage}"), keep=True)  # type: ignore[misc]
        errors[key] = true_error(builds[key].surface)
    stages = []
    for label, recipe in Recipe.read(folder / "clean.toml").steps():
        progress(f"clean, a group at a time: {label}")
        build = recipe.build(keep=True)
        stages.append((label, build, true_error(build.surface)))
    progress("measuring the silt heap on three dates, and the river bed before and after dredging")
    earthworks = measure()
    written += hand_over(folder / "earthworks", earthworks)
    progress("building the lay-by, laying the layers under it, combining the ground with a corner surveyed again")
    written += lay_out_works(folder / "earthworks")
    works = work_on(builds["clean"].surface, folder / "earthworks")
    progress("writing surfaces and drawing pictures")
    written += _hand_over(folder, builds, errors)
    steps = _steps(folder / "clean.toml")
    return Story(
        builds=builds,
        errors=errors,
        steps=steps,
        written=written,
        suggestions=_suggestions(folder),
        stages=stages,
        volumes=earthworks.rows,
        works=works.rows,
    )


def _hand_over(folder: Path, builds: dict[str, Build], errors: dict[str, tuple[float, float]]) -> list[Path]:
    raw, clean = builds["raw"], builds["clean"]
    ground = clean.surface
    lines = ground.contours(INTERVAL)
    out = {
        name: folder / name
        for name in (
            *("ground.xml", "contours.geojson", "before-after.png", "map.png", "slopes.png", "profile.png"),
            *("view.png", "report.html", "look.html"),
        )
    }
    write(out["ground.xml"], ground)
    write(out["contours.geojson"], lines)
    west, south, east, north = ground.extent
    sides = [
        (build.surface, build.open_findings, _caption(key, build, errors[key], (west, south, east, north)))
        for key, build in (("raw", raw), ("clean", clean))
    ]
    facts = ["units: metres", "open findings numbered; relief lit from the north-west"]
    pair = pair_sheet(sides, (west - 8, south - 8, east + 8, north + 8), "Ostrel Weir", "before and after", facts)
    save_sheet(pair, out["before-after.png"])
    plan = map_sheet(ground, contours=lines, title="existing ground")
    save_sheet(plan, out["map.png"])
    coarse = ground.contours(1.0)
    slopes = map_sheet(ground, shading="slope", triangles=False, contours=coarse, title="slope bands")
    save_sheet(slopes, out["slopes.png"])
    along = {name: build.surface.profile(ALONG) for name, build in (("clean", clean), ("raw", raw))}
    profiles = profile_sheet(along, name="Ostrel Weir", title="profile along the heap's ridge, then across the leat")
    save_sheet(profiles, out["profile.png"])
    save_sheet(view_of(ground, contours=ground.contours(2.0 * INTERVAL)), out["view.png"])
    lines_along = [Along("along the heap's ridge, then across the leat", Alignment.along(ALONG))]
    write_report(clean, out["report.html"], interval=INTERVAL, along=lines_along, look="look.html")
    write_look(out["look.html"], ground, clean.findings, lines, report="report.html")
    return list(out.values())


def _caption(key: str, build: Build, error: tuple[float, float], frame: tuple[float, float, float, float]) -> str:
    west, south, east, north = frame
    places = [finding.place for finding in build.open_findings]
    outside = sum(not (p and west <= p[0] <= east and south <= p[1] <= north) for p in places)
    summary = f"{key}: {len(places)} open findings" + (f", {outside} of them not on this sheet" if outside else "")
    return f"{summary}\nRMSE {error[0]:.3f} m, largest error {error[1]:.2f} m against the true ground"


def _steps(recipe: Path) -> list[str]:
    return [f"{row['table']}: {row['why']}" for row in RecipeDocument(recipe).rows() if row["why"] and row["on"]]


def _words(line: list[tuple[float, float]]) -> str:
    return " ".join(f"{x:g},{y:g}" for x, y in line)


def _suggestions(folder: Path) -> list[str]:
    clean, raw = folder / "clean.toml", folder / "raw.toml"
    received, works = folder / "received", folder / "earthworks"
    first = received / "old-survey.dxf"
    looked = [f"inspect {first} -o {folder / 'old-survey.png'}"] if first.exists() else []
    return [
        *looked,
        f"draft {received} -o {folder / 'first.toml'}",
        f"check {raw} --fixes",
        f"build {clean} -o {folder / 'ground.xml'}",
        f"height {clean} --at 4100,2898",
        f"edit {clean} list",
        f"sections {clean} {raw} --along {folder / 'field' / 'track-centre.csv'} --every 15 --left 12 --right 12 "
        f"-o {folder / 'sections.pdf'}",
        f"height {raw} --points {folder / 'field' / 'check.csv'} --columns PNEZD --tolerance 0.06",
        f"edit {clean} raise --at 4096,2896 --by 0.1 --why 'to see what it does' --dry-run",
        f"compare {raw} {clean} -o {folder / 'raw-and-clean.png'}",
        f"volume {works / 'bed-before.xml'} {works / 'bed-after.xml'} --spacing 4 --bearing 90 --cell 0.5",
        f"volume {clean} --heap 4096,2896 -o {folder / 'heap.png'}",
        f"record {works / 'heap.jsonl'} -o {folder / 'heap-record.png'}",
        f"combine {clean} {works / 'corner-later.xml'} -o {folder / 'combined.png'}",
        f"pad {clean} --outline {works / 'lay-by.geojson'} --level 43.6 --balance -o {folder / 'lay-by.png'}",
        f"layers {clean} --holes {works / 'boreholes.csv'} --along '{_words(SECTION)}' -o {folder / 'layers.png'}",
    ]
