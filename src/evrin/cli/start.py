"""Where the command starts: nothing heavy is loaded before an interruption can be told in words."""

from __future__ import annotations

import sys

_STOPPED = 130


def main() -> None:
    """Load the command and run it."""
    from evrin.cli.interrupting import STOPPED_TEXT

    try:
        from evrin.cli.app import main as run
    except KeyboardInterrupt:
        print(STOPPED_TEXT, file=sys.stderr)
        sys.exit(_STOPPED)
    run()
