"""Filling in the pages' templates."""

from __future__ import annotations

import re
from functools import cache
from importlib.resources import files
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    import jinja2


_NAME = re.compile(r"[a-z][a-z_.-]*")


@cache
def _environment() -> jinja2.Environment:
    import jinja2
    from jinja2.sandbox import ImmutableSandboxedEnvironment

    return ImmutableSandboxedEnvironment(
        loader=jinja2.FunctionLoader(part),
        autoescape=True,
        undefined=jinja2.StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
    )


def part(name: str) -> str:
    """Return the text of a template, a style sheet or a script, of those that the package brings."""
    if not _NAME.fullmatch(name):
        raise ValueError(f"{name!r} names no template")
    return (files("evrin.report") / "templates" / name).read_text(encoding="utf-8")


def vendored(name: str) -> str:
    """Return a bundled package for the pages."""
    return (files("evrin.report") / "vendor" / name).read_text(encoding="ascii")


def filled(template: str, /, **values: object) -> str:
    """Return a template filled in; texts are escaped."""
    return _environment().get_template(template).render(**values)
