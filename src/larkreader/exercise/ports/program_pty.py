"""A program as a port, whose standard input and output are a pseudo terminal."""

from __future__ import annotations

import errno
import os
import pty
import tty

from larkreader.errors import PortError

from .child import NO_WIRE, Child
from .descriptor import DescriptorPort
from .unclosed import forget, remember


class PtyProgramPort(DescriptorPort):
    """A program whose standard input and output are a pseudo terminal in raw mode, so that it need not flush.

    Parameters
    ----------
    name : str
        What the port is called.
    command : str
        The program and its arguments; no shell runs.
    """

    notes: tuple[str, ...] = (NO_WIRE,)

    def __init__(self, name: str, command: str) -> None:
        descriptor, other = pty.openpty()
        try:
            tty.setraw(other)
            self._child = Child(name, command, other)
        except BaseException:
            os.close(descriptor)
            raise
        finally:
            os.close(other)
        os.set_blocking(descriptor, False)
        super().__init__(descriptor, name)
        remember(self)

    def _read_now(self, most: int) -> bytes:
        try:
            data = os.read(self._descriptor, most)
        except BlockingIOError:
            return b""
        except OSError as error:
            raise self._failed(error) from None
        if not data:
            raise self._child.ended()
        return data

    def _failed(self, error: OSError) -> PortError:
        return self._child.ended() if error.errno == errno.EIO else super()._failed(error)

    def _release(self) -> None:
        super()._release()
        note = self._child.end(by_hangup=True)
        forget(self)
        if note:
            self.notes = (*self.notes, note)
