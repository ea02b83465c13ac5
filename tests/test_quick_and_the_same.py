"""Quick ways of looking at shots and surfaces, each beside the plain one."""

import os

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

import evrin
from evrin.analysis.terrain.drainage import hollows, summits
from evrin.base import progress
from evrin.kernels.text_column import TextColumn
from evrin.making.triangulation import Triangulation
from evrin.recipe.store.kept_results import FolderStore
from evrin.recipe.store.plain import keep_classes
from evrin.surface import Shots, SourceLine
from evrin.survey.doubts.doubtful_edges import find_doubtful_edges
from evrin.survey.doubts.height_busts import find_busts

keep_classes(Shots)
TEXTS = st.lists(st.sampled_from(["", "7", "12", "LAWN", "é", "a b", "12 ", "\ud800"]), min_size=1, max_size=25)


def as_array(texts):
    out = np.empty(len(texts), object)
    out[:] = texts
    return out


@given(TEXTS, TEXTS, st.data())
def test_a_column_of_texts_is_the_texts(tmp_path_factory, first, second, data):
    rows = data.draw(st.lists(st.integers(-len(first), len(first) - 1), max_size=30))
    column = TextColumn.of(as_array(first))
    taken = column.take(np.array(rows, np.int64))
    again = taken.take(np.array(range(len(rows)), np.int64) % 2 == 0)
    both = TextColumn.joined([taken, TextColumn.of(as_array(second)), taken])
    meant = [first[row] for row in rows]
    assert column.all().tolist() == [column.text(row) for row in range(len(first))] == first
    assert taken.all().tolist() == meant and again.all().tolist() == meant[::2]
    assert both.all().tolist() == meant + second + meant
    known = [text for text in both.all().tolist() if text]
    assert both.has_repeats(np.arange(len(both))) == (len(set(known)) < len(known))
    spans = both.spans(np.arange(len(both)))
    assert [both.kept.data[a:b].tobytes().decode("utf-8", "surrogatepass") for a, b in spans] == both.all().tolist()


@given(TEXTS, st.booleans())
@settings(max_examples=20)
def test_shots_come_back_as_they_were_kept(tmp_path_factory, texts, is_one):
    store = FolderStore(tmp_path_factory.mktemp("kept") / "cache")
    numbers = as_array(texts)
    shots = Shots.of_file("day1.csv", range(1, len(texts) + 1), numbers, "LAWN" if is_one else numbers[::-1].copy())
    some = shots.with_columns().take(np.arange(len(texts))[::-1])
    store.save("0" * 32, [shots, some, shots.take(np.arange(len(texts))[::-1])])
    kept, *turned = store.load("0" * 32, list)
    for one, other in ((shots, kept), (some, turned[0]), (some, turned[1])):
        assert other.numbers.tolist() == one.numbers.tolist() and other.codes.tolist() == one.codes.tolist()
        assert [other.describe(row) for row in range(len(texts))] == [one.describe(row) for row in range(len(texts))]


def test_texts_that_hold_the_separator_or_are_none_are_kept_as_they_are():
    for texts in (["a\x1fb", "c"], ["a", 7]):
        assert TextColumn.of(as_array(texts)) is None
        shots = Shots.of_file("day1.csv", [1, 2], as_array(texts)).with_columns()
        assert shots.numbers.tolist() == texts and Shots.joined([shots, shots]).numbers.tolist() == texts * 2


def lowest_way_out(surface, floor, sign, drains):
    """The height, over the lowest way from a vertex to one that is lower or drains, of the highest place on it."""
    z = sign * surface.vertices[:, 2]
    beside = {v: set() for v in range(len(z))}
    for a, b in surface.edges.tolist():
        beside[a].add(b)
        beside[b].add(a)
    reached, level = {floor}, z[floor]
    while True:
        rim = {b for a in reached for b in beside[a]} - reached
        if not rim:
            return level
        over = min(rim, key=lambda v: (z[v], v))
        level = max(level, z[over])
        reached.add(over)
        if drains[over] or (z[over], over) < (z[floor], floor):
            return level


