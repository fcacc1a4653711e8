"""Waiting for a descriptor, whatever its number: `select` refuses those above 1023, which `poll` waits for."""

from __future__ import annotations

import select
import sys
import time

MOST_OF_SELECT = 1024  # FD_SETSIZE of POSIX systems; on Windows it is a count, and numbers are not limited
HANGUP_S = 0.02  # between looks at a descriptor that has hung up, and may be opened again


def is_ready(descriptor: int, limit_s: float | None, *, writing: bool = False) -> bool:
    """Wait until a descriptor can be read or written, or fails; return whether it can.

    Parameters
    ----------
    descriptor : int
        What to wait for.
    limit_s : float, optional
        How long to wait, in seconds; without end if it is None.
    writing : bool
        Whether it is to be written rather than read.
    """
    if descriptor < MOST_OF_SELECT or sys.platform == "win32":
        wanted = [descriptor]
        reading, sending, _ = select.select([] if writing else wanted, wanted if writing else [], [], limit_s)
        return bool(reading or sending)
    poll = select.poll()
    poll.register(descriptor, select.POLLOUT if writing else select.POLLIN)
    found = poll.poll(None if limit_s is None else limit_s * 1000)
    if writing and found and found[0][1] == select.POLLHUP:  # it is full, and the other side is closed for now
        time.sleep(HANGUP_S if limit_s is None else min(HANGUP_S, limit_s))
        return limit_s is None or limit_s > HANGUP_S
    return bool(found)
