"""What commands answer with --json, as JSON Schema (draft 2020-12): one shape, and what each has besides."""

from __future__ import annotations

from evrin.base.rows import Row

Schema = Row
_DRAFT = "https://json-schema.org/draft/2020-12/schema"


def _objects(*, numbers: str = "", counts: str = "", texts: str = "", switches: str = "", **others: Schema) -> Schema:
    """An object of these keys and no others; a key with a question mark may be null, one in brackets may be missing."""
    known: Schema = {}
    needed: list[str] = []
    for words, kind in ((numbers, "number"), (counts, "integer"), (texts, "string"), (switches, "boolean")):
        for word in words.split():
            key = word.strip("[]?")
            known[key] = {"type": [kind, "null"] if "?" in word else kind}
            needed += [] if word.startswith("[") else [key]
    known |= others
    return {"type": "object", "properties": known, "required": [*needed, *others], "additionalProperties": False}


def _list(of: Schema) -> Schema:
    return {"type": "array", "items": of}


def _counts(of: str = "integer") -> Schema:
    return {"type": "object", "additionalProperties": {"type": of}}


_TEXTS = _list({"type": "string"})
_ANY = {"type": "object"}
_PLACE = "easting northing"
_SHOT = _objects(texts="text number code file where")
_FINDING = _objects(
    counts="number",
    texts="code severity message fix snippet acceptance accepted?",
    switches="open",
    numbers="easting? northing?",
    shots=_list(_SHOT),
)
_TALLIED = "read used merged weeded flattened outside trimmed edited_out thinned left_out refused"
_SURFACE = _objects(texts="name", counts="vertices triangles", numbers="plan_area slope_area lowest highest")
_STAGE = _objects(texts="name did", numbers="seconds", switches="reused", from_cache=_TEXTS)
_LARGEST = _objects(numbers=f"height {_PLACE}")
_CORNER = _objects(numbers="height distance", shot=_SHOT)
_BAND_AREAS = "plan_area share_percent"
_DEVIATIONS = "mean? standard_deviation? rmse? accuracy_95? percentile_95? largest?"
_VOLUME = _objects(
    texts="area",
    numbers="cut fill net cut_area fill_area no_change_area only_base only_top neither cut_sd_shots cut_sd_shared "
    "cut_95 fill_sd_shots fill_sd_shared fill_95 net_sd_shots net_sd_shared net_95 cut_loose fill_needed [cut_mass] "
    "[fill_mass] [base_spread]",
)
_METHOD = _objects(texts="method", numbers="cut fill net cut_percent? fill_percent?")
_BASE = _objects(texts="base", numbers="volume above below difference_percent?")
_AGAIN = _objects(texts="date name state", counts="entry")
_DEMO_BUILD = _objects(counts="read triangles", numbers="rmse largest_error", open_findings=_counts())


def _answer(rows: Schema, *, of_surface: bool = True, **more: Schema) -> Schema:
    shape = _objects(texts=f"version command {'units crs' if of_surface else ''}")
    others = {**more, "rows": _list(rows)}
    known, needed = {**shape["properties"], **others}, [*shape["required"], *others]
    return {"$schema": _DRAFT, **shape, "properties": known, "required": needed}


_HEIGHT = _answer(
    {
        "anyOf": [
            _objects(numbers=f"{_PLACE} height? slope_percent? nearest_shot?", held_by=_list(_CORNER)),
            _objects(texts="name", numbers=f"{_PLACE} measured surface? deviation?", switches="own [within]?"),
        ]
    },
)
_HEIGHT["properties"]["figures"] = _objects(
    counts="count off_surface own [beyond]?",
    numbers=f"{_DEVIATIONS} [tolerance]?",
    texts="largest_at?",
    switches="[passed]?",
)

_LEVEL = _objects(numbers="level area_below volume_below area_above volume_above")
_VOLUMES = _answer({"anyOf": [_VOLUME, _LEVEL, _AGAIN]}, of_surface=False)
_VOLUMES["properties"] |= {
    **{key: {"type": "string"} for key in ("units", "crs", "base", "top")},
    "methods": _list(_METHOD),
    "heap": _list(_BASE),
}
_SERIES = _objects(texts="date name", numbers="net net_95 since_last? since_first?")

_PARTS_USED = _objects(texts="surface", counts="triangles triangles_used", numbers="area area_used")
_JOIN = _objects(texts="join older newer", numbers="length largest_step mean_step")
_PLACED_JOIN = _objects(
    texts="join older newer", numbers="length largest_step mean_step", place=_list({"type": "number"})
)
_PAD = _objects(texts="pad", numbers="lowest highest cut fill net cut_area fill_area")
_MATERIAL = _objects(
    texts="material", counts="holes_with holes_without holes_ended", numbers="lowest_top highest_top mean_thickness?"
)
_PART = _objects(texts="material", numbers="volume part")
_RIM_END = _objects(texts="pad", numbers="easting northing length")

