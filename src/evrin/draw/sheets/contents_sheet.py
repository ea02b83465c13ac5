"""What files hold, on one sheet: a plan, an oblique view or a legend, and a list of what is there and looks wrong."""

from __future__ import annotations

import textwrap
from collections.abc import Sequence

from matplotlib.cm import ScalarMappable
from matplotlib.figure import Figure

from evrin.base.named_values import Row
from evrin.base.wording import counted
from evrin.draw.colours import INK, MARK
from evrin.draw.paper import new_sheet
from evrin.draw.sheets.contents_scene import COLOURS, ContentsScene
from evrin.draw.sheets.sheet import draw_title_block
from evrin.survey.file_inventory import Inventory

_MOST_LISTED = 14


def contents_sheet(inventories: Inventory | Sequence[Inventory], label: str = "") -> Figure:
    """Return what one file or several hold on one sheet: in plan, and in a list by kind and layer.

    One file with heights has an oblique view beside the plan, its heights exaggerated on a flat site; what is at zero
    height is drawn below the rest, at the end of a broken line, not to scale. Where heights say nothing, colours tell
    layers apart; those of several files tell the files apart. What lies far away is marked at the edge of the plan.

    Parameters
    ----------
    inventories : Inventory or sequence of Inventory
        What each file holds, as `evrin.survey.inventory` returns it.
    label : {"", "number", "code", "height", "layer"}
        What is written beside points, as far as there is room.

    Returns
    -------
    Figure

    Examples
    --------
    >>> from evrin.demo import small_site
    >>> from evrin.draw import contents_sheet
    >>> from evrin.formats import look
    >>> from evrin.survey import inventory
    >>> found = inventory(look(small_site().with_name("shots.csv"), "PNEZD"))
    >>> type(contents_sheet(found, label="number")).__name__
    'Sheet'
    """
    listed = [inventories] if isinstance(inventories, Inventory) else list(inventories)
    figure, scene = new_sheet(), ContentsScene([each.contents for each in listed], label)
    if scene.is_by_group:
        scene.draw_plan(figure.add_axes((0.05, 0.425, 0.70, 0.535)))
        title = "files" if scene.is_several else "layers"
        figure.legend(
            handles=scene.group_handles(), loc="upper left", bbox_to_anchor=(0.762, 0.965), fontsize=8, frameon=False,
            title=title, title_fontsize=8.5, alignment="left", handletextpad=0.4,
        )  # fmt: skip
    else:
        scene.draw_plan(figure.add_axes((0.05, 0.425, 0.43, 0.535)))
        scene.draw_oblique(figure.add_axes((0.515, 0.425, 0.47, 0.535)))
        _draw_bar(figure, scene)
    _list_rows(figure, listed)
    if len(listed) > 1:
        facts = [counted(len(listed), "file")]
        draw_title_block(figure, "what lies over what", "what came in", facts)
        return figure
    contents = listed[0].contents
    facts = [
        f"{contents.form}",
        f"units: {contents.stated.units or contents.stated.hinted_units or 'not stated'}; "
        f"reference system: {contents.stated.crs or 'not stated'}",
    ]
    draw_title_block(figure, contents.file, "what came in", facts)
    return figure


def _draw_bar(figure: Figure, scene: ContentsScene) -> None:
    bar = figure.add_axes((0.60, 0.435, 0.30, 0.014))
    drawn = figure.colorbar(ScalarMappable(scene.norm, COLOURS), cax=bar, orientation="horizontal", extend="both")
    drawn.ax.tick_params(labelsize=7.5, pad=1)
    drawn.ax.ticklabel_format(axis="x", style="plain", useOffset=False)
    drawn.ax.set_title("height", fontsize=8, pad=2)


