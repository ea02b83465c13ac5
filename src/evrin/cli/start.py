"""Where the command starts: nothing heavy is loaded before an interruption can be reported in words."""

from __future__ import annotations

import os
import sys

_STOPPED = 130


def main() -> None:
    """Load the command and run it."""
    # Where a stream is closed, what is meant for it is discarded.
    for name in ("stdout", "stderr"):
        if getattr(sys, name) is None:
            setattr(sys, name, open(os.devnull, "w", encoding="utf-8"))  # noqa: PTH123, SIM115
        _let_any_text_through(getattr(sys, name))
    from evrin.cli.interrupting import STOPPED_TEXT

    try:
        from evrin.cli.app import main as run
    except KeyboardInterrupt:
        print(STOPPED_TEXT, file=sys.stderr)
        sys.exit(_STOPPED)
    run()


def _let_any_text_through(stream: object) -> None:
    """Let a stream take signs that its encoding does not have, such as the square of m²."""
    encoding = (getattr(stream, "encoding", None) or "utf-8").lower().replace("-", "").replace("_", "")
    if encoding != "utf8" and hasattr(stream, "reconfigure"):
        # What names no encoding of its own, such as the locale C, is read as UTF-8 nearly everywhere.
        is_plain = encoding in ("ascii", "ansix3.41968", "646", "usascii")
        stream.reconfigure(encoding="utf-8" if is_plain else None, errors="replace")
