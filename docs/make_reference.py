"""Write the reference of every exported name as pages: `make docs`. Needs no network; a warning is an error."""

from __future__ import annotations

import shutil
import sys
from importlib import import_module
from pathlib import Path

from sphinx.application import Sphinx

import evrin

ROOT = Path(__file__).resolve().parents[1]
ROOMS = ["evrin", *(f"evrin.{path.parent.name}" for path in sorted((ROOT / "src/evrin").glob("*/__init__.py")))]
CONFIGURATION = {
    "project": "Evrin",
    "version": evrin.__version__,
    "release": evrin.__version__,
    "extensions": ["sphinx.ext.autodoc", "sphinx.ext.autosummary", "numpydoc"],
    "autosummary_generate": True,
    "autodoc_typehints": "none",
    "numpydoc_show_class_members": False,
    "html_theme": "alabaster",
    "html_theme_options": {"page_width": "1200px", "fixed_sidebar": True},
    "html_show_sphinx": False,
    "html_copy_source": False,
    "nitpicky": False,
}
CLASS_PAGE = """{{ objname | escape | underline }}

.. currentmodule:: {{ module }}

.. autoclass:: {{ objname }}
   :members:
   :undoc-members:
"""
HEADINGS = (("Classes", "classes"), ("Functions", "functions"), ("Values", "values"))


def exported(room: str) -> dict[str, list[str]]:
    """Return the names that a room exports: its classes, functions and values, and those that `evrin` has as well."""
    module = import_module(room)
    kinds: dict[str, list[str]] = {"classes": [], "functions": [], "values": [], "elsewhere": []}
    for name in sorted(getattr(module, "__all__", ()), key=str.lower):
        value = getattr(module, name)
        if room != "evrin" and value is getattr(evrin, name, None):
            kinds["elsewhere"].append(name)
        elif isinstance(value, type):
            kinds["classes"].append(name)
        elif callable(value):
            kinds["functions"].append(name)
        elif not name.startswith("_"):
            kinds["values"].append(name)
    return kinds


def room_page(room: str) -> str:
    """Return the page of one room, a table of names for each kind."""
    summary = (import_module(room).__doc__ or "").strip()
    lines = [room, "=" * len(room), "", summary, "", f".. currentmodule:: {room}", ""]
    kinds = exported(room)
    for heading, kind in HEADINGS:
        if not kinds[kind]:
            continue
        lines += [heading, "-" * len(heading), ""]
        if kind == "values":
            lines += [f"- ``{name}``" for name in kinds[kind]]
        else:
            lines += [".. autosummary::", "   :toctree: names", "   :nosignatures:", ""]
            lines += [f"   {name}" for name in kinds[kind]]
        lines.append("")
    if kinds["elsewhere"]:
        links = ", ".join(f":py:obj:`evrin.{name}`" for name in kinds["elsewhere"])
        lines += ["Also here", "---------", "", links, ""]
    return "\n".join(lines)


def write_pages(folder: Path) -> None:
    """Write what the pages are made from."""
    (folder / "templates/autosummary").mkdir(parents=True)
    (folder / "templates/autosummary/class.rst").write_text(CLASS_PAGE, encoding="utf-8")
    rooms = [room for room in ROOMS if getattr(import_module(room), "__all__", ())]
    for room in rooms:
        (folder / f"{room}.rst").write_text(room_page(room), encoding="utf-8")
    contents = "\n".join(f"   {room}" for room in rooms)
    title = f"Evrin {evrin.__version__}: every name, with an example"
    (folder / "index.rst").write_text(
        f"{title}\n{'=' * len(title)}\n\n.. toctree::\n   :maxdepth: 2\n\n{contents}\n", encoding="utf-8"
    )


def main(into: Path = ROOT / "build/docs") -> int:
    """Make the pages again and return 0, or 1 where there was a warning."""
    shutil.rmtree(into, ignore_errors=True)
    source = into / "source"
    write_pages(source)
    application = Sphinx(
        str(source),
        None,
        str(into / "html"),
        str(into / "doctrees"),
        "html",
        confoverrides=CONFIGURATION | {"templates_path": ["templates"]},
        status=None,
        warningiserror=True,
    )
    application.build(force_all=True)
    print(f"wrote {into / 'html/index.html'}", file=sys.stderr)
    return int(application.statuscode)


if __name__ == "__main__":
    sys.exit(main(*map(Path, sys.argv[1:])))
