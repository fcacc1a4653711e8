"""Ports that have something to give back and are not closed yet: they are closed when the program ends.

An interrupt can fall between the opening of a port and the statement that would have closed it.
"""

from __future__ import annotations

import atexit
import contextlib
import os

from .port import Port

_UNCLOSED: dict[int, tuple[Port, int]] = {}  # by identity, with the process that opened it


def remember(port: Port) -> None:
    """Close a port at the end of the program, unless it is closed before."""
    _UNCLOSED[id(port)] = port, os.getpid()


def forget(port: Port) -> None:
    """Leave a port alone at the end of the program, as it has been closed."""
    _UNCLOSED.pop(id(port), None)


@atexit.register
def close_all() -> None:
    """Close the ports that this process has opened and not closed."""
    for port, process in list(_UNCLOSED.values()):
        if process == os.getpid():  # not one that a fork has inherited
            with contextlib.suppress(Exception):
                port.close()
