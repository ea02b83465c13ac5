"""What commands answer with --json, as JSON Schema (draft 2020-12): one shape, and what each has besides."""

from __future__ import annotations

from evrin.base.json_shapes import TEXTS, lists, mappings, objects
from evrin.base.named_values import Row
from evrin.recipe.building.schema import tables_model
from evrin.recipe.steps import after_building
from evrin.recipe.steps.combine import COMBINED_PART
from evrin.recipe.steps.volume import AREA_SHAPE, METHOD_SHAPE

_DRAFT = "https://json-schema.org/draft/2020-12/schema"
_ANY = {"type": "object"}
_PLACE = "easting northing"
_SHOT = objects(texts="text number code file where")
_FINDING = objects(
    counts="number",
    texts="code severity message fix snippet acceptance accepted?",
    switches="open",
    numbers="easting? northing?",
    shots=lists(_SHOT),
)
_TALLIED = "read used merged weeded flattened outside trimmed edited_out thinned left_out refused"
_SURFACE = objects(texts="name", counts="vertices triangles", numbers="plan_area slope_area lowest highest")
_STAGE = objects(texts="name did", numbers="seconds", switches="reused", from_cache=TEXTS)
_LARGEST = objects(numbers=f"height {_PLACE}")
_CORNER = objects(numbers="height distance", shot=_SHOT)
_BAND_AREAS = "plan_area share_percent"
_DEVIATIONS = "mean? standard_deviation? rmse? accuracy_95? percentile_95? largest?"
_BASE = objects(texts="base", numbers="volume above below difference_percent?")
_AGAIN = objects(texts="date name state", counts="entry")
_DEMO_BUILD = objects(counts="read triangles", numbers="rmse largest_error", open_findings=mappings())


def _answer(rows: Row, others: Row | None = None, *, of_surface: bool = True, **more: Row) -> Row:
    shape = objects(texts=f"version command {'units crs' if of_surface else ''}")
    own = {**more, **(others or {}), "rows": lists(rows)}
    properties, needed = {**shape["properties"], **own}, [*shape["required"], *own]
    return {"$schema": _DRAFT, **shape, "properties": properties, "required": needed}


_HEIGHT = _answer(
    {
        "anyOf": [
            objects(numbers=f"{_PLACE} height? slope_percent? nearest_shot?", held_by=lists(_CORNER)),
            objects(texts="name", numbers=f"{_PLACE} measured surface? deviation?", switches="own [within]?"),
        ]
    },
)
_HEIGHT["properties"]["figures"] = objects(
    counts="count off_surface own [beyond]?",
    numbers=f"{_DEVIATIONS} [tolerance]?",
    texts="largest_at?",
    switches="[passed]?",
)

_LEVEL = objects(numbers="level area_below volume_below area_above volume_above")
_VOLUMES = _answer({"anyOf": [AREA_SHAPE, _LEVEL, _AGAIN]}, of_surface=False)
_VOLUMES["properties"] |= {
    **{key: {"type": "string"} for key in ("units", "crs", "base", "top")},
    "methods": lists(METHOD_SHAPE),
    "bands": lists(objects(numbers="from? to? plan_area base_slope_area top_slope_area volume")),
    "heap": lists(_BASE),
    "quantities": objects(texts="volume area mass"),
    "touching": lists(objects(numbers="volume")),
    "doubts": lists(objects(texts="kind message")),
}
_SERIES = objects(texts="date name method", numbers="net net_95 since_last? since_first?")

_JOIN = objects(texts="join older newer", numbers="length largest_step mean_step")
_PAD = objects(texts="pad", numbers="lowest highest cut fill net cut_area fill_area")
_MATERIAL = objects(
    texts="material carried",
    counts="holes_with holes_without holes_ended",
    numbers="lowest_top highest_top mean_thickness? left_out?",
)
_PART = objects(texts="material", numbers="volume part below_holes volume_95?")
_RIM_END = objects(texts="pad", numbers="easting northing length")

