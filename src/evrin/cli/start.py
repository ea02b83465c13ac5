"""Where the command starts: nothing heavy is loaded before an interruption can be reported in words."""

from __future__ import annotations

import os
import sys

_STOPPED = 130
# What many commands import and few use.
_LARGE = ("pandas", "scipy")


def main() -> None:
    """Load the command and run it."""
    # Where a stream is closed, what is meant for it is discarded.
    for name in ("stdout", "stderr"):
        if getattr(sys, name) is None:
            setattr(sys, name, open(os.devnull, "w", encoding="utf-8"))  # noqa: PTH123, SIM115
    from evrin import compiling
    from evrin.cli.interrupting import STOPPED_TEXT
    from evrin.lazy import import_later

    compiling.is_alone = True

    try:
        for name in _LARGE:
            import_later(name)
        from evrin.cli.app import main as run
    except KeyboardInterrupt:
        print(STOPPED_TEXT, file=sys.stderr)
        sys.exit(_STOPPED)
    run()