def _list_rows(figure: Figure, inventories: Sequence[Inventory]) -> None:
    """Write the table of the inventory below the views, and what looks wrong beside it."""
    several = len(inventories) > 1
    heads = (
        "kind",
        "file" if several else "layer",
        "layers" if several else "code or class",
        "count",
        "vertices",
        "lowest",
        "highest",
        "at zero",
        "no height",
    )
    places = (0.03, 0.115, 0.20, 0.345, 0.395, 0.45, 0.505, 0.55, 0.605)
    top, step = 0.352, 0.0166
    for head, x, is_left in zip(heads, places, (True,) * 3 + (False,) * 6, strict=True):
        figure.text(x, top, head, fontsize=7.5, fontweight="bold", ha="left" if is_left else "right")
    rows = [row for each in inventories for row in _by_kind(each)] if several else inventories[0].rows()
    shown = rows[: _MOST_LISTED - 1] if len(rows) > _MOST_LISTED else rows
    for k, row in enumerate(shown, 1):
        cells = (
            *(row["kind"], _cut(row["layer"], 14), _cut(row["code"], 22), f"{row['count']:,}", f"{row['vertices']:,}"),
            *(_metres(row["lowest"]), _metres(row["highest"]), f"{row['at_zero']:,}", f"{row['no_height']:,}"),
        )
        for cell, x, is_left in zip(cells, places, (True,) * 3 + (False,) * 6, strict=True):
            figure.text(x, top - step * k, cell, fontsize=7.5, ha="left" if is_left else "right")
    if len(rows) > len(shown):
        more = len(rows) - len(shown)
        figure.text(
            0.03, top - step * (len(shown) + 1), f"… and {more} more rows: evrin inspect lists all", fontsize=7.5
        )
    _list_wrong(figure, inventories, top, step)


def _by_kind(inventory: Inventory) -> list[Row]:
    """The rows of one file among several: one for each kind of thing, whatever its layers and codes."""
    groups: dict[str, list[Row]] = {}
    for row in inventory.rows():
        groups.setdefault(row["kind"], []).append(row)
    out = []
    for kind, rows in groups.items():
        layers = sorted({row["layer"] for row in rows if row["layer"]})
        heights = [(row["lowest"], row["highest"]) for row in rows if row["lowest"] is not None]
        out.append(
            {
                "kind": kind,
                "layer": inventory.contents.file,
                "code": ", ".join(layers),
                **{key: sum(row[key] for row in rows) for key in ("count", "vertices", "at_zero", "no_height")},
                "lowest": min((low for low, _ in heights), default=None),
                "highest": max((high for _, high in heights), default=None),
            }
        )
    return out


def _cut(text: str, most: int) -> str:
    return text if len(text) <= most else text[: most - 1] + "…"


def _metres(value: float | None) -> str:
    return f"{value:.2f}" if value is not None else "–"


def _list_wrong(figure: Figure, inventories: Sequence[Inventory], top: float, step: float) -> None:
    several = len(inventories) > 1
    wrong = [f"{each.contents.file}: {text}" if several else text for each in inventories for text in each.looks_wrong]
    remarks = [*wrong, *(note for each in inventories for note in each.contents.notes if not several)]
    figure.text(0.645, top, "what looks wrong, and what to know" if remarks else "nothing looks wrong", fontsize=7.5,
                fontweight="bold", color=INK)  # fmt: skip
    y = top - step
    for number, text in enumerate(remarks):
        lines = textwrap.wrap(text, 68)
        lines = [*lines[:3], lines[3][:60] + " …"] if len(lines) > 4 else lines
        if y - step * len(lines) < 0.105:
            more = f"… and {len(remarks) - number} more: evrin inspect lists all"
            figure.text(0.645, y, more, fontsize=7.5, va="top")
            return
        colour = MARK if number < len(wrong) else INK
        figure.text(0.637, y + 0.001, "•", fontsize=7.5, va="top", color=colour)
        figure.text(0.645, y, "\n".join(lines), fontsize=7.5, va="top", linespacing=1.2)
        y -= step * len(lines) + 0.005
