"""All kernels compiled ahead, in processes side by side, each after those that it calls."""

from __future__ import annotations

import os
import signal
import time
from collections.abc import Callable, Iterator
from concurrent.futures import FIRST_COMPLETED, Future, ProcessPoolExecutor, wait
from importlib import import_module
from multiprocessing import get_context
from pkgutil import walk_packages
from typing import NamedTuple

from evrin.kernels.decorators import CallableKernel
from evrin.kernels.kept import is_kept
from evrin.kernels.kernel import Kernel

# The rooms that hold kernels.
ROOMS = ("kernels", "tin", "surface", "making", "survey", "analysis", "formats")


class Prepared(NamedTuple):
    """What was compiled.

    Attributes
    ----------
    kernels : int
        How many were compiled.
    kept : int
        How many were there already.
    seconds : dict of str to float
        Processor time of each that was compiled.
    """

    kernels: int
    kept: int
    seconds: dict[str, float]


def prepare(report: Callable[[int, int], None], processes: int | None = None) -> Prepared:
    """Compile every kernel that is not kept.

    Parameters
    ----------
    report : callable
        Is called with how many kernels are done, and how many there are to compile.
    processes : int, optional
        As many as there are processors if not given.

    Returns
    -------
    Prepared
    """
    everything = all_kernels()
    missing = [each for each in everything if not is_kept(each)]
    if not missing:
        return Prepared(0, len(everything), {})
    count = min(processes or os.cpu_count() or 1, len(missing))
    seconds: dict[str, float] = {}
    # A process of its own for each core; forking one that has threads is not safe.
    with ProcessPoolExecutor(count, get_context("spawn"), _leave_interruptions_to_the_parent) as pool:
        for kernel, spent in _in_turn(pool, missing):
            seconds[kernel.name] = spent
            report(len(seconds), len(missing))
    return Prepared(len(missing), len(everything) - len(missing), seconds)


def all_kernels() -> list[Kernel]:
    """Return every kernel that Python calls, and all that these call, callees first."""
    kernels: dict[Kernel, None] = {}
    for room in ROOMS:
        package = import_module(f"evrin.{room}")
        for module in [package, *(import_module(m.name) for m in walk_packages(package.__path__, f"evrin.{room}."))]:
            for value in vars(module).values():
                if isinstance(value, CallableKernel) and value.__module__ == module.__name__ and value.options["entry"]:
                    kernels.update(dict.fromkeys(value.closure))
    return list(kernels)


def _in_turn(pool: ProcessPoolExecutor, missing: list[Kernel]) -> Iterator[tuple[Kernel, float]]:
    """Hand each kernel to a process once all that it calls are done; those that most others wait for come first."""
    rank = {each: sum(each in other.closure for other in missing) for each in missing}
    waiting = sorted(missing, key=lambda each: -rank[each])
    done: set[Kernel] = set()
    running: dict[Future[float], Kernel] = {}
    while waiting or running:
        for kernel in [each for each in waiting if all(c in done or c not in missing for c in each.callees.values())]:
            waiting.remove(kernel)
            running[pool.submit(_compile, kernel.__module__, kernel.function.__name__)] = kernel
        for future in wait(running, return_when=FIRST_COMPLETED).done:
            kernel = running.pop(future)
            done.add(kernel)
            yield kernel, future.result()


def _leave_interruptions_to_the_parent() -> None:
    signal.signal(signal.SIGINT, signal.SIG_IGN)


def _compile(module: str, name: str) -> float:
    """Compile one kernel in a process of the pool; return the processor time it took."""
    began = time.process_time()
    kernel: CallableKernel = getattr(import_module(module), name)
    kernel.ready()
    return time.process_time() - began
