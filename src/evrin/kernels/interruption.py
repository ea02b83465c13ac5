"""Ctrl-C that waits until a kernel is whole.

The compiler calls back into Python while it makes or loads code. What is raised there is lost, and code that is not
there is called next, which ends the process without a word.
"""

from __future__ import annotations

import contextlib
import signal
import threading
from collections.abc import Iterator


@contextlib.contextmanager
def heard_afterwards() -> Iterator[None]:
    """Hold Ctrl-C, and a request to end, until the work is done.

    Examples
    --------
    >>> import signal
    >>> before = signal.signal(signal.SIGINT, signal.default_int_handler)
    >>> try:
    ...     with heard_afterwards():
    ...         signal.raise_signal(signal.SIGINT)
    ...         print("all of it")
    ... except KeyboardInterrupt:
    ...     print("interrupted")
    all of it
    interrupted
    >>> _ = signal.signal(signal.SIGINT, before)
    """
    if threading.current_thread() is not threading.main_thread():
        yield
        return
    heard: list[int] = []
    before: dict[signal.Signals, signal._HANDLER] = {}
    try:
        for number in (signal.SIGINT, signal.SIGTERM):
            handler = signal.getsignal(number)
            if callable(handler):
                before[number] = handler
                signal.signal(number, lambda which, _: heard.append(which))
        yield
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)
        for which in dict.fromkeys(heard):
            signal.raise_signal(which)
