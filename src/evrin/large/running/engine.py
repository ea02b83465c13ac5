"""Work on tiles handed to Dask: processes on this machine, or the workers of a scheduler elsewhere."""

from __future__ import annotations

import logging
import os
import signal
import threading
from collections.abc import Callable, Iterator, Sequence
from contextlib import ExitStack, contextmanager
from importlib import import_module
from multiprocessing import resource_tracker
from types import ModuleType
from typing import TYPE_CHECKING, TypeVar

from evrin.base.cache_folder import own_key
from evrin.base.errors import DataError, EvrinError, MissingPackageError
from evrin.large.running.tile_folder import sealing_with

if TYPE_CHECKING:
    from distributed import Client, Future

T = TypeVar("T")
Report = Callable[[str, int, int], None]
_LOST_WORKERS = 10
# A free port of this machine alone, so that two runs do not meet and no other machine can reach it.
_ITS_OWN_PORT = "127.0.0.1:0"


class Engine:
    """Runs one function on many tiles, and answers in their order.

    Parameters
    ----------
    client : distributed.Client
        The scheduler's client.
    report : callable
        Called with the name of a stage, how many of its tiles are done, and how many there are.

    Examples
    --------
    >>> from evrin.large import workers
    >>> with workers(1) as crew:
    ...     crew.run("lengths", len, [("weir",), ("pond",)])
    [4, 4]
    """

    def __init__(self, client: Client, report: Report) -> None:
        self._client, self._report = client, report

    def report(self, stage: str, done: int, total: int) -> None:
        """Report how far a stage is that is not handed out.

        Parameters
        ----------
        stage : str
            What is under way.
        done, total : int
            How many tiles are done, and how many there are.
        """
        self._report(stage, done, total)

    def run(self, stage: str, function: Callable[..., T], calls: Sequence[tuple[object, ...]]) -> list[T]:
        """Call the function with each of some arguments, wherever there is room; return the results in order.

        Parameters
        ----------
        stage : str
            What is reported to be under way.
        function : callable
            Importable by the workers.
        calls : sequence of tuple
            Arguments of each call.

        Returns
        -------
        list

        Raises
        ------
        EvrinError
            The first that a call raises; what was not begun is called off.
        """
        self._report(stage, 0, len(calls))
        if not calls:
            return []
        key = own_key()
        futures = [self._client.submit(sealing_with, key, function, *each, pure=False) for each in calls]
        try:
            for done, future in enumerate(_distributed().as_completed(futures, loop=self._client.loop), 1):
                if future.status == "error":
                    _raise_in_words(future)
                self._report(stage, done, len(calls))
            return list(self._client.gather(futures))
        finally:
            self._client.cancel(futures)


def _raise_in_words(future: Future[object]) -> None:
    error = future.exception()
    if isinstance(error, EvrinError) or not type(error).__module__.startswith("distributed"):
        raise error
    raise DataError(f"workers were lost over one tile again and again: {error}. Has the machine enough memory?")


def _distributed() -> ModuleType:
    try:
        return import_module("distributed")
    except ImportError as error:
        raise MissingPackageError("work on tiles needs the package distributed: pip install 'evrin[large]'") from error


def _say_nothing(stage: str, done: int, total: int) -> None:
    """Report to nobody."""


@contextmanager
def workers(count: int = 0, scheduler: str = "", report: Report = _say_nothing) -> Iterator[Engine]:
    """Give an engine with so many processes on this machine, or with the workers of a scheduler.

    Parameters
    ----------
    count : int
        How many processes; 0 for one for each core.
    scheduler : str
        Address of a Dask scheduler; its workers do the work instead.
    report : callable
        Called with the name of a stage, how many of its parts are done, and how many there are.

    Yields
    ------
    Engine

    Raises
    ------
    MissingPackageError
        Without Dask.
    DataError
        Where the scheduler cannot be reached, or has no worker.

    Examples
    --------
    >>> from evrin.large import workers
    >>> with workers(1) as crew:
    ...     crew.run("squares", pow, [(2, 2), (3, 2)])
    [4, 9]
    """
    distributed = _distributed()
    quiet = {
        "distributed.scheduler.allowed-failures": _LOST_WORKERS,
        "distributed.worker.memory.target": False,
        "distributed.worker.memory.spill": False,
        "distributed.worker.memory.pause": False,
        "distributed.worker.memory.terminate": False,
        "distributed.admin.large-graph-warning-threshold": "1GB",
    }
    with import_module("dask").config.set(quiet):
        if scheduler:
            with _client_of(distributed, scheduler) as client:
                yield Engine(client, report)
            return
        with ExitStack() as stack:
            with _interrupted_afterwards():
                cluster = distributed.LocalCluster(
                    n_workers=count or usual_workers(),
                    threads_per_worker=1,
                    processes=True,
                    dashboard_address=_ITS_OWN_PORT,
                    memory_limit=0,
                    silence_logs=logging.CRITICAL,
                    preload=("evrin.large.running.worker_start",),
                )
                stack.enter_context(cluster)
                client = stack.enter_context(distributed.Client(cluster, set_as_default=False))
            yield Engine(client, report)


@contextmanager
def _interrupted_afterwards() -> Iterator[None]:
    """Hear an interruption only after the block: a cluster that is not up yet cannot be closed in order.

    Processes that are started within do not hear Ctrl-C at all.
    """
    if threading.current_thread() is not threading.main_thread():
        yield
        return
    heard: list[int] = []
    signals = (signal.SIGINT, signal.SIGTERM)
    before = [signal.signal(each, lambda number, _: heard.append(number)) for each in signals]
    # Started later, it would let the signal through again.
    resource_tracker.ensure_running()
    masks = hasattr(signal, "pthread_sigmask")
    mask = signal.pthread_sigmask(signal.SIG_BLOCK, {signal.SIGINT}) if masks else set()
    try:
        yield
    finally:
        if masks:
            signal.pthread_sigmask(signal.SIG_SETMASK, mask)
        for each, handler in zip(signals, before, strict=True):
            signal.signal(each, handler)
        if heard:
            raise KeyboardInterrupt


def _client_of(distributed: ModuleType, scheduler: str) -> Client:
    try:
        client: Client = distributed.Client(scheduler, timeout="10s", set_as_default=False)
    except (OSError, ValueError, TimeoutError) as error:
        raise DataError(f"{scheduler}: no scheduler answers there: {error}") from error
    if not client.scheduler_info()["workers"]:
        client.close()
        raise DataError(f"{scheduler}: the scheduler has no worker; start some with `dask worker {scheduler}`")
    return client


def usual_workers() -> int:
    """Return as many workers as the machine has cores for this process."""
    return len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1
