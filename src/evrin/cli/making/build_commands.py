"""`evrin build`, `evrin check`, `evrin convert`."""

from __future__ import annotations

from collections import Counter
from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from evrin.base.wording import counted, one_line
from evrin.cli.options.shared_options import (
    AsJson,
    Out,
    PictureOut,
    RecipeFile,
    SurfaceFile,
    sorted_outputs,
    write_outputs,
    written,
)
from evrin.cli.options.what_is_written import WRITES
from evrin.cli.terminal import (
    DONE,
    finding_record,
    load_build,
    load_surface,
    messages,
    open_because,
    output,
    print_answer,
    print_records,
    print_rows,
    writing,
)

if TYPE_CHECKING:
    from matplotlib.figure import Figure

    from evrin.check import Finding
    from evrin.recipe.build import Build
    from evrin.recipe.building.after_building import AfterBuilding


_SHOWN = 12


class Gridding(StrEnum):
    """How a grid takes its heights."""

    linear = "linear"
    natural = "natural"


def build(
    recipe: RecipeFile,
    out: Annotated[Out, written("Surface files to write; may be given again.")] = None,
    as_json: AsJson = False,
) -> int:
    """Build a recipe; print stages, tally and findings; write surfaces. Exit code 1: open findings remain.

    What has not changed since an earlier build is used again; it is kept in .evrin-cache beside the recipe, which can
    be deleted at any time.
    """
    from evrin.formats.door.writers import check_writable, write

    wanted = sorted_outputs(out, others=check_writable)
    built = load_build(recipe)
    for target in wanted.others:
        with writing(target):
            write(target, built.surface)
    if as_json:
        print_answer(built.tally_rows, built.surface, **_build_record(built))
    else:
        _print_build(built)
    return open_because(counted(len(built.open_findings), "open finding")) if built.open_findings else DONE


def check(
    recipe: RecipeFile,
    out: PictureOut = None,
    fixes: Annotated[
        bool, typer.Option("--fixes", help="Print tables that fix the open findings, to be added to the recipe.")
    ] = False,
    code: Annotated[
        list[str] | None,
        typer.Option("--code", metavar="CODE", help="Only findings of this code, all of them; may be given again."),
    ] = None,
    as_json: AsJson = False,
) -> int:
    """Print the findings of a recipe, with places and fixes; mark them on a plan. Exit code 1: open ones remain."""
    from evrin.check import fix_tables
    from evrin.check.rule_registry import check_codes

    wanted = sorted_outputs(out, pictures=True)
    built = load_build(recipe)
    check_codes(code or ())
    numbered = [(k, each) for k, each in enumerate(built.findings, 1) if not code or each.code in code]

    def sheet() -> Figure:
        from evrin.draw.sheets.plan_sheets import map_sheet

        return map_sheet(built.surface, findings=built.findings, title="findings")

    write_outputs(wanted, sheet=sheet)
    if as_json:
        print_answer((finding_record(number, finding) for number, finding in numbered), built.surface)
    elif fixes:
        print(fix_tables([finding for _, finding in numbered]))
    else:
        print_findings(numbered, recipe, shorten=not code)
        if any(finding.snippet for finding in built.open_findings):
            messages().print(f"evrin check {recipe} --fixes prints tables that fix some of them", soft_wrap=True)
    return open_because(counted(len(built.open_findings), "open finding")) if built.open_findings else DONE


def status(recipe: RecipeFile, as_json: AsJson = False) -> int:
    """Print what is out of date, without building: files and tables since the last build, and what was written since.

    Exit code 1: something is.
    """
    from evrin.recipe.recipe import Recipe

    changes = Recipe.read(recipe).status()
    if not changes.is_built:
        state = "never built here"
    else:
        state = "changed since the last build" if changes.changed else "unchanged since the last build"
    rows = [{"what": recipe.name, "state": state}]
    rows += [{"what": name.removeprefix("file "), "state": "changed since the last build"} for name in changes.changed]
    rows += [{"what": each.file, "state": each.state} for each in changes.written]
    if as_json:
        print_answer(rows, up_to_date=changes.is_up_to_date)
    else:
        print_rows(["what", "state"], [[row["what"], row["state"]] for row in rows])
    return DONE if changes.is_up_to_date else open_because(f"{recipe.name} or what was written from it is out of date")


