"""Whether the house is in order: imports, names, weight, and the rules that the compiler's shortcuts bring."""

import ast
import importlib
import inspect
import pkgutil
import re
import subprocess
import sys
import textwrap
import types
from pathlib import Path

import grimp
import pytest
from importlinter.cli import lint_imports

import evrin
from evrin.base import errors
from evrin.check import RULES
from evrin.kernels.kernel import Kernel

SOURCES = sorted(Path(evrin.__file__).parent.rglob("*.py"))
MODULES = [module.name for module in pkgutil.walk_packages(evrin.__path__, "evrin.")]


def test_imports_only_point_up_the_house():
    assert lint_imports(no_cache=True) == 0


def _circles(edges):
    """The sets of modules that import each other, after Tarjan."""
    index, low, stack, found = {}, {}, [], []

    def visit(name):
        index[name] = low[name] = len(index)
        stack.append(name)
        for other in edges[name]:
            if other not in index:
                visit(other)
            if other in stack:
                low[name] = min(low[name], low[other])
        if low[name] == index[name]:
            members = [stack.pop()]
            while members[-1] != name:
                members.append(stack.pop())
            found.extend([sorted(members)] if len(members) > 1 else [])

    for name in edges:
        if name not in index:
            visit(name)
    return found


# The methods of these classes call rooms further down the house, and name types from there.
FRONT_DOORS = {
    "evrin.surface.surface", "evrin.surface.grid", "evrin.recipe.recipe", "evrin.recipe.build",
    "evrin.analysis.contours.contour_lines", "evrin.analysis.along.profiles",
}  # fmt: skip
LOADED_BY_NAME = re.compile(r"""import_module\(f?["'](evrin\.[\w.]+)["']""")


def _imports():
    """The modules that each imports: at the top, in functions, for types alone; of front doors, at the top."""
    graph = grimp.build_graph("evrin", cache_dir=None)
    edges = {name: set(graph.find_modules_directly_imported_by(name)) for name in graph.modules}
    above = grimp.build_graph("evrin", exclude_type_checking_imports=True, cache_dir=None)
    for name in FRONT_DOORS:
        text = SOURCES[0].parent.parent.joinpath(*name.split(".")).with_suffix(".py").read_text(encoding="utf-8")
        first = {node.lineno for node in ast.parse(text).body}
        edges[name] = {
            other
            for other in above.find_modules_directly_imported_by(name)
            if any(each["line_number"] in first for each in above.get_import_details(importer=name, imported=other))
        }
    return edges


def test_no_modules_import_each_other_in_a_circle_not_even_for_types_in_functions_or_by_texts():
    assert _circles({"a": ["b"], "b": ["c", "a"], "c": []}) == [["a", "b"]]
    edges = _imports()
    assert not [path for path in SOURCES if LOADED_BY_NAME.search(path.read_text(encoding="utf-8"))]
    assert _circles({name: sorted(edges[name]) for name in sorted(edges)}) == []


def test_files_and_functions_are_short():
    for path in SOURCES:
        text = path.read_text(encoding="utf-8")
        # The front door of surfaces states what each of its methods takes and returns, in one place.
        assert text.count("\n") <= (1100 if path.name == "surface.py" else 400), path
        for node in ast.walk(ast.parse(text)):
            if isinstance(node, ast.FunctionDef):
                first = node.body[0]
                docstring = first.end_lineno - first.lineno + 1 if ast.get_docstring(node) else 0
                assert node.end_lineno - node.lineno + 1 - docstring <= 60, f"{path.name}: {node.name}"


def test_public_names_are_these():
    assert evrin.__all__ == sorted(evrin.__all__)
    assert all(getattr(evrin, name) is not None for name in evrin.__all__)
    with pytest.raises(AttributeError, match="no attribute 'surfaces'"):
        evrin.surfaces


def test_each_package_has_what_it_lists():
    for name in MODULES:
        module = importlib.import_module(name)
        assert all(hasattr(module, public) for public in getattr(module, "__all__", []))


