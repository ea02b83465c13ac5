"""Locks on files, which end with the process that holds them however it ends."""

from __future__ import annotations

import sys


def taken(handle: int, *, is_shared: bool = False, waits: bool = True) -> bool:
    """Take the lock of an open file, for as long as it is open; return whether it was free.

    Parameters
    ----------
    handle : int
        Of a file that is open for writing.
    is_shared : bool
        Whether others may share it. Where the system knows no such locks, it is free then and nothing is taken.
    waits : bool
        Whether to wait until it is free.

    Raises
    ------
    OSError
        Where the disk knows no locks.
    """
    if sys.platform == "win32":
        import msvcrt

        try:
            if not is_shared:
                msvcrt.locking(handle, msvcrt.LK_LOCK if waits else msvcrt.LK_NBLCK, 1)
        except PermissionError:
            return False
        return True
    import fcntl

    try:
        fcntl.flock(handle, (fcntl.LOCK_SH if is_shared else fcntl.LOCK_EX) | (0 if waits else fcntl.LOCK_NB))
    except BlockingIOError:
        return False
    return True
