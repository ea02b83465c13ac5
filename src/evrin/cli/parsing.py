"""From functions to commands that the argument parser knows, which start soon."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any, cast

import typer
from typer.core import TyperCommand, TyperGroup

from evrin.base.named_values import Row


class _PlainValue:
    """Takes a text or a path as it was typed; the parser's own way there loads a validator first."""

    def __init__(self, kind: type) -> None:
        self._kind = kind

    def coerce(self, value: object, param: object, ctx: object) -> object:
        """Return the value."""
        return value if value is None else self._kind(value)


def _spared(parameters: list[Any]) -> list[Any]:
    for parameter in parameters:
        kind = getattr(getattr(parameter, "type_descriptor", None), "annotation", None)
        if kind in (str, bool, Path) and hasattr(parameter, "_runtime_param"):
            parameter._runtime_param = _PlainValue(kind)
    return parameters


class _SoonCommand(TyperCommand):
    def get_params(self, ctx: Any) -> list[Any]:
        return _spared(super().get_params(ctx))


class ListingGroup(TyperGroup):
    """A group whose help has the text of each command in full."""

    def get_params(self, ctx: Any) -> list[Any]:
        """Return the options, which take what they are given."""
        return _spared(super().get_params(ctx))

    def format_commands(self, ctx: Any, formatter: Any) -> None:
        """Write a row for each command, its text in full."""
        commands = [(name, self.get_command(ctx, name)) for name in self.list_commands(ctx)]
        texts = [
            (name, " ".join((each.help or "").split("\n\n")[0].split())) for name, each in commands if each is not None
        ]
        with formatter.section("Commands"):
            formatter.write_dl(texts)


def made_commands(functions: Mapping[str, Callable[..., int]]) -> Row:
    """Return functions as commands by name."""
    app = typer.Typer(callback=lambda: None, rich_markup_mode=None)
    for name, function in functions.items():
        app.command(name, cls=_SoonCommand)(function)
    group = cast("TyperGroup", typer.main.get_command(app))
    return dict(group.commands)
