"""Filling in the pages' templates."""

from __future__ import annotations

from functools import cache
from importlib.resources import files
from typing import TYPE_CHECKING, Any

from evrin.errors import MissingPackageError

if TYPE_CHECKING:
    import jinja2


@cache
def _environment() -> jinja2.Environment:
    try:
        import jinja2
    except ImportError as error:
        raise MissingPackageError("pages are written by jinja2: pip install 'evrin[report]'") from error
    loader = jinja2.FunctionLoader(part)
    return jinja2.Environment(
        loader=loader, autoescape=True, undefined=jinja2.StrictUndefined, trim_blocks=True, lstrip_blocks=True
    )


def part(name: str) -> str:
    """Return the text of a template, a style sheet or a script."""
    return (files("evrin.report") / "templates" / name).read_text(encoding="utf-8")


def vendored(name: str) -> str:
    """Return a package of others as it is kept for the pages."""
    return (files("evrin.report") / "vendor" / name).read_text(encoding="ascii")


def filled(template: str, /, **values: Any) -> str:
    """Return a template filled in; texts are escaped."""
    return _environment().get_template(template).render(**values)