def test_importing_evrin_loads_nothing_heavy():
    heavy = ["numpy", "numba", "pandas", "matplotlib", "scipy", "lxml"]
    code = f"import sys, evrin; print([name for name in {heavy} if name in sys.modules])"
    output = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert output.stdout.strip() == "[]"


def test_all_errors_share_one_base_and_fit_a_builtin():
    classes = [item for item in vars(errors).values() if inspect.isclass(item) and issubclass(item, Exception)]
    assert {item.__name__ for item in classes} == set(errors.__all__)
    for item in classes:
        assert issubclass(item, errors.EvrinError)
        assert item is errors.EvrinError or issubclass(item, (ValueError, ImportError))


def _globals_used(function):
    """The objects that a function's code, and code nested in it, reaches by global name."""
    waiting = [function.__code__]
    while waiting:
        code = waiting.pop()
        waiting += [constant for constant in code.co_consts if isinstance(constant, types.CodeType)]
        for name in code.co_names:
            thing = function.__globals__.get(name)
            if isinstance(thing, types.ModuleType) and thing.__name__.startswith("evrin"):
                yield from (vars(thing).get(other) for other in code.co_names)
            yield thing


def _plain_functions(module):
    for item in vars(module).values():
        if inspect.isfunction(item) and item.__module__ == module.__name__:
            yield item
        elif inspect.isclass(item) and item.__module__ == module.__name__:
            for member in vars(item).values():
                inside = getattr(member, "fget", None) or getattr(member, "func", None) or member
                inside = getattr(inside, "__func__", inside)
                if inspect.isfunction(inside):
                    yield inside


@pytest.mark.parametrize("name", [name for name in MODULES if not name.startswith("evrin.cli")])
def test_no_python_code_calls_a_function_that_only_kernels_may_call(name):
    for function in _plain_functions(importlib.import_module(name)):
        for used in _globals_used(function):
            is_inner = isinstance(used, Kernel) and not used.options["entry"]
            assert not is_inner, f"{function.__qualname__} calls {used.__qualname__}"


# The interpreter and the compiler give the same bits for these. Powers, sums, logarithms of NumPy they do not.
ALIKE = {
    "empty", "zeros", "ones", "full", "arange", "bool_", "int32", "int64", "uint64", "float64", "inf", "nan", "isnan",
    "isfinite", "sqrt", "hypot", "floor", "ceil", "rint", "round", "sort", "argsort", "searchsorted", "frexp",
    "ldexp", "copysign", "atan2", "cos", "sin",
}  # fmt: skip


@pytest.mark.parametrize("name", [name for name in MODULES if not name.startswith("evrin.cli")])
def test_kernels_are_made_of_what_python_computes_bit_by_bit_alike(name):
    module = importlib.import_module(name)
    kernels = [k for k in vars(module).values() if isinstance(k, Kernel) and k.__module__ == name]
    for kernel in kernels:
        for node in ast.walk(ast.parse(textwrap.dedent(inspect.getsource(kernel.function)))):
            if isinstance(node, ast.Attribute) and isinstance(node.value, ast.Name) and node.value.id in ("np", "math"):
                assert node.attr in ALIKE, f"{kernel.__qualname__} uses {node.value.id}.{node.attr}"
                assert node.attr not in ("cos", "sin") or node.value.id == "math", kernel.__qualname__
            is_power = isinstance(node, ast.BinOp) and isinstance(node.op, ast.Pow)
            assert not is_power, f"{kernel.__qualname__} raises to a power: multiply"


def test_every_rule_states_what_it_looks_for_and_is_named_like_the_others():
    assert len(RULES) >= 12
    for code, rule in RULES.items():
        assert code == rule.code == code.lower() and " " not in code
        assert rule.looks_for and (rule.check is None or rule.check.__doc__)


def test_each_harmful_change_of_the_table_is_of_a_text_that_stands_once():
    for row in Path(__file__).with_name("harmful_changes.tsv").read_text(encoding="utf-8").splitlines()[1:]:
        file, text, instead = (cell.replace("\\n", "\n") for cell in row.split("\t"))
        source = (Path(evrin.__file__).parent / file).read_text(encoding="utf-8")
        assert source.count(text) == 1 and text != instead, (file, text)
