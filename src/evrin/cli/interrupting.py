"""Ctrl-C that is heard at once, even where a compiled kernel is at work for long.

Python passes a signal to a program only between two steps of its own, and a kernel is one step. So a thread waits for
the signal as well, and where nothing has come of it within a second, ends the process itself.
"""

from __future__ import annotations

import contextlib
import os
import signal
import socket
import sys
import threading
from collections.abc import Iterator

_PATIENCE = 1.0
_STOPPED = 130
STOPPED_TEXT = "interrupted; no partial files were written"


@contextlib.contextmanager
def stopped_promptly() -> Iterator[None]:
    """Let Ctrl-C or SIGTERM end the process within about a second, and leave no unfinished file."""
    if threading.current_thread() is not threading.main_thread():
        yield
        return
    heard, waker = socket.socketpair()
    waker.setblocking(False)
    before = signal.set_wakeup_fd(waker.fileno(), warn_on_full_buffer=False)
    # A request to end is heard like Ctrl-C, so that what is being written is removed.
    ended = signal.signal(signal.SIGTERM, signal.default_int_handler)
    over = threading.Event()
    watch = threading.Thread(target=_wait, args=(heard, over), daemon=True)
    watch.start()
    try:
        yield
    finally:
        over.set()
        signal.set_wakeup_fd(before)
        signal.signal(signal.SIGTERM, ended)
        waker.close()
        watch.join(2.0)
        heard.close()


def _wait(heard: socket.socket, over: threading.Event) -> None:
    with contextlib.suppress(OSError):
        while data := heard.recv(64):
            if {signal.SIGINT, signal.SIGTERM} & set(data) and not over.wait(_PATIENCE):
                _leave()


def _leave() -> None:
    from evrin.base.files import discard_unfinished

    discard_unfinished()
    with contextlib.suppress(OSError, ValueError):
        print(STOPPED_TEXT, file=sys.stderr, flush=True)
    os._exit(_STOPPED)
