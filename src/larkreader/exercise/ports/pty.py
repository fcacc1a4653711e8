"""A pseudo terminal: a port whose other side any program can open by a path."""

from __future__ import annotations

import errno
import os
import pty
import time
import tty

from .descriptor import DescriptorPort

NOBODY_S = 0.02  # between looks whether a user has opened the other side


class PtyPort(DescriptorPort):
    """A new pseudo terminal; `name` is the path that the other side opens."""

    notes: tuple[str, ...] = (
        "a pseudo terminal has no wire: baud and parity mean nothing on it, and no character has a fault",
    )

    def __init__(self) -> None:
        descriptor, other = pty.openpty()
        tty.setraw(other)
        name = os.ttyname(other)
        os.close(other)
        os.set_blocking(descriptor, False)
        super().__init__(descriptor, name)

    def _read_now(self, most: int) -> bytes:
        try:
            return os.read(self._descriptor, most)
        except BlockingIOError:
            return b""
        except OSError as error:
            if error.errno != errno.EIO:
                raise self._failed(error) from None
            time.sleep(NOBODY_S)  # the other side is not open, and may be opened yet
            return b""
