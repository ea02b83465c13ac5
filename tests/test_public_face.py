"""What `evrin` and its rooms export: documented, and what the docs use; and what a surface can do in a notebook."""

import ast
import inspect
import pickle
import re
import textwrap
from concurrent.futures import ThreadPoolExecutor
from importlib import import_module
from pathlib import Path

import ezdxf
import matplotlib as mpl
import numpy as np
import pandas as pd
import pytest
from matplotlib.figure import Figure
from numpydoc.docscrape import ClassDoc, FunctionDoc

import evrin
from evrin.demo import small_site
from evrin.report import report_page

ROOT = Path(__file__).parents[1]
ROOMS = ["evrin", *(f"evrin.{path.parent.name}" for path in sorted((ROOT / "src/evrin").glob("*/__init__.py")))]
EXPORTED = {
    f"{room}.{name}": getattr(import_module(room), name)
    for room in ROOMS
    for name in getattr(import_module(room), "__all__", ())
}
FIELD = evrin.triangulate([[0, 0, 1], [8, 0, 1], [8, 8, 2], [0, 8, 2], [4, 4, 1.7]], name="field")


def _methods(value):
    for name, member in vars(value).items():
        function = getattr(member, "__func__", member)
        if not name.startswith("_") and inspect.isfunction(function):
            yield function


def _named(sections):
    return {part.strip().lstrip("*") for entry in sections for part in entry.name.split(",")}


def _lacks_of_function(function):
    """What its docstring does not state: parameters, what is returned, what its own lines raise."""
    output, signature = FunctionDoc(function), inspect.signature(function)
    lacks = [name for name in signature.parameters if name not in {"self", "cls", *_named(output["Parameters"])}]
    if signature.return_annotation not in (None, "None") and not (output["Returns"] or output["Yields"]):
        lacks.append("Returns")
    raised = {
        getattr(node.exc, "func", node.exc)
        for node in ast.walk(ast.parse(textwrap.dedent(inspect.getsource(inspect.unwrap(function)))))
        if isinstance(node, ast.Raise) and node.exc is not None
    }
    stated = {entry.type or entry.name for entry in output["Raises"]}
    return lacks + [name for name in map(ast.unparse, raised) if name[0].isupper() and name not in stated]


def _lacks_of_class(value):
    output = ClassDoc(value)
    own = None if issubclass(value, Exception) and "__init__" not in vars(value) else value.__init__
    names = inspect.signature(own).parameters if own else {}
    known = {"self", "args", "kwargs", "data", *_named(output["Parameters"]), *_named(output["Attributes"])}
    lacks = [name for name in names if name not in known]
    return lacks + [f"{each.__name__}: {lack}" for each in _methods(value) for lack in _lacks_of_function(each)]


@pytest.mark.parametrize("name", EXPORTED)
def test_every_exported_name_is_documented_with_an_example(name):
    value = EXPORTED[name]
    if not (inspect.isclass(value) or inspect.isfunction(value)):
        return
    assert ">>>" in (value.__doc__ or "")
    assert not (_lacks_of_class if inspect.isclass(value) else _lacks_of_function)(value)


def _used_in(text):
    """Modules and names that Python in a page or an example imports, or takes from `evrin` itself."""
    for node in ast.walk(ast.parse(text)):
        if isinstance(node, ast.ImportFrom) and (node.module or "").split(".")[0] == "evrin":
            yield from ((node.module, alias.name) for alias in node.names)
        if isinstance(node, ast.Attribute) and isinstance(node.value, ast.Name) and node.value.id == "evrin":
            yield "evrin", node.attr


def test_docs_and_examples_use_only_what_evrin_and_its_rooms_export():
    texts = [path.read_text(encoding="utf-8") for path in sorted((ROOT / "examples").glob("*.py"))]
    for page in [ROOT / "README.md", *sorted((ROOT / "docs").glob("*.md"))]:
        if page.stem != "extending":  # which is for those who add to Evrin, and run by tests of its own
            texts += re.findall(r"```python\n(.*?)```", page.read_text(encoding="utf-8"), re.S)
    used = {each for text in texts for each in _used_in(text)}
    assert len(used) > 20
    rooms = {room.removeprefix("evrin.") for room in ROOMS}
    assert not [
        each for each in used if ".".join(each) not in EXPORTED and not (each[0] == "evrin" and each[1] in rooms)
    ]


