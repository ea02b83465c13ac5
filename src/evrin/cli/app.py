"""The command's entry point."""

from __future__ import annotations

import contextlib
import logging
import os
import re
import shlex
import sys
import tempfile
import traceback
from typing import Annotated, NoReturn

import typer

from evrin import __version__
from evrin.base.errors import EvrinError
from evrin.base.wording import literal
from evrin.cli.catalogue import CommandGroup
from evrin.cli.guarding import Quiet, Verbose
from evrin.cli.interrupting import STOPPED_TEXT, stopped_promptly
from evrin.cli.session import start
from evrin.cli.terminal import BAD_INPUT, DEFECT, STOPPED, print_error

# Why a package cannot be loaded: there is no memory for it.
_NO_ROOM = re.compile("failed to map segment|cannot allocate memory|not enough space", re.IGNORECASE)

app = typer.Typer(
    cls=CommandGroup,
    name="evrin",
    no_args_is_help=True,
    context_settings={"help_option_names": ["-h", "--help"]},
    pretty_exceptions_enable=False,
    rich_markup_mode=None,
    help="Existing-ground terrain models that are written down, checked and traced to their shots.",
)


def _show_version(wanted: bool) -> None:
    if wanted:
        print(f"evrin {__version__}")
        raise typer.Exit


@app.callback()
def _options(
    version: Annotated[
        bool, typer.Option("--version", callback=_show_version, is_eager=True, help="Print the version.")
    ] = False,
    quiet: Quiet = False,
    verbose: Verbose = False,
) -> None:
    """Options of the command as a whole."""
    start(quiet=quiet)


def _show_warnings() -> None:
    """Let the log's warnings reach the terminal, except that kernels are prepared, which progress reports."""
    log = logging.getLogger("evrin")
    quiet = {"-q", "--quiet"} & set(sys.argv)
    if not log.handlers and not quiet:
        handler = logging.StreamHandler()
        handler.setLevel(logging.WARNING)
        handler.setFormatter(logging.Formatter("note: %(message)s"))
        handler.addFilter(lambda record: not record.getMessage().startswith("preparing kernels"))
        log.addHandler(handler)


def _report_defect(error: Exception) -> None:
    """Write the traceback to a file to be sent, or with --verbose to the terminal, and report it in one line."""
    text = "".join(traceback.format_exception(error))
    if {"-v", "--verbose"} & set(sys.argv):
        print(text, file=sys.stderr, end="")
    handle, path = tempfile.mkstemp(prefix="evrin-defect-", suffix=".txt")
    with os.fdopen(handle, "w", encoding="utf-8", errors="backslashreplace") as stream:
        stream.write(f"evrin {__version__}, Python {sys.version}\n{shlex.join(sys.argv)}\n\n{text}")
    what = " ".join(str(error).split())[:200]
    _say(f"internal error, a defect of Evrin: {type(error).__name__}: {what}. Please send {path}", DEFECT)


def _report_little_memory() -> NoReturn:
    _say(
        "error: there is not enough memory for this. Close other programs, raise the limit (ulimit -v), or work on "
        "less at once: `evrin tiles` takes clouds and grids that are larger than memory",
        BAD_INPUT,
    )
    sys.exit(BAD_INPUT)


def _shown(name: str) -> str:
    return name if len(name) <= 200 else f"{name[:80]} … {name[-40:]}"


def _leave_without_flushing(code: int) -> None:
    """End where what is left for stdout cannot be written, which Python would report once more."""
    with contextlib.suppress(OSError, ValueError):
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
    sys.exit(code)


def _say(error: str, code: int) -> None:
    """Print an error to stderr, and as JSON to stdout where that was asked for."""
    print(literal(error), file=sys.stderr)
    is_line = "--ndjson" in sys.argv
    if is_line or "--json" in sys.argv:
        with contextlib.suppress(OSError):
            print_error(error.removeprefix("error: "), code, next(iter(sys.argv[1:]), ""), is_line=is_line)
            sys.stdout.flush()


def main() -> None:
    """Run the command; report errors in words and by exit code."""
    _show_warnings()
    try:
        with stopped_promptly():
            code = app(standalone_mode=False) or 0
            sys.stdout.flush()
        if code == STOPPED:
            raise KeyboardInterrupt
        sys.exit(code)
    except EvrinError as error:
        _say(f"error: {error}", BAD_INPUT)
        sys.exit(BAD_INPUT)
    except (KeyboardInterrupt, typer.Abort):
        print(STOPPED_TEXT, file=sys.stderr)
        sys.exit(STOPPED)
    except BrokenPipeError:
        sys.stderr.close()
        _leave_without_flushing(STOPPED)
    except UnicodeEncodeError as error:
        _say(f"error: not a valid UTF-8 name: {ascii(error.object)[:150]}. Rename the file or folder.", BAD_INPUT)
        sys.exit(BAD_INPUT)
    except MemoryError:
        _report_little_memory()
    except OSError as error:
        # What the machine refuses is not a defect: a name too long, a full disk behind stdout.
        if error.filename:
            _say(f"error: {_shown(str(error.filename))}: {error.strerror or error}", BAD_INPUT)
            sys.exit(BAD_INPUT)
        _say(f"error: results cannot be printed: {error.strerror or error}", BAD_INPUT)
        _leave_without_flushing(BAD_INPUT)
    except Exception as error:
        if isinstance(error, ImportError) and _NO_ROOM.search(str(error)):
            _report_little_memory()
        # What the argument parser refuses knows how to show itself; anything else is a defect of ours.
        if hasattr(error, "show") and hasattr(error, "format_message"):
            if {"--json", "--ndjson"} & set(sys.argv):
                _say(f"error: {error.format_message()}", BAD_INPUT)
            else:
                error.show()
            sys.exit(BAD_INPUT)
        _report_defect(error)
        sys.exit(DEFECT)


if __name__ == "__main__":
    main()
