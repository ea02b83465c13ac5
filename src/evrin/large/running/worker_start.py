"""What each worker process on this machine does first: it leaves Ctrl-C to the process that started it."""

from __future__ import annotations

import signal
import threading


def dask_setup(worker: object) -> None:
    """Ignore the signal; Dask calls this when a worker has been set up."""
    if threading.current_thread() is threading.main_thread():
        signal.signal(signal.SIGINT, signal.SIG_IGN)
