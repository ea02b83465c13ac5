"""How far long work is, for whoever listens."""

from __future__ import annotations

from collections.abc import Callable
from threading import Lock

# Are called with how many parts are done, how many there are, and what they are.
listeners: list[Callable[[int, int, str], None]] = []
# Are called before a kernel is compiled, with its name and about how many seconds that takes.
compiling_listeners: list[Callable[[str, float], None]] = []


def reached(done: int, parts: int, what: str) -> None:
    """Report how many parts are done.

    Parameters
    ----------
    done, parts : int
        How many are done, and how many there are.
    what : str
        What the parts are, such as ``rows``.

    Examples
    --------
    >>> heard = []
    >>> listeners.append(lambda *far: heard.append(far))
    >>> reached(2, 5, "rows")
    >>> heard
    [(2, 5, 'rows')]
    >>> del listeners[-1]
    """
    for listener in listeners:
        listener(done, parts, what)


def compiling(kernel: str, seconds: float) -> None:
    """Report that a kernel is compiled now.

    Parameters
    ----------
    kernel : str
        Its name.
    seconds : float
        About how long it takes on this machine.

    Examples
    --------
    >>> heard = []
    >>> compiling_listeners.append(lambda *compiled: heard.append(compiled))
    >>> compiling("tin.delaunay.delaunay_mesh", 6.0)
    >>> heard
    [('tin.delaunay.delaunay_mesh', 6.0)]
    >>> del compiling_listeners[-1]
    """
    for listener in compiling_listeners:
        listener(kernel, seconds)


class Parts:
    """Counts the parts of work that several threads do, and reports how many are done.

    Parameters
    ----------
    count : int
        How many parts there are.
    what : str
        What a part is called.

    Examples
    --------
    >>> heard = []
    >>> listeners.append(lambda *far: heard.append(far))
    >>> parts = Parts(3, "rules")
    >>> parts.add(1), parts.add(2)
    (None, None)
    >>> heard
    [(1, 3, 'rules'), (3, 3, 'rules')]
    >>> del listeners[-1]
    """

    def __init__(self, count: int, what: str) -> None:
        self._count, self._what, self._done = count, what, 0
        self._lock = Lock()

    def add(self, done: int) -> None:
        """Report how many more are done.

        Parameters
        ----------
        done : int
            How many more are done.
        """
        with self._lock:
            self._done += done
            reached(self._done, self._count, self._what)
