"""The commands by name: each is loaded when it is called, and help of them all is kept from one call to the next."""

from __future__ import annotations

from importlib import import_module
from typing import Any

import typer
from typer.core import TyperCommand

from evrin.base.cache_folder import program_stamp, remembered
from evrin.base.named_values import Row
from evrin.cli.parsing import ListingGroup, made_commands

_EDITING = "making.edit_commands"
_MODULES = (
    "making.demo_command",
    "making.inspect_and_draft",
    "making.build_commands",
    _EDITING,
    "asking.compare_and_freeze",
    "asking.place_commands",
    "asking.picture_commands",
    "asking.profile_commands",
    "asking.volume_command",
    "asking.record_command",
    "making.combine_command",
    "making.pad_command",
    "making.layers_command",
    "making.tiles_command",
    "asking.report_and_look",
)


class CommandGroup(ListingGroup):
    """The commands of `evrin`: the module of one is loaded when it is called; help of all needs none of them."""

    def __init__(self, **settings: Any) -> None:
        super().__init__(**settings)
        self._module_of: dict[str, str] = {}
        for name, module, text in remembered("commands", program_stamp(), _list_of_commands):
            self._module_of[name] = module
            self.commands[name] = TyperCommand(name, help=text, rich_markup_mode=None)
        self._is_listing = False

    def get_command(self, ctx: Any, cmd_name: str) -> Any:
        """Return a command, or its name and help alone where all are listed."""
        if self._is_listing or cmd_name not in self._module_of:
            return super().get_command(ctx, cmd_name)
        return _commands_of(self._module_of[cmd_name])[cmd_name]

    def format_help(self, ctx: Any, formatter: Any) -> None:
        """Write the help of all commands."""
        self._is_listing = True
        super().format_help(ctx, formatter)


def all_commands() -> dict[str, object]:
    """Return every command by name, as the parser has it, in the order of the work."""
    return {name: command for module in _MODULES for name, command in _commands_of(module).items()}


def _list_of_commands() -> list[list[str]]:
    return [[name, module, command.help or ""] for module in _MODULES for name, command in _commands_of(module).items()]


def _commands_of(module: str) -> Row:
    from evrin.cli.guarding import guarded
    from evrin.cli.options.shared_options import writes_pictures

    loaded = import_module(f"evrin.cli.{module}")
    if module == _EDITING:
        return {"edit": typer.main.get_command(loaded.edit)}
    return made_commands({each.__name__: guarded(each, draws=writes_pictures(each)) for each in loaded.COMMANDS})
