"""The report's tables: rows of text for each section."""

from __future__ import annotations

from typing import TYPE_CHECKING

from evrin.analysis.quality.statistics import figures_by_source, surface_figures
from evrin.analysis.terrain.banding import areas_of
from evrin.base.shown_table import TextTable
from evrin.base.wording import counted, signed, unsigned
from evrin.draw.shading import Shades
from evrin.draw.sheets.plan_sheets import band_names
from evrin.recipe.build import Build
from evrin.recipe.steps import after_building
from evrin.surface.frame import UNIT_NAMES

if TYPE_CHECKING:
    import pandas as pd


def of_frame(frame: pd.DataFrame, decimals: int = 3) -> TextTable:
    """Turn a frame into a table of the page."""
    numeric = [kind in "iuf" for kind in (dtype.kind for dtype in frame.dtypes)]
    rows = [[_cell(value, decimals) for value in row] for row in frame.itertuples(index=False)]
    return TextTable([str(name).replace("_", " ") for name in frame.columns], rows, numeric)


def _cell(value: object, decimals: int) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, float):
        return unsigned(value, decimals)
    return f"{value:,}" if isinstance(value, int) else str(value)


def survey_of(build: Build) -> list[tuple[str, str]]:
    """What a client asks first: by whom, when, in what system, how accurate, for what."""
    surface, facts = build.surface, build.surface.facts
    named = {
        "surveyed by": facts.surveyor,
        "surveyed": facts.surveyed,
        "client": facts.client,
        "job": facts.job,
    }
    rows = [(what, value) for what, value in named.items() if value]
    rows.append(
        (
            "surface",
            surface.description or f"{surface.kind} ground, {counted(len(surface.vertices), 'vertex', 'vertices')}",
        )
    )
    system = "local coordinates of the site" if surface.crs == "local" else surface.crs
    rows.append(("reference system", f"{system}, in {UNIT_NAMES[surface.units]}"))
    rows.append(("heights above", facts.height_datum or "not stated: state height_datum under [site]"))
    rows.append(("accuracy", _accuracy(build)))
    rows.append(("may be used for", facts.purpose or "not stated: state purpose under [site]"))
    left = counted(len(build.open_findings), "finding is", "findings are")
    rows.append(("open", f"{left} open, see annex A" if build.open_findings else "no finding is open"))
    return rows


def _accuracy(build: Build) -> str:
    known = [(name, checked.figures()) for name, checked in build.checked]
    parts = [
        f"{figures['count']:,} independent check points ({name}): mean {signed(figures['mean'])}, RMSE "
        f"{unsigned(figures['rmse'])}, 95 % within {unsigned(figures['accuracy_95'])} {build.surface.units}"
        for name, figures in known
        if figures["count"]
    ]
    return "; ".join(parts) or "not proved: no independent check points"


def tally_of(build: Build) -> TextTable:
    """Where every item read ended; columns that hold nothing are left out."""
    frame = build.tally
    kept = [name for name in frame.columns if name in ("source", "read", "used") or (frame[name] != 0).any()]
    return of_frame(frame[kept])


def figures_of(build: Build) -> TextTable:
    """The figures of the surface."""
    unit = build.surface.units
    squares, plain = ("plan_area", "slope_area"), ("vertices", "triangles", "edges", "breakline_edges", "parts")
    rows = []
    for name, value in surface_figures(build.surface).items():
        text = f"{value:,}" if name in plain else f"{value:,.{1 if name in squares else 3}f}"
        measure = "" if name in plain else "%" if name.endswith("percent") else f"{unit}²" if name in squares else unit
        rows.append([name.replace("_percent", "").replace("_", " "), text, measure])
    return TextTable(["figure", "value", ""], rows, [False, True, False])


def sources_of(build: Build) -> TextTable:
    """What each file gave to the surface."""
    frame = figures_by_source(build.surface)
    table = of_frame(frame)
    areas = [f"{area:,.1f}" for area in frame["plan_area"]]
    at = table.heads.index("plan area")
    rows = [[*row[:at], area, *row[at + 1 :]] for row, area in zip(table.rows, areas, strict=True)]
    return TextTable(table.heads, rows, table.is_number)


def slopes_of(build: Build) -> TextTable:
    """Areas by band of slope."""
    bands = areas_of(build.surface, "slope")
    frame = bands.drop(columns=["from", "to"])
    frame.insert(0, "slope", [f"{name} %" for name in band_names(bands, Shades("slope"))])
    return of_frame(frame, 1)


def checked_of(build: Build) -> list[tuple[str, TextTable, TextTable]]:
    """Name, figures and deviations of each set of check points."""
    out = []
    for name, checked in build.checked:
        figures = checked.figures()
        figure_texts = {
            "points": f"{figures['count']:,}",
            "off the surface": f"{figures['off_surface']:,}",
            **({"shots of the surface, not counted": f"{checked.own:,}"} if checked.own else {}),
            "mean": signed(figures["mean"]),
            "standard deviation": unsigned(figures["standard_deviation"]),
            "RMSE": unsigned(figures["rmse"]),
            "95 %: 1.96 RMSE": unsigned(figures["accuracy_95"]),
            "95 % lie within": unsigned(figures["percentile_95"]),
            "largest": f"{signed(figures['largest'])} at {figures['largest_at'] or '–'}",
        }
        if checked.tolerance is not None:
            state = {True: "passed", False: f"failed: {checked.beyond} beyond", None: "nothing to judge"}
            figure_texts[f"tolerance {checked.tolerance:g}"] = state[checked.passed]
        heads = ["figure", build.surface.units]
        summary = TextTable(heads, [list(row) for row in figure_texts.items()], [False, True])
        out.append((name, summary, of_frame(checked.table)))
    return out


def results_in(annex: str, build: Build) -> list[TextTable]:
    """The tables of what the recipe asks for after building, in one part of the report."""
    declared = [after for _, after in after_building() if after.annex == annex]
    return [table for after in declared for table in after.reported(after.of(build.results), build.surface.units)]


def steps_of(build: Build) -> TextTable:
    """What each stage of the build did."""
    rows = [[stage.name, stage.did] for stage in build.stages] + [["edit", edit] for edit in build.edits]
    return TextTable(["stage", "what it did"], rows, [False, False])
