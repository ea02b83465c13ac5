"""Edits on one mesh: what each does, what is refused and why, ten thousand sequences of them, and a re-survey."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import evrin
import exact
from evrin import EditError, Recipe
from evrin.demo import true_error
from evrin.demo.laying_out import lay_out as lay_out_demo
from evrin.making.editor import Editor
from evrin.making.triangulation import Triangulation
from evrin.recipe import checked_edit
from evrin.surface import SourceLine
from evrin.tin.mesh import edit_kernels as edits
from sites import grid_field, lay_out

ROOF = [[0, 0, 1], [8, 0, 1], [8, 8, 1], [0, 8, 1], [4, 4, 3], [4, 1, 2]]


def editor(lines=(), points=ROOF, reach=0.5):
    return Editor(
        Triangulation(np.array(points, float), [SourceLine(f"L{k}", np.array(p, float)) for k, p in enumerate(lines)]),
        reach,
    )


@pytest.mark.slow
def test_a_vertex_is_added_raised_set_moved_and_taken_out_again():
    work = editor()
    before = work.surface()
    assert "height 1.500" in work.add((2.0, 6.0), 1.5) and "height" in work.add((6.0, 6.0))
    assert work.surface().height(2.0, 6.0) == 1.5 and work.surface().height(6.0, 6.0) == before.height(6.0, 6.0)
    work.raise_by(0.25, at=(2.1, 6.0))
    work.move((2.0, 6.0), (2.3, 6.1), 1.6)
    assert work.surface().height(2.3, 6.1) == 1.6
    assert "set" in work.set(9.0, at=(4.0, 4.0)) and work.surface().height(4.0, 4.0) == 9.0
    work.set(3.0, at=(4.0, 4.0))
    assert "took out" in work.delete((2.3, 6.1)) and "took out" in work.delete((6.0, 6.0))
    after = work.surface()
    assert {frozenset(map(tuple, after.vertices[t])) for t in after.triangles} == {
        frozenset(map(tuple, before.vertices[t])) for t in before.triangles
    }


def test_a_surface_taken_up_again_keeps_its_name_its_lines_and_its_shots(tmp_path):
    lay_out_demo(tmp_path)
    before = Recipe.read(tmp_path / "clean.toml").build().surface
    work = Editor.of(before.renamed(units="ft", crs="EPSG:2222"))
    same = work.surface()
    assert same.units == "ft" and same.crs == "EPSG:2222" and same.name == before.name
    assert [line.name for line in same.lines] == [line.name for line in before.lines]
    assert {frozenset(map(tuple, same.vertices[t])) for t in same.triangles} == {
        frozenset(map(tuple, before.vertices[t])) for t in before.triangles
    }
    assert (same.edge_lines >= 0).sum() == (before.edge_lines >= 0).sum() > 500
    output = [{s.provenance.describe(v) for v in range(len(s.vertices))} for s in (before, same)]
    assert output[0] == output[1]
    work.flip((4160.0, 2880.0))
    turned = work.surface().triangles
    work.raise_by(0.5, at=(4096.0, 2896.0))
    after = work.surface()
    assert np.array_equal(after.triangles, turned)
    texts = [after.provenance.describe(v) for v in range(len(after.vertices))]
    assert "shot 473, code HEAP, day1.csv line 473, raised by 0.5" in texts


def test_an_area_is_raised_or_set_as_a_whole():
    work = editor()
    square = [(3, 0.5), (5, 0.5), (5, 5), (3, 5)]
    assert "raised 2 vertices by -0.5" in work.raise_by(-0.5, polygon=square)
    assert sorted(work.surface().vertices[:, 2].tolist()) == [1, 1, 1, 1, 1.5, 2.5]
    work.set(7.0, polygon=square)
    assert (work.surface().vertices[:, 2] == 7.0).sum() == 2
    with pytest.raises(EditError, match="no vertex of the surface inside"):
        work.set(1.0, polygon=[(20, 20), (21, 20), (21, 21)])


@pytest.mark.slow
def test_a_flip_already_there_is_not_turned_back_and_holds_against_what_follows():
    square = [[0, 0, 0], [4, 0, 0], [4.2, 4, 0], [0, 4, 0]]
    work = editor(points=square)
    ground = work.surface()
    joined = {frozenset(map(tuple, ground.vertices[e, :2].tolist())) for e in ground.edges.tolist()}
    ends = [(0, 0), (4.2, 4)] if frozenset({(0.0, 0.0), (4.2, 4.0)}) not in joined else [(4, 0), (0, 4)]
    assert "flipped" in work.flip((2.0, 2.0), ends)
    assert "joined already" in work.flip((2.0, 2.0), ends)
    work.add((3.9, 2.0), 1.0)
    ground = work.surface()
    assert any(
        frozenset(map(tuple, ground.vertices[e, :2].tolist())) == frozenset((float(x), float(y)) for x, y in ends)
        for e in ground.edges.tolist()
    )
    with pytest.raises(EditError, match=r"no single flip joins|do not form a convex"):
        editor(points=[*square, [2, 2, 0], [2, 1, 0], [1.5, 2.5, 1]]).flip((2, 2), ends)


@pytest.mark.parametrize(
    ("act", "reason"),
    [
        (lambda e: e.move((4, 4), (9, 4)), "beyond an edge around the vertex"),
        (lambda e: e.move((0, 0), (1.0, 4.5)), "beyond an edge"),
        (lambda e: e.delete((0, 0)), "a breakline ends there"),
        (lambda e: e.delete((4, 4)), "a breakline ends there"),
        (lambda e: e.add((20, 20)), "outside the surface"),
        (lambda e: e.add((4, 4), 1.0), "there is a vertex"),
        (lambda e: e.raise_by(1.0, at=(2, 6)), "no vertex within 0.5 of"),
        (lambda e: e.force([(0, 4), (8, 4)]), "no vertex within"),
        (lambda e: e.force([(4, 1), (4, 1)]), "same vertex"),
        (lambda e: e.raise_by(1.0, at=(6.2, 2.62)), r"is 0.233 away where vertices are 0.400 apart; it may"),
        (lambda e: e.force([(0, 8), (4, 1)]), "a breakline is in the way"),
        (lambda e: e.flip((2, 0.01)), "on the rim"),
        (lambda e: e.remove(at=(4.2, 3)), "open a hole"),
        (lambda e: e.remove(polygon=[(-1, -1), (9, -1), (9, 9), (-1, 9)]), "all triangles"),
        (lambda e: e.remove(line=[(20, 20), (30, 30)]), "no triangle of the surface there"),
    ],
)
def test_what_cannot_be_is_refused_with_the_reason_and_changes_nothing(act, reason):
    points = [*ROOF, [6, 2.5, 1], [6.4, 2.5, 1], [5, 3, 1.4], [2.5, 5.5, 2]]
    work = editor([[[0, 0, 1], [4, 4, 3]]], points)
    before = work.surface()
    with pytest.raises(EditError, match=reason):
        act(work)
    after = work.surface()
    assert np.array_equal(after.vertices, before.vertices) and np.array_equal(after.triangles, before.triangles)


@given(st.integers(0, 10**6), st.integers(1, 12))
def test_a_vertex_of_the_rim_is_deleted_and_what_lay_between_its_neighbours_is_closed(seed, count):
    rng = np.random.default_rng(seed)
    points = np.column_stack((rng.integers(0, 12, (25, 2)), rng.uniform(0, 3, 25)))
    ground = evrin.triangulate(points, longest_edge=9.0)
    work = Editor.of(ground)
    for _ in range(count):
        before = work.surface()
        if len(before.triangles) < 4:
            return
        vertex = before.rim()[0][rng.integers(len(before.rim()[0]))]
        place = before.vertices[vertex, :2]
        work.delete(tuple(place))
        after = work.surface()
        star = before.triangles[(before.triangles == vertex).any(axis=1)]
        lost = before.triangle_areas[(before.triangles == vertex).any(axis=1)].sum()
        assert before.plan_area - lost - 1e-9 <= after.plan_area < before.plan_area
        assert not (after.vertices[:, :2] == place).all(axis=1).any()
        assert (after.triangle_areas > 0).all()
        chain = np.setdiff1d(star, [vertex])
        corner = before.vertices[chain, :2]
        middle = corner.mean(axis=0)
        # Nothing is closed beyond the ground that was there.
        assert np.isnan(after.height(*middle)) or np.isfinite(before.height(*middle))


def test_triangles_go_from_the_rim_and_a_hole_is_opened_only_when_asked():
    work = editor()
    work.remove(line=[(1.0, 7.5), (7.0, 7.5)])
    assert np.isnan(work.surface().height(4.0, 7.0)) and np.isfinite(work.surface().height(4.0, 2.0))
    lattice = [[x, y, 0.0] for x in range(6) for y in range(6)]
    work = editor(points=lattice)
    inside = [(1.9, 1.9), (3.1, 1.9), (3.1, 3.1), (1.9, 3.1)]
    with pytest.raises(EditError, match="state hole = true"):
        work.remove(polygon=inside)
    work.remove(polygon=inside, hole=True)
    ground = work.surface()
    assert ground.plan_area == 24.0 and len(ground.rim()) == 2
    with pytest.raises(EditError, match="leave the surface near"):
        work.force([(2, 1), (3, 4)])


def test_a_line_runs_on_straight_when_a_vertex_inside_it_goes():
    lattice = [[x, y, 0.0] for x in range(5) for y in range(5) if y != 2]
    work = editor([[[0, 2, 1], [1, 2.2, 1], [2, 2, 1], [3, 2.1, 1], [4, 2, 1]]], lattice)
    work.delete((2.0, 2.0))
    ground = work.surface()
    rows, sides = np.nonzero(ground.edge_lines >= 0)
    ends = {
        frozenset(ground.vertices[[ground.triangles[t, k], ground.triangles[t, (k + 1) % 3]], 0].tolist())
        for t, k in zip(rows, sides, strict=True)
    }
    assert ends == {frozenset({0.0, 1.0}), frozenset({1.0, 3.0}), frozenset({3.0, 4.0})}
    crossing = editor([[[0, 2, 1], [2, 2, 1], [4, 2, 1]], [[2, 0, 1], [2, 2, 1], [2, 4, 1]]], lattice)
    with pytest.raises(EditError, match="breaklines meet or branch there"):
        crossing.delete((2.0, 2.0))


def check_mesh(mesh):
    count = mesh.triangle_count
    corners, mate = mesh.corner[: 3 * count].reshape(-1, 3), mesh.mate[: 3 * count]
    half = np.arange(3 * count)
    assert (mate[mate] == half).all() and (mesh.fixed[: 3 * count][mate] == mesh.fixed[: 3 * count]).all()
    heads = np.roll(corners, -1, axis=1).ravel()
    assert ((corners.ravel()[mate] == heads) | (mate == half)).all()
    real = (corners >= 0).all(axis=1)
    assert not (mesh.alive[:count] & ~real).any()
    a, b, c = (mesh.xy[corners[real, k]] for k in range(3))
    twice = (b[:, 0] - a[:, 0]) * (c[:, 1] - a[:, 1]) - (b[:, 1] - a[:, 1]) * (c[:, 0] - a[:, 0])
    for t in np.flatnonzero(~(twice > 1e-9)):
        assert exact.turn(*mesh.xy[corners[real][t]]) > 0


def plan_area(mesh):
    living = mesh.alive[: mesh.triangle_count]
    a, b, c = (mesh.xy[mesh.corner[: 3 * mesh.triangle_count].reshape(-1, 3)[living, k]] for k in range(3))
    return 0.5 * ((b[:, 0] - a[:, 0]) * (c[:, 1] - a[:, 1]) - (b[:, 1] - a[:, 1]) * (c[:, 0] - a[:, 0])).sum()


def forced_length(work):
    """The length of all edges that belong to lines, which no edit but a removal of triangles may shorten."""
    mesh = work.mesh
    half = np.flatnonzero(mesh.fixed[: 3 * mesh.triangle_count] > 0)
    ends = mesh.xy[mesh.corner[half]] - mesh.xy[mesh.corner[mesh.mate[half]]]
    return np.hypot(*ends.T).sum() / 2.0


def snapshot(mesh):
    return [getattr(mesh, name)[: 6 * mesh.vertex_count].tobytes() for name in ("corner", "mate", "alive", "z")] + [
        mesh.xy[: mesh.vertex_count].tobytes()
    ]


def nearest(mesh, place):
    return edits.nearest_vertex(mesh.arrays, mesh.start, *place)


def random_edit(work, rng):
    mesh = work.work.mesh
    at, to = (tuple(rng.uniform(0, 10, 2).tolist()) for _ in range(2))
    name = rng.choice(["flip", "joins", "force", "remove", "under", "add", "split", "move", "raise", "set", "delete"])
    if name == "split":
        a, b = mesh.edge_ends(mesh.edge_near(*at))
        at = tuple(mesh.xy[[a, b]].mean(axis=0).tolist())
    if name in ("joins", "force", "move", "raise", "set", "delete"):
        found = [nearest(mesh, place) for place in (at, to)]
        if min(found) < 0:
            raise EditError("no vertex of the surface is left near by")
        at, to = (tuple(mesh.xy[vertex].tolist()) for vertex in found)
    if name == "move":
        to = tuple((np.array(at) + rng.normal(0, 0.5, 2)).tolist())
    acts = {
        "flip": lambda: work.flip(at),
        "joins": lambda: work.flip(at, [at, to]),
        "force": lambda: work.force([at, to]),
        "remove": lambda: work.remove(at=at, hole=bool(rng.random() < 0.3)),
        "under": lambda: work.remove(line=[at, to]),
        "add": lambda: work.add(at),
        "split": lambda: work.add(at),
        "move": lambda: work.move(at, to),
        "raise": lambda: work.raise_by(0.5, at=at),
        "set": lambda: work.set(0.5, at=at),
        "delete": lambda: work.delete(at),
    }
    return name, acts[name]


def random_start(rng, number):
    count = int(rng.integers(6, 15))
    xy = np.round(rng.uniform(0, 10, (count, 2)), 0 if number % 3 == 0 else 3)
    points = np.column_stack((xy, rng.uniform(0, 1, count)))
    lines = [SourceLine(f"l{k}", points[rng.choice(count, 3, replace=False)]) for k in range(int(rng.integers(0, 3)))]
    work = Triangulation(points, lines)
    if rng.random() < 0.5:
        work.mesh.trim(6.0)
    if rng.random() < 0.3:
        ring = np.array([[1, 1, 0], [9, 1, 0], [8, 9, 0], [2, 8, 0.0]])
        work.carve([[SourceLine("ring", ring, True, "keep")]])
    return work if work.mesh.alive[: work.mesh.triangle_count].any() else None


@pytest.mark.parametrize("place", [(np.nan, 1.0), (1.0, np.inf), (1e300, -1e300)])
def test_a_place_that_is_none_is_refused(place):
    editor = Editor.of(evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2]]))
    for act in (
        lambda: editor.set(1.0, at=place),
        lambda: editor.delete(place),
        lambda: editor.move(place, (1.0, 1.0)),
    ):
        with pytest.raises(EditError, match="no vertex"):
            act()


@pytest.mark.thorough
def test_ten_thousand_random_sequences_of_edits_keep_the_mesh_valid():
    rng = np.random.default_rng(20261125)
    done = dict.fromkeys(["flip", "joins", "force", "remove", "under", "add", "split", "move", "raise", "delete"], 0)
    for number in range(10_000):
        try:
            work = random_start(rng, number)
        except evrin.GeometryError:
            continue
        if work is None:
            continue
        editing = Editor(work, 2.0)
        mesh = work.mesh
        for _ in range(5):
            try:
                name, act = random_edit(editing, rng)
            except EditError:
                continue
            area, forced = plan_area(mesh), forced_length(work)
            before = snapshot(mesh) if number % 10 == 0 else None
            try:
                act()
                done[name] = done.get(name, 0) + 1
            except EditError:
                assert before is None or snapshot(mesh) == before
                continue
            if name == "delete":
                # A vertex of the rim takes ground along.
                assert plan_area(mesh) <= area * (1.0 + 1e-9)
            elif name not in ("remove", "under", "move"):
                assert abs(plan_area(mesh) - area) <= 1e-9 * max(area, 1.0)
            if name not in ("move", "delete", "force"):
                assert abs(forced_length(work) - forced) <= 1e-9 * max(forced, 1.0)
        check_mesh(mesh)
        if number % 10 == 0 and mesh.alive[: mesh.triangle_count].any():
            assert editing.surface().plan_area == pytest.approx(plan_area(mesh))
    assert min(done.values()) > 300, done


def test_edits_of_a_recipe_are_applied_in_order_and_reported(tmp_path):
    edits = """
    [[edit]]
    do = "add"
    at = [4002.5, 2802.5]
    height = 40.1
    [[edit]]
    do = "raise"
    at = [4002.5, 2802.5]
    by = 0.25
    [[edit]]
    do = "delete"
    at = [4010.3, 2810.0]
    [[edit]]
    do = "delete"
    at = [4500.0, 2810.0]
    why = "removed"
    [[edit]]
    do = "remove"
    at = [4001.0, 2824.0]
    on = false
    """
    build = Recipe.read(lay_out(tmp_path, edits, field=grid_field())).build()
    assert build.surface.height(4002.5, 2802.5) == 40.35
    (unfit,) = build.open_findings
    assert (
        unfit.code == "edit-does-not-fit" and "edit 4 (delete)" in unfit.message and "no vertex within" in unfit.message
    )
    assert [text.split(":")[0] for text in build.edits] == ["1", "2", "3"]
    assert "3: took out shot" in build.edits[2]
    output = [build.surface.provenance.describe(v) for v in range(len(build.surface.vertices))]
    assert "added by hand (edit 1), raised by 0.25 (edit 2)" in output
    assert build.tally.set_index("source").loc["day 1", "edited_out"] == 1


@pytest.mark.parametrize(
    ("keys", "output"),
    [
        ('do = "raise"\nat = [1.0, 2.0]', "by: needed and missing"),
        ('do = "flip"\nby = 2.0\nat = [1.0, 2.0]', "by: no such key"),
        ('do = "remove"\nat = [1.0, 2.0]\nline = [[0, 0], [1, 1]]', "remove needs at or polygon or line"),
        ('do = "force"\nat = [1.0, 2.0]', "joins: needed and missing"),
        ('do = "turn"\nat = [1.0, 2.0]', "'turn' is not known"),
    ],
)
def test_edits_that_state_too_little_or_too_much_are_faults(tmp_path, keys, output):
    with pytest.raises(evrin.RecipeError, match=output):
        Recipe.read(lay_out(tmp_path, f"\n[[edit]]\n{keys}\n"))


def test_a_preview_shows_what_an_edit_would_do_and_writes_nothing(tmp_path):
    path = lay_out(tmp_path, field=grid_field())
    text = path.read_text()
    preview = Recipe.read(path).preview_edit(checked_edit({"do": "flip", "at": (4012.0, 2812.0)}))
    assert preview.did.startswith("flipped the edge between shot") and len(preview.keys["joins"]) == 2
    with pytest.raises(EditError, match="outside the surface"):
        Recipe.read(path).preview_edit(checked_edit({"do": "flip", "at": (0.0, 0.0)}))
    assert path.read_text() == text


@pytest.mark.parametrize("seed", [1, 2, 3, 4])
def test_a_resurvey_replays_every_edit_or_reports_why_not(tmp_path, seed):
    lay_out_demo(tmp_path, resurvey=seed)
    recipe = Recipe.read(tmp_path / "clean.toml")
    build = recipe.build()
    unfit = [finding for finding in build.findings if finding.code == "edit-does-not-fit"]
    assert len(build.edits) + len(unfit) == sum(edit.on for edit in recipe.tables.edit)
    assert all(
        "no vertex within" in f.message or "no single flip" in f.message or "another" in f.message for f in unfit
    )
    assert 1100 < build.tally["read"].iloc[-1] < 1500
    rmse, largest = true_error(build.surface)
    assert rmse < 0.15 and largest < 3.0
