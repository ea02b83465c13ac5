"""The command's entry point."""

from __future__ import annotations

import sys
from typing import Annotated

import typer

from evrin import __version__
from evrin.cli import building, comparing, demonstrating, drawing, editing, profiling, querying, receiving, reporting
from evrin.cli.guarding import guarded
from evrin.cli.terminal import BAD_INPUT, STOPPED
from evrin.errors import EvrinError

app = typer.Typer(
    name="evrin",
    no_args_is_help=True,
    add_completion=False,
    pretty_exceptions_enable=False,
    help="Existing-ground terrain models that are written down, checked and traced to their shots.",
)
for module in (demonstrating, receiving, building, editing, comparing, querying, drawing, profiling, reporting):
    for command in module.COMMANDS:
        app.command()(guarded(command))


def _show_version(wanted: bool) -> None:
    if wanted:
        print(f"evrin {__version__}")
        raise typer.Exit


@app.callback()
def _options(
    version: Annotated[
        bool, typer.Option("--version", callback=_show_version, is_eager=True, help="Print the version.")
    ] = False,
) -> None:
    """Options of the command as a whole."""


def main() -> None:
    """Run the command; tell errors in words and in the exit code."""
    try:
        code = app(standalone_mode=False) or 0
        if code == STOPPED:
            raise KeyboardInterrupt
        sys.exit(code)
    except EvrinError as error:
        print(f"error: {error}", file=sys.stderr)
        sys.exit(BAD_INPUT)
    except (KeyboardInterrupt, typer.Abort):
        print("stopped; no file was left half written", file=sys.stderr)
        sys.exit(STOPPED)
    except BrokenPipeError:
        sys.stderr.close()
        sys.exit(STOPPED)
    except Exception as error:
        # What the argument parser refuses knows how to show itself; anything else is a defect and keeps its traceback.
        if not hasattr(error, "show"):
            raise
        error.show()
        sys.exit(BAD_INPUT)


if __name__ == "__main__":
    main()