def convert(
    surface: SurfaceFile,
    out: Annotated[
        Path,
        WRITES,
        typer.Argument(
            metavar="OUT", help="The file to write, its format by extension; - is stdout, `-- -.xml` as XML."
        ),
    ],
    cell: Annotated[float | None, typer.Option(metavar="LENGTH", help="Cell size of a grid.")] = None,
    method: Annotated[
        Gridding, typer.Option(metavar="|".join(Gridding), help="How a grid takes its heights.")
    ] = Gridding.linear,
    part: Annotated[
        list[str] | None,
        typer.Option(metavar="PART", help="Of a drawing: faces, edges, points, lines; may be given again."),
    ] = None,
) -> int:
    """Write a surface in another format."""
    from evrin.formats.door.writers import check_writable, write

    check_writable(out, cell=cell, parts=part or [])
    loaded = load_surface(surface)
    with writing(out):
        write(out, loaded, cell=cell, method=method.value, parts=part or [])
    return DONE


COMMANDS = (build, check, status, convert)


def _build_record(built: Build) -> dict[str, object]:
    surface = built.surface
    return {
        "surface": {
            "name": surface.name,
            "vertices": len(surface.vertices),
            "triangles": len(surface.triangles),
            "plan_area": surface.plan_area,
            "slope_area": surface.slope_area,
            "lowest": float(surface.vertices[:, 2].min()),
            "highest": float(surface.vertices[:, 2].max()),
        },
        "stages": [{**vars(stage), "from_cache": list(stage.from_cache)} for stage in built.stages],
        "changed": built.changed,
        "edits": built.edits,
        **{after.name: [after.answer(each) for each in after.of(built.results)] for after in _results()},
        "findings": [finding_record(number, finding) for number, finding in enumerate(built.findings, 1)],
    }


def _results() -> list[AfterBuilding[Any]]:
    from evrin.recipe.steps import after_building

    return [after for _, after in after_building()]


def _print_build(built: Build) -> None:
    surface = built.surface
    console = output()
    console.print(one_line(surface.name), style="bold")
    low, high = surface.vertices[:, 2].min(), surface.vertices[:, 2].max()
    unit = surface.units
    console.print(
        f"{len(surface.vertices):,} vertices, {len(surface.triangles):,} triangles; "
        f"plan area {surface.plan_area:,.1f} {unit}², slope area {surface.slope_area:,.1f} {unit}²; "
        f"heights {low:.3f} to {high:.3f} {unit}\n"
    )
    rows = [[s.name, "unchanged" if s.reused else f"{s.seconds:.2f} s", s.described] for s in built.stages]
    print_rows(["stage", "time", "what it did"], rows, "Stages", [False, True, False])
    if built.changed is not None:
        changes = (
            f"changed since the last build: {', '.join(built.changed)}"
            if built.changed
            else "nothing has changed since the last build"
        )
        console.print(changes)
    for text in built.edits:
        console.print(f"edit {text}")
    console.print()
    print_records(list(built.tally_rows[0]), [list(row.values()) for row in built.tally_rows], title="Tally")
    console.print()
    for after in _results():
        for table in after.printed(after.of(built.results), unit):
            print_rows(table.heads, table.rows, table.title, table.is_number)
            console.print()
    print_findings(list(enumerate(built.findings, 1)), built.path)


def print_findings(findings: list[tuple[int, Finding]], recipe: Path | None, *, shorten: bool = True) -> None:
    """Print numbered findings, each with its shots and how to fix it; of each code the first, where that is asked."""
    console = output()
    if not findings:
        console.print("Findings: none")
        return
    rows = []
    of_code = Counter(finding.code for _, finding in findings)
    seen: Counter[str] = Counter()
    for number, finding in findings:
        seen[finding.code] += 1
        if shorten and seen[finding.code] > _SHOWN:
            if seen[finding.code] == of_code[finding.code]:
                more = f"and {of_code[finding.code] - _SHOWN:,} more: evrin check {recipe} --code {finding.code}"
                rows.append(["…", finding.code, "", "", more])
            continue
        state = f"accepted: {finding.accepted}" if finding.accepted else finding.severity
        where = f"{finding.place[0]:.2f}, {finding.place[1]:.2f}" if finding.place else "–"
        shots = finding.shots[:3] if shorten else finding.shots
        remarks = [one_line(text) for text in (finding.message, *shots)]
        if len(finding.shots) > len(shots):
            remarks.append(f"and {len(finding.shots) - len(shots):,} more: evrin check {recipe} --code {finding.code}")
        if finding.is_open:
            remarks.append(f"fix: {finding.fix}")
        rows.append([str(number), finding.code, state, where, "\n".join(remarks)])
    title = f"Findings: {len(findings)}, {sum(finding.is_open for _, finding in findings)} open"
    print_rows(["", "code", "state", "place", "what"], rows, title, [True, False, False, False, False])