ANSWERS: dict[str, Schema] = {
    "demo": _answer(
        _objects(texts="added", numbers="rmse largest_error", tally=_counts(), open_findings=_counts()),
        raw=_DEMO_BUILD,
        clean=_DEMO_BUILD,
        volumes=_list(_objects(texts="name", numbers="volume within_95 truth")),
        works=_list(_objects(texts="name units", numbers="found truth")),
    ),
    "inspect": _answer(
        _objects(
            texts="file kind layer code",
            counts="count vertices closed? no_height at_zero",
            numbers="west? south? east? north? lowest? highest?",
        ),
        of_surface=False,
        files=_list(_objects(texts="file form units? height_units? crs?", notes=_TEXTS, looks_wrong=_TEXTS)),
        between_files=_TEXTS,
        unread=_TEXTS,
        ignored=_TEXTS,
    ),
    "draft": _answer(
        _objects(texts="table", keys=_ANY, why=_TEXTS),
        of_surface=False,
        site=_objects(texts="units crs", why=_TEXTS),
        needs=_TEXTS,
        ignored=_list(_objects(texts="file why")),
    ),
    "build": _answer(
        _objects(texts="source", counts=_TALLIED),
        surface=_SURFACE,
        stages=_list(_STAGE),
        changed={"anyOf": [_TEXTS, {"type": "null"}]},
        edits=_TEXTS,
        findings=_list(_FINDING),
        combined=_list(_objects(texts="name why rule", parts=_list(_PARTS_USED), joins=_list(_PLACED_JOIN))),
        volumes=_list(_objects(texts="name why base top", rows=_list(_VOLUME), before=_counts("number"))),
    ),
    "check": _answer(_FINDING),
    "status": _answer(_objects(texts="what state"), of_surface=False, up_to_date={"type": "boolean"}),
    "edit": _answer(_objects(texts="table what why", switches="on"), of_surface=False),
    "compare": _answer(
        _objects(texts="items", counts="first second change"),
        first={"type": "string"},
        second={"type": "string"},
        lines=_TEXTS,
        findings_only_first=_list(_FINDING),
        findings_only_second=_list(_FINDING),
        mean={"type": ["number", "null"]},
        rms={"type": ["number", "null"]},
        largest=_LARGEST,
        changed_area={"type": "number"},
        area_only_first={"type": "number"},
        area_only_second={"type": "number"},
    ),
    "height": _HEIGHT,
    "contours": _answer(
        _objects(numbers=f"level length mean? largest? {_PLACE}", counts="lines places"),
        mean={"type": ["number", "null"]},
        largest={"type": ["number", "null"]},
    ),
    "bands": _answer(
        _objects(texts="[falls]", counts="[triangles]", numbers=f"[from] [to]? {_BAND_AREAS} slope_area"),
    ),
    "water": _answer(
        _objects(texts="ends_at", numbers="length fall", places=_list(_objects(numbers=f"{_PLACE} height"))),
        hollows=_list(_objects(numbers=f"{_PLACE} height depth spill_height? spill_easting? spill_northing?")),
        summits=_list(_objects(numbers=f"{_PLACE} height rise? saddle_height? saddle_easting? saddle_northing?")),
        level_ground=_list(_objects(numbers=f"{_PLACE} height plan_area", counts="triangles")),
    ),
    "trust": _answer(
        _objects(numbers=f"from to? {_BAND_AREAS}"),
        spacing={"type": "number"},
        farthest=_objects(numbers=f"distance {_PLACE}"),
        too_large=_list(_objects(numbers=f"{_PLACE} plan_area")),
    ),
    "figures": _answer(
        _objects(texts="file", counts="vertices", numbers="lowest? highest? plan_area share_percent"),
        name={"type": "string"},
        figures=_counts("number"),
    ),
    "profile": _answer(
        _objects(numbers=f"chainage {_PLACE} height? grade_percent?", texts="at surface"),
    ),
    "volume": _VOLUMES,
    "record": _answer({"anyOf": [_SERIES, _AGAIN]}, of_surface=False),
    "combine": _answer(_PARTS_USED, joins=_list(_JOIN), gaps_filled={"type": "number"}),
    "pad": _answer(_PAD, shift={"type": ["number", "null"]}, ends=_list(_RIM_END)),
    "layers": _answer(_MATERIAL, volumes=_list(_PART), notes=_TEXTS),
    "sections": _answer(
        _objects(numbers=f"chainage offset {_PLACE} height?", texts="surface"),
    ),
}

ERROR: Schema = {
    "$schema": _DRAFT,
    **_objects(texts="version command", error=_objects(texts="message", counts="exit_code")),
}
