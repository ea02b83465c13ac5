"""`evrin build`, `evrin check`, `evrin convert`."""

from __future__ import annotations

from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from evrin.cli.options import AsJson, RecipeFile
from evrin.cli.terminal import (
    DONE,
    OPEN,
    finding_record,
    load_surface,
    messages,
    output,
    print_frame,
    print_json,
    print_rows,
    progress,
    say_written,
)

if TYPE_CHECKING:
    from evrin.recipe import Build


class Gridding(StrEnum):
    """How a grid takes its heights."""

    linear = "linear"
    natural = "natural"


def build(
    recipe: RecipeFile,
    out: Annotated[
        list[Path] | None, typer.Option("--out", "-o", help="A surface file to write; may be given again.")
    ] = None,
    fresh: Annotated[bool, typer.Option("--fresh", help="Make everything anew, whatever is kept.")] = False,
    as_json: AsJson = False,
) -> int:
    """Build a recipe; print stages, tally and findings; write surfaces. Exit code 1: open findings remain.

    What has not changed since an earlier build is used again; it is kept in .evrin-cache beside the recipe, which can
    be deleted at any time.
    """
    from evrin.formats import write
    from evrin.formats.registry import check_writable

    targets = out or []
    for target in targets:
        check_writable(target)
    built = _built(recipe, fresh=fresh)
    for target in targets:
        write(target, built.surface)
        say_written(target)
    if as_json:
        print_json(_build_record(built))
    else:
        _print_build(built)
    return OPEN if built.open_findings else DONE


def check(
    recipe: RecipeFile,
    picture: Annotated[Path | None, typer.Option(help="A plan with the findings marked (.png, .pdf, .svg).")] = None,
    mends: Annotated[
        bool, typer.Option("--mends", help="Print tables that mend the open findings, to be added to the recipe.")
    ] = False,
    as_json: AsJson = False,
) -> int:
    """Print the findings of a recipe, with places and mends. Exit code 1: open findings remain."""
    from evrin.check.mends import mend_tables

    if picture is not None:
        from evrin.draw.sheet import check_picture

        check_picture(picture)
    built = _built(recipe)
    if picture is not None:
        from evrin.draw import map_sheet
        from evrin.draw.sheet import save_sheet

        save_sheet(map_sheet(built.surface, findings=built.findings, title="findings"), picture)
        say_written(picture)
    if as_json:
        print_json([finding_record(number, finding) for number, finding in enumerate(built.findings, 1)])
    elif mends:
        print(mend_tables(built.findings))
    else:
        print_findings(built)
        if any(finding.snippet for finding in built.open_findings):
            messages().print(
                f"evrin check {recipe} --mends prints tables that mend some of them", markup=False, soft_wrap=True
            )
    return OPEN if built.open_findings else DONE


def convert(
    surface: Annotated[Path, typer.Argument(metavar="SURFACE", help="A recipe or a surface file.")],
    out: Annotated[Path, typer.Argument(metavar="OUT", help="The file to write, its format by extension.")],
    cell: Annotated[float | None, typer.Option(help="Cell size of a grid.")] = None,
    method: Annotated[Gridding, typer.Option(help="How a grid takes its heights.")] = Gridding.linear,
    part: Annotated[
        list[str] | None, typer.Option(help="Of a drawing: faces, edges, points, lines; may be given again.")
    ] = None,
    name: Annotated[str, typer.Option(help="Which surface, where the file holds several.")] = "",
) -> int:
    """Write a surface in another format."""
    from evrin.formats import write
    from evrin.formats.registry import check_writable

    check_writable(out, cell=cell, parts=part or [])
    write(out, load_surface(surface, name), cell=cell, method=method.value, parts=part or [])
    say_written(out)
    return DONE


COMMANDS = (build, check, convert)


def _built(recipe: Path, *, fresh: bool = False) -> Build:
    from evrin.recipe import Recipe

    with progress() as step:
        return Recipe.read(recipe).build(step, keep=True, fresh=fresh)


def _build_record(built: Build) -> dict[str, object]:
    surface = built.surface
    return {
        "surface": {
            "name": surface.name,
            "units": surface.units,
            "crs": surface.crs,
            "vertices": len(surface.vertices),
            "triangles": len(surface.triangles),
            "plan_area": surface.plan_area,
            "slope_area": surface.slope_area,
            "lowest": float(surface.vertices[:, 2].min()),
            "highest": float(surface.vertices[:, 2].max()),
        },
        "stages": [{"name": s.name, "seconds": s.seconds, "did": s.did, "reused": s.reused} for s in built.stages],
        "changed": built.changed,
        "edits": built.edits,
        "tally": built.tally.to_dict(orient="records"),
        "findings": [finding_record(number, finding) for number, finding in enumerate(built.findings, 1)],
    }


def _print_build(built: Build) -> None:
    surface = built.surface
    console = output()
    console.print(f"[bold]{surface.name}[/]")
    low, high = surface.vertices[:, 2].min(), surface.vertices[:, 2].max()
    unit = surface.units
    console.print(
        f"{len(surface.vertices):,} vertices, {len(surface.triangles):,} triangles; "
        f"plan area {surface.plan_area:,.1f} {unit}², slope area {surface.slope_area:,.1f} {unit}²; "
        f"heights {low:.3f} to {high:.3f} {unit}\n"
    )
    rows = [[s.name, "as kept" if s.reused else f"{s.seconds:.2f} s", s.did] for s in built.stages]
    print_rows(["stage", "time", "what it did"], rows, "Stages", [False, True, False])
    if built.changed is not None:
        told = (
            f"changed since the last build: {', '.join(built.changed)}"
            if built.changed
            else "nothing has changed since the last build"
        )
        console.print(told, markup=False)
    for text in built.edits:
        console.print(f"edit {text}", markup=False)
    console.print()
    print_frame(built.tally, "Tally")
    console.print()
    print_findings(built)


def print_findings(built: Build) -> None:
    """Print findings, each with its shots and the way to mend it."""
    console = output()
    if not built.findings:
        console.print("Findings: none")
        return
    rows = []
    for number, finding in enumerate(built.findings, 1):
        state = f"accepted: {finding.accepted}" if finding.accepted else finding.severity
        where = f"{finding.place[0]:.2f}, {finding.place[1]:.2f}" if finding.place else "–"
        told = [finding.message, *finding.shots[:3]]
        if len(finding.shots) > 3:
            told.append("…")
        if finding.is_open:
            told.append(f"mend: {finding.mend}")
        rows.append([str(number), finding.code, state, where, "\n".join(told)])
    title = f"Findings: {len(built.findings)}, {len(built.open_findings)} open"
    print_rows(["", "code", "state", "place", "what"], rows, title, [True, False, False, False, False])