@given(st.integers(0, 10_000), st.sampled_from(["level", "rough", "gentle"]), st.integers(4, 60))
@settings(max_examples=60)
def test_hollows_and_summits_reach_up_to_the_lowest_way_out(seed, kind, count):
    rng = np.random.default_rng(seed)
    xy = rng.integers(0, 12, (count, 2)).astype(float)
    xy[:3] = (0, 0), (11, 0), (0, 11)
    z = {"level": rng.integers(0, 3, count), "rough": rng.normal(0, 1, count), "gentle": np.sin(xy[:, 0] / 3)}[kind]
    surface = evrin.triangulate(np.column_stack((xy, z)))
    on_rim = np.zeros(len(surface.vertices), bool)
    on_rim[np.concatenate(surface.rim())] = True
    nothing = np.zeros(len(on_rim), bool)
    for table, measure, sign, drains in (
        (hollows(surface), "depth", 1.0, on_rim),
        (summits(surface), "rise", -1.0, nothing),
    ):
        heights = sign * surface.vertices[:, 2]
        deep = {}
        for v in np.flatnonzero(~on_rim).tolist():
            apart = lowest_way_out(surface, v, sign, drains) - heights[v]
            if apart > 0.0:
                deep[v] = apart
        assert dict(zip(table["vertex"], table[measure], strict=True)) == deep
        assert (np.diff(table[measure]) <= 0.0).all()


def test_what_is_done_on_many_cores_is_done_the_same_on_one(monkeypatch):
    rng = np.random.default_rng(3)
    xy = rng.uniform(0.0, 900.0, (120_000, 2))
    xy[1] = xy[0] + 1e-13
    points = np.column_stack((xy, rng.normal(0.0, 1.0, len(xy))))
    line = SourceLine("kerb", np.column_stack((np.linspace(100, 800, 50), np.full(50, 450.0), np.zeros(50))))

    def made():
        work = Triangulation(points, [line])
        surface, reading = work.surface()
        return work.near_places, reading.vertices, surface.vertices, surface.triangles, surface.edge_lines

    several = made()
    monkeypatch.setattr(os, "cpu_count", lambda: 1)
    assert several[0] == 1
    assert (several[4] >= 0).sum() > 50
    for one, other in zip(several, made(), strict=True):
        assert np.array_equal(one, other)


def test_ground_without_busts_and_doubtful_edges_has_none_and_one_of_each_is_found():
    east, north = (each.ravel() for each in np.meshgrid(np.arange(40.0), np.arange(40.0)))
    east = east + 0.3 * np.sin(7.0 * north)
    ground = np.column_stack((east, north, 0.05 * east))
    surface = evrin.triangulate(ground)
    assert len(find_busts(surface).vertices) == len(find_doubtful_edges(surface).changes) == 0
    ground[820, 2] += 2.0
    assert evrin.triangulate(ground).vertices[find_busts(evrin.triangulate(ground)).vertices, 2].tolist() == [
        ground[820, 2]
    ]


def test_long_work_reports_how_far_it_is_to_its_end(tmp_path):
    rng = np.random.default_rng(1)
    rows = "".join(f"{k},{x:.3f},{y:.3f},{x / 50:.3f},G\n" for k, (x, y) in enumerate(rng.uniform(0, 400, (45_000, 2))))
    (tmp_path / "points.csv").write_text(f"number,easting,northing,height,code\n{rows}", encoding="utf-8")
    (tmp_path / "site.toml").write_text('[[source]]\nfile = "points.csv"\nrole = "points"\n', encoding="utf-8")
    heard = []
    listener = lambda *far: heard.append(far)  # noqa: E731
    progress.listeners.append(listener)
    try:
        evrin.write(tmp_path / "ground.xml", evrin.Recipe.read(tmp_path / "site.toml").build().surface)
    finally:
        progress.listeners.remove(listener)
    whats = dict.fromkeys(what for _, _, what in heard)
    assert list(whats) == ["rows", "rules", "points", "triangles"]
    for what in whats:
        reached = [(done, parts) for done, parts, of in heard if of == what]
        assert len({parts for _, parts in reached}) == 1 and reached[-1][0] == reached[-1][1]
        assert [done for done, _ in reached] == sorted({done for done, _ in reached})