def test_a_surface_is_written_and_read_clipped_and_tabled(tmp_path):
    FIELD.write(tmp_path / "field.xml")
    again = evrin.Surface.read(tmp_path / "field.xml")
    assert np.array_equal(again.vertices[:, 2], FIELD.vertices[:, 2])
    assert np.isclose(FIELD.clip([[1, 1], [5, 1], [5, 5], [1, 5]]).plan_area, 16.0)
    with pytest.raises(evrin.DataError, match="at least one"):
        FIELD.clip()
    with pytest.raises(evrin.DataError, match="no way is known"):
        FIELD.transform("EPSG:25833")
    table = FIELD.to_dataframe()
    assert list(table["height"]) == list(FIELD.vertices[:, 2])
    build = evrin.Recipe.read(small_site(tmp_path / "small")).build()
    assert build.surface.to_dataframe()["file"].str.len().gt(0).all()


def test_transforming_there_and_back_returns_the_same_places():
    there = evrin.triangulate([[500000, 5600000, 1], [500100, 5600000, 2], [500000, 5600100, 3]], crs="EPSG:25832")
    moved = there.transform("EPSG:25833")
    assert moved.crs == "EPSG:25833"
    assert not np.allclose(moved.vertices[:, 0], there.vertices[:, 0], atol=1000.0)
    assert np.allclose(moved.transform("EPSG:25832").vertices, there.vertices, atol=1e-6)
    with pytest.raises(evrin.DataError, match="no way is known"):
        there.transform(evrin.Frame("m"))


def test_a_pickled_surface_is_the_same_and_cannot_be_written_to():
    again = pickle.loads(pickle.dumps(FIELD))
    assert np.array_equal(again.vertices, FIELD.vertices)
    assert np.array_equal(again.triangles, FIELD.triangles)
    for array in (again.vertices, again.triangles, again.edge_lines):
        with pytest.raises(ValueError, match="read-only"):
            array[0, 0] = 0


def test_surfaces_and_contours_go_out_to_geopandas_and_xarray():
    triangles = FIELD.to_geodataframe()
    assert np.isclose(triangles.area.sum(), FIELD.plan_area)
    lines = FIELD.contours(0.25)
    assert np.isclose(lines.to_geodataframe().length.sum(), sum(_length(each.points) for each in lines))
    grid = FIELD.gridded(1.0).to_xarray()
    assert grid.dims == ("northing", "easting")
    assert np.isclose(float(grid.sel(easting=2.5, northing=0.5, method="nearest")), FIELD.height(2.5, 0.5), atol=0.5)


def _length(points):
    return np.hypot(*np.diff(points[:, :2], axis=0).T).sum()


def test_points_come_in_from_tables():
    import geopandas

    frame = pd.DataFrame({"northing": [0, 0, 8.0], "easting": [0, 8.0, 8], "height": [1, 1, 2.0]})
    places = geopandas.points_from_xy(frame["easting"], frame["northing"], frame["height"])
    for table in (frame, geopandas.GeoDataFrame(geometry=places)):
        assert np.isclose(evrin.triangulate(table).height(6.0, 3.0), 1.375)
    with pytest.raises(evrin.DataError, match="longitudes"):
        evrin.triangulate(geopandas.GeoDataFrame(geometry=places, crs=4326))
    with pytest.raises(evrin.DataError, match="height"):
        evrin.triangulate(frame.drop(columns="height"))


def test_drawing_into_given_axes_returns_them():
    axes = Figure().add_subplot()
    assert FIELD.plot(ax=axes) is axes
    assert axes.collections or axes.images


def test_notebooks_show_figures_and_escape_names(tmp_path):
    named = FIELD.renamed(name="<script>alert(1)</script>")
    recipe = evrin.Recipe.read(small_site(tmp_path / "small"))
    shown = [named, recipe, recipe.build(), named.contours(0.25), named.profile([(0, 1), (8, 1)])]
    for each in shown:
        text = each._repr_html_()
        assert text.startswith("<")
        assert "<script>alert" not in text
    assert "64.0 m²" in named._repr_html_()


@pytest.mark.thorough
def test_threads_build_draw_and_write_the_same_and_change_no_setting(tmp_path):
    path = small_site(tmp_path / "small")

    def work(number):
        build = evrin.Recipe.read(path).build()
        drawing = tmp_path / f"{number}.dxf"
        build.surface.write(drawing)
        build.surface.plot(ax=Figure().add_subplot()).figure.canvas.draw()
        page = report_page(build, interval=0.5, made_on="2026-01-01")
        return build.surface.vertices.tobytes(), build.tally.to_csv(), page, drawing.read_bytes()

    alone = work("alone")
    settings = dict(mpl.rcParams), ezdxf.options.write_fixed_meta_data_for_testing
    with ThreadPoolExecutor(4) as pool:
        for result in pool.map(work, range(8)):
            assert [here == there for here, there in zip(result, alone, strict=True)] == [True] * 4
    assert (dict(mpl.rcParams), ezdxf.options.write_fixed_meta_data_for_testing) == settings
