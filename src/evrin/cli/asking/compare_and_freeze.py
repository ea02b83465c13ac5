"""`evrin compare`, `evrin freeze`, `evrin outline`."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from evrin.base.wording import counted
from evrin.cli.options.shared_options import (
    AsJson,
    Columns,
    Convert,
    PictureOut,
    RecipeFile,
    sorted_outputs,
    write_outputs,
    written,
)
from evrin.cli.terminal import (
    DONE,
    finding_record,
    load_build,
    load_surface,
    messages,
    output,
    print_answer,
    print_rows,
    records,
    say_written,
)

if TYPE_CHECKING:
    from matplotlib.figure import Figure

    from evrin.check import Finding
    from evrin.recipe.build import Build
    from evrin.recipe.handover.comparison import Comparison
    from evrin.surface.surface import Surface


def compare(
    first: Annotated[Path, typer.Argument(metavar="A", help="A recipe or a surface.")],
    second: Annotated[Path, typer.Argument(metavar="B", help="Another.")],
    out: PictureOut = None,
    convert: Convert = False,
    as_json: AsJson = False,
) -> int:
    """Compare two variants: lines of the recipes, findings, tally, heights; draw both plans and the difference.

    Of surfaces that are no recipes the heights are compared, and how many vertices, triangles and lines there are.
    """
    from evrin.formats.door.surface_files import transformed
    from evrin.recipe.handover.comparison import compare
    from evrin.surface.frame import check_same_frame
    from evrin.surface.surface import Surface

    wanted = sorted_outputs(out, pictures=True)
    sides: list[Build | Surface]
    sides = [load_build(path) if path.suffix.lower() == ".toml" else load_surface(path) for path in (first, second)]
    one, other = map(_surface_of, sides)
    if convert and not other.frame.is_like(one.frame):
        other = transformed(other, one.frame)
        sides[1] = other if isinstance(sides[1], Surface) else replace(sides[1], surface=other)
    check_same_frame({str(first): one.frame, str(second): other.frame})
    comparison = compare(sides[0], sides[1], names=(first.name, second.name))

    def sheet() -> Figure:
        from evrin.draw.sheets.comparison_sheet import comparison_sheet

        plans = [_plan_of(path.name, side) for path, side in zip((first, second), sides, strict=True)]
        name = f"{first.stem} and {second.stem}"
        return comparison_sheet(plans, comparison.difference, comparison.figures(), comparison.lines, name=name)

    write_outputs(wanted, sheet=sheet)
    if as_json:
        print_answer(records(comparison.tally), other, **_comparison_record(comparison))
    else:
        print_comparison(comparison)
    return DONE


def _surface_of(side: Build | Surface) -> Surface:
    from evrin.surface.surface import Surface

    return side if isinstance(side, Surface) else side.surface


def _plan_of(name: str, side: Build | Surface) -> tuple[Surface, Sequence[Finding], str]:
    """A surface with its open findings and a caption."""
    from evrin.surface.surface import Surface

    if isinstance(side, Surface):
        return side, (), f"{name}: {counted(len(side.triangles), 'triangle')}"
    return side.surface, side.open_findings, f"{name}: {counted(len(side.open_findings), 'open finding')}"


def _comparison_record(comparison: Comparison) -> dict[str, object]:
    only = {"findings_only_first": comparison.only_first, "findings_only_second": comparison.only_second}
    return {
        **comparison.record(),
        **{key: [finding_record(k, finding) for k, finding in enumerate(own, 1)] for key, own in only.items()},
    }


def print_comparison(comparison: Comparison) -> None:
    """Print what differs between two variants."""
    console = output()
    if len(comparison.tally) and comparison.names != ("before", "after"):
        console.print("Lines of the recipes" if comparison.lines else "The recipes are the same.", style="bold")
    for line in comparison.lines:
        console.print(line)
    for name, findings in zip(comparison.names, (comparison.only_first, comparison.only_second), strict=True):
        rows = [[f.code, f.severity if f.is_open else "accepted or note", f.message] for f in findings]
        if rows:
            console.print()
            print_rows(["code", "state", "what"], rows, f"Findings only in {name}: {len(rows)}")
    changed = comparison.tally[comparison.tally["change"] != 0]
    if len(changed):
        rows = [
            [str(items).replace("_", " "), f"{first:,}", f"{second:,}", f"{change:+,}"]
            for items, first, second, change in changed.itertuples(index=False)
        ]
        print_rows(["", *comparison.names, "change"], rows, "Tally, where it differs", [False, True, True, True])
    elif len(comparison.tally):
        console.print("The tally is the same.")
    console.print()
    print_rows(["heights", ""], [list(row) for row in comparison.figures()], "", [False, True])


def freeze(
    recipe: RecipeFile,
    folder: Annotated[Path, typer.Option("--out", "-o", metavar="FOLDER", help="The folder to write to.")],
) -> int:
    """Write a surface without its sources: LandXML, a table of the shots behind its vertices, a recipe of the two."""
    from evrin.recipe.handover.freeze import freeze as freeze_build

    built = load_build(recipe)
    for path in freeze_build(built, folder):
        say_written(path)
    return DONE


def outline(
    surface: Annotated[
        Path, typer.Argument(metavar="SURFACE", help="A recipe or a surface; with --round any file of points or lines.")
    ],
    out: Annotated[list[Path], written("Lines to write (.dxf, .gpkg, .shp, .geojson, .csv); may be given again.")],
    round_points: Annotated[
        bool, typer.Option("--round", help="A tight outline around all points and lines instead of a surface's edge.")
    ] = False,
    longest_edge: Annotated[
        float | None,
        typer.Option(metavar="LENGTH", help="With --round: no side longer than this, except where the hull has one."),
    ] = None,
    columns: Columns = None,
) -> int:
    """Write a surface's edge, or a tight outline around its vertices, as closed 3-D lines."""
    from evrin.formats.door.writers import check_lines_writable, write_lines
    from evrin.making.limits.outlines import as_lines, outline, outline_round

    wanted = sorted_outputs(out, others=check_lines_writable)
    if round_points and surface.suffix.lower() != ".toml":
        from evrin.formats.door.claims import Claim
        from evrin.formats.door.readers import chosen_parts, look

        file, claim = Claim.parsed(str(surface))
        contents = chosen_parts(file, look(file, columns or claim.columns), claim)
        places, lines = contents.with_heights()
        rings = outline_round(places, lines, longest_edge)
        units, crs = claim.units or contents.stated.units, claim.crs or contents.stated.crs
    else:
        ground = load_surface(surface)
        rings = outline_round(ground.vertices, longest_edge=longest_edge) if round_points else outline(ground)
        units, crs = ground.units, ground.crs
    messages().print(f"{counted(len(rings), 'closed line')}, {counted(sum(map(len, rings)), 'vertex', 'vertices')}")
    for path in wanted.others:
        write_lines(path, as_lines(rings, "outline"), units=units or "m", crs=crs or "local")
        say_written(path)
    return DONE


COMMANDS = (compare, freeze, outline)