# Every step is loaded, so that each that adds to a build is in its answer.
tables_model()
ANSWERS: dict[str, Row] = {
    "demo": _answer(
        objects(texts="added", numbers="rmse largest_error", tally=mappings(), open_findings=mappings()),
        raw=_DEMO_BUILD,
        clean=_DEMO_BUILD,
        volumes=lists(objects(texts="name", numbers="volume within_95 truth")),
        works=lists(objects(texts="name units", numbers="found truth")),
    ),
    "inspect": _answer(
        objects(
            texts="file kind layer code",
            counts="count vertices closed? no_height at_zero",
            numbers="west? south? east? north? lowest? highest?",
        ),
        of_surface=False,
        files=lists(objects(texts="file form units? height_units? crs?", notes=TEXTS, looks_wrong=TEXTS)),
        between_files=TEXTS,
        unread=TEXTS,
        ignored=TEXTS,
    ),
    "draft": _answer(
        objects(texts="table", keys=_ANY, why=TEXTS),
        of_surface=False,
        site=objects(texts="units crs drawing_units?", why=TEXTS),
        needs=TEXTS,
        ignored=lists(objects(texts="file why")),
    ),
    "build": _answer(
        objects(texts="source", counts=_TALLIED),
        {after.name: lists(after.shape) for _, after in after_building()},
        surface=_SURFACE,
        stages=lists(_STAGE),
        changed={"anyOf": [TEXTS, {"type": "null"}]},
        edits=TEXTS,
        findings=lists(_FINDING),
    ),
    "check": _answer(_FINDING),
    "status": _answer(objects(texts="what state"), of_surface=False, up_to_date={"type": "boolean"}),
    "edit": _answer(objects(texts="table what why", switches="on"), of_surface=False),
    "compare": _answer(
        objects(texts="items", counts="first second change"),
        first={"type": "string"},
        second={"type": "string"},
        lines=TEXTS,
        findings_only_first=lists(_FINDING),
        findings_only_second=lists(_FINDING),
        mean={"type": ["number", "null"]},
        rms={"type": ["number", "null"]},
        largest=_LARGEST,
        changed_area={"type": "number"},
        area_only_first={"type": "number"},
        area_only_second={"type": "number"},
    ),
    "height": _HEIGHT,
    "contours": _answer(
        objects(numbers=f"level length mean? largest? {_PLACE}", counts="lines places"),
        mean={"type": ["number", "null"]},
        largest={"type": ["number", "null"]},
    ),
    "bands": _answer(
        objects(texts="[falls]", counts="[triangles]", numbers=f"[from] [to]? {_BAND_AREAS} slope_area"),
    ),
    "water": _answer(
        objects(texts="ends_at", numbers="length fall", places=lists(objects(numbers=f"{_PLACE} height"))),
        hollows=lists(objects(numbers=f"{_PLACE} height depth spill_height? spill_easting? spill_northing?")),
        summits=lists(objects(numbers=f"{_PLACE} height rise? saddle_height? saddle_easting? saddle_northing?")),
        level_ground=lists(objects(numbers=f"{_PLACE} height plan_area", counts="triangles")),
    ),
    "trust": _answer(
        objects(numbers=f"from to? {_BAND_AREAS}"),
        spacing={"type": "number"},
        farthest=objects(numbers=f"distance {_PLACE}"),
        too_large=lists(objects(numbers=f"{_PLACE} plan_area")),
    ),
    "figures": _answer(
        objects(texts="file", counts="vertices", numbers="lowest? highest? plan_area share_percent"),
        name={"type": "string"},
        figures=mappings("number"),
    ),
    "profile": _answer(
        objects(numbers=f"chainage {_PLACE} height? grade_percent?", texts="at surface"),
    ),
    "volume": _VOLUMES,
    "record": _answer({"anyOf": [_SERIES, _AGAIN]}, of_surface=False),
    "combine": _answer(COMBINED_PART, joins=lists(_JOIN), gaps_filled={"type": "number"}),
    "pad": _answer(_PAD, shift={"type": ["number", "null"]}, ends=lists(_RIM_END)),
    "layers": _answer(_MATERIAL, volumes=lists(_PART), notes=TEXTS),
    "sections": _answer(
        objects(numbers=f"chainage offset {_PLACE} height?", texts="surface"),
    ),
}

ERROR: Row = {
    "$schema": _DRAFT,
    **objects(texts="version command", error=objects(texts="message", counts="exit_code")),
}
