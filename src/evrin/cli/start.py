"""Where the command starts: nothing heavy is loaded before an interruption can be told in words."""

from __future__ import annotations

import sys

_STOPPED = 130


def main() -> None:
    """Load the command and run it."""
    try:
        from evrin.cli.app import main as run
    except KeyboardInterrupt:
        print("interrupted; no partial files were written", file=sys.stderr)
        sys.exit(_STOPPED)
    run()
