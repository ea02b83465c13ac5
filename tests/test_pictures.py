"""Pictures are judged by what was drawn: equal scales, marks, numbers, legends and title blocks."""

import numpy as np
import pytest
from matplotlib.collections import LineCollection
from matplotlib.figure import Figure

import evrin
from evrin.base.errors import DataError
from evrin.check import Finding
from evrin.draw import draw_contours, draw_triangles, map_sheet, profile_sheet
from evrin.draw.shading import shade
from evrin.draw.sheets.sheet import save_sheet
from zoo import lattice

XY = lattice(12) * 10.0
GROUND = evrin.triangulate(
    np.column_stack((XY, 40 + 5 * np.sin(XY[:, 0] / 30) * np.cos(XY[:, 1] / 40))),
    breaklines=[[[5.0, 5, 41], [100, 95, 43]]],
    boundaries=[[[2.0, 2], [108, 2], [108, 108], [2, 108]]],
    name="Test field",
)
FINDINGS = [
    Finding("height-spike", "error", (50.0, 50.0), "too high"),
    Finding("zero-height", "error", (50.2, 50.0), "too low", accepted="known"),
    Finding("refused-rows", "warning", None, "three rows"),
]


def texts(figure):
    return [text.get_text() for axes in figure.axes for text in axes.texts] + [t.get_text() for t in figure.texts]


def test_a_plan_has_equal_scales_a_frame_and_a_title_block():
    figure = map_sheet(GROUND, contours=GROUND.contours(0.5), title="plan")
    axes = figure.axes[0]
    box = axes.get_position()
    width, height = np.array(figure.get_size_inches()) * (box.width, box.height)
    x, y = axes.get_xlim(), axes.get_ylim()
    assert (x[1] - x[0]) / width == pytest.approx((y[1] - y[0]) / height)
    assert x[0] < 2 and x[1] > 108 and y[0] < 2 and y[1] > 108
    output = texts(figure)
    assert "Test field" in output and "N" in output and "plan area" in output
    assert any("units: metres" in text and "contour interval 0.5 m" in text for text in output)
    labels = [entry.get_text() for entry in figure.legends[0].get_texts()]
    assert labels == [
        "breakline",
        "boundary",
        "triangle edge",
        "index contour",
        "contour",
        "depression contour",
    ]


def test_findings_are_numbered_on_the_plan_and_listed_beside_it():
    figure = map_sheet(GROUND, findings=FINDINGS)
    marks = {text.get_text(): text.get_position() for text in figure.axes[0].texts if text.get_text().isdigit()}
    assert set(marks) == {"1", "2"}
    assert np.hypot(*np.subtract(marks["1"], marks["2"])) > 2.0  # neighbours do not cover each other
    output = "\n".join(texts(figure))
    assert "Findings: 3, 2 open" in output and "zero-height (accepted)" in output and "refused-rows" in output


def test_a_long_list_of_findings_ends_with_how_to_see_the_rest():
    figure = map_sheet(GROUND, findings=FINDINGS[:1] * 60)
    assert any("evrin check lists all" in text for text in texts(figure))


def test_contour_labels_lie_on_their_lines_read_upright_and_keep_clear_of_each_other():
    figure = Figure(figsize=(8, 8))
    axes = figure.add_axes((0, 0, 1, 1))
    axes.set_xlim(0, 110)
    axes.set_ylim(0, 110)
    lines = GROUND.contours(0.5, index=1.0)
    draw_contours(lines, axes)
    assert len(axes.texts) >= 4
    for label in axes.texts:
        level, place = float(label.get_text()), np.array(label.get_position())
        assert float(GROUND.height(*place)) == pytest.approx(level, abs=0.05)
        assert -90.0 <= (label.get_rotation() + 180) % 360 - 180 <= 90.0
    figure.draw_without_rendering()
    boxes = [label.get_window_extent() for label in axes.texts if abs(label.get_rotation()) < 1.0]
    assert not any(a.overlaps(b) for k, a in enumerate(boxes) for b in boxes[k + 1 :])


def test_every_edge_is_drawn_once():
    axes = draw_triangles(GROUND)
    (collection,) = [item for item in axes.collections if isinstance(item, LineCollection)]
    edges = len(GROUND.vertices) + len(GROUND.triangles) - 1
    assert len(collection.get_segments()) == edges


@pytest.mark.parametrize("shading", ["height", "slope", "relief", "none"])
def test_every_shading_draws_and_shows_its_legend(shading):
    figure = map_sheet(GROUND, shading=shading, triangles=False)
    drawn = shade(GROUND, shading, Figure().add_subplot())
    assert (drawn is None) == (shading in ("relief", "none"))
    bars = [axes.get_xlabel() for axes in figure.axes[1:] if axes.get_xlabel()]
    assert bars == {"height": ["height (m)"], "slope": ["slope (%)"]}.get(shading, [])


def test_a_profile_keeps_its_exaggeration_and_labels_its_stations():
    profile = GROUND.profile([(5.0, 50.0), (60.0, 52.0), (105.0, 60.0)])
    figure = profile_sheet({"ground": profile}, exaggeration=5.0, interval=10.0, title="across")
    axes = figure.axes[0]
    box = axes.get_position()
    width, height = np.array(figure.get_size_inches()) * (box.width, box.height)
    across, up = profile.length / width, np.diff(axes.get_ylim())[0] / height
    assert across / up == pytest.approx(5.0)
    output = texts(figure)
    assert any("vertical exaggeration 5" in text for text in output)
    for station in (0.0, 10.0, 50.0):
        assert f"{station:.1f}" in output and f"{float(profile.height(station)):.2f}" in output
    assert f"{profile.bends[1]:.1f}" in output


def test_pictures_that_cannot_be_are_refused(tmp_path):
    with pytest.raises(DataError, match="no ground to draw"):
        profile_sheet({"ground": GROUND.profile([(500.0, 0.0), (600.0, 0.0)])})
    with pytest.raises(DataError, match="must be above 0"):
        profile_sheet({"ground": GROUND.profile([(5.0, 50.0), (105.0, 60.0)])}, exaggeration=-2.0)
    with pytest.raises(DataError, match=r"\.png, \.pdf or \.svg"):
        save_sheet(Figure(), tmp_path / "a.jpg")
