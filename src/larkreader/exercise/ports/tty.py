"""Serial devices through the operating system's own interface (POSIX termios, with Linux's additions).

What the driver made of the settings is read back and compared with what was asked. Errors that the hardware sees are
marked in what arrives (``PARMRK``) and come out as flags of `Fault`. On closing, the settings found are restored.
"""

from __future__ import annotations

import array
import errno
import fcntl
import os
import struct
import sys
import termios
from typing import Any

from larkreader.capture.characters import Fault
from larkreader.capture.marks import MarkReader
from larkreader.declare.link.line import LineSettings
from larkreader.errors import PortError

from .bauds import BOTHER, baud_of, is_given_back, named_speed, set_baud
from .closing import drain, unsent_note
from .descriptor import DescriptorPort
from .impossible import refuse_impossible
from .port import Received
from .unclosed import forget, remember

# Linux, asm-generic/ioctls.h and termbits.h; absent from the module termios, and from other systems
HAS_CMSPAR = sys.platform.startswith("linux")
CMSPAR = 0o10000000000
TIOCGICOUNT = 0x545D
COUNTERS = {6: "framing errors", 7: "overruns", 8: "parity errors", 9: "breaks", 10: "buffer overflows"}

DATA_BITS = {5: termios.CS5, 6: termios.CS6, 7: termios.CS7, 8: termios.CS8}
MODEM_LINES = {
    "rts": termios.TIOCM_RTS,
    "dtr": termios.TIOCM_DTR,
    "cts": termios.TIOCM_CTS,
    "dsr": termios.TIOCM_DSR,
    "dcd": termios.TIOCM_CD,
    "ri": termios.TIOCM_RI,
}
SETTING_NAMES = {0: "input flags", 1: "output flags", 2: "character format", 3: "local flags", 6: "control characters"}
IFLAG, OFLAG, CFLAG, LFLAG, ISPEED, OSPEED, CC = range(7)


class TtyPort(DescriptorPort):
    """A serial device.

    Parameters
    ----------
    descriptor : int
        The open device; it belongs to the port from now on.
    name : str
        Its path.
    line : LineSettings
        What to set it to.

    Raises
    ------
    PortError
        If the settings cannot be had on any serial device: nine data bits, an inverted line, the highest bit first.
    """

    notes: tuple[str, ...] = ()

    marks_faults = True

    def __init__(self, descriptor: int, name: str, line: LineSettings) -> None:
        super().__init__(descriptor, name)
        self.line: LineSettings = line
        self._moved: set[str] = set()
        self._marks = MarkReader(Fault.PARITY if line.has_parity else Fault.FRAMING)
        self._is_changed = False
        try:
            refuse_impossible(name, line)
            if line.parity in ("M", "S") and not HAS_CMSPAR:
                found = f"cannot do parity {line.parity}, as {line} asks"
                raise PortError(f"port {name}", found, "This system has none")
            self._found = termios.tcgetattr(descriptor)
            self._baud_found = baud_of(descriptor)
            self._lines_found = self.modem_lines()
            self._is_changed = True
            remember(self)
            self._set(line)
            self.notes = (*self._differences(line), *self._thrown_away())
        except (OSError, termios.error) as error:
            self.close()
            raise self._failed(OSError(*error.args)) from None
        except BaseException:
            self.close()
            raise

    def read_some(self, most: int, limit_s: float) -> Received:
        """Receive what is there; wait up to `limit_s` seconds for the first character."""
        deadline = self.now_s() + limit_s
        while True:
            raw = super().read_some(most, max(deadline - self.now_s(), 0.0)).data
            data, faults = self._marks.feed(raw)
            if data or not raw:  # a mark that is not whole yet is not silence
                break
        return Received(data, "length" if len(data) == most else "time", faults)

    def modem_lines(self) -> dict[str, bool]:
        """Return which of RTS, DTR, CTS, DSR, DCD and RI are asserted; empty where the driver has none."""
        try:
            state = struct.unpack("i", fcntl.ioctl(self._descriptor, termios.TIOCMGET, bytes(4)))[0]
        except OSError:
            return {}
        return {name: bool(state & bit) for name, bit in MODEM_LINES.items()}

    def set_modem_line(self, name: str, asserted: bool) -> None:
        """Assert or release ``rts`` or ``dtr``.

        Raises
        ------
        PortError
            If the driver has no such line.
        """
        call = termios.TIOCMBIS if asserted else termios.TIOCMBIC
        try:
            fcntl.ioctl(self._descriptor, call, struct.pack("i", MODEM_LINES[name]))
        except OSError as error:
            raise PortError(f"port {self.name}", f"has no line {name}: {error.strerror}") from None
        self._moved.add(name)

    def send_break(self) -> None:
        """Hold the line at start level for a quarter to half a second."""
        self._check_open()
        try:
            termios.tcsendbreak(self._descriptor, 0)
        except termios.error as error:
            raise self._failed(OSError(*error.args)) from None

    def error_counters(self) -> dict[str, int]:
        """Return the errors that the driver has counted since it was loaded; empty where it counts nothing."""
        counts = array.array("i", [0] * 20)
        try:
            fcntl.ioctl(self._descriptor, TIOCGICOUNT, counts)
        except OSError:
            return {}
        return {name: counts[place] for place, name in COUNTERS.items()}

    def _set(self, line: LineSettings) -> None:
        cflag = DATA_BITS[line.data_bits] | termios.CREAD | termios.CLOCAL
        if line.has_parity:
            cflag |= termios.PARENB
            cflag |= termios.PARODD if line.parity in ("O", "M") else 0
            cflag |= CMSPAR if line.parity in ("M", "S") else 0
        if line.stop_bits > 1:
            cflag |= termios.CSTOPB
        if line.flow_control == "rts-cts":
            cflag |= termios.CRTSCTS
        iflag = termios.INPCK | termios.PARMRK
        if line.flow_control == "xon-xoff":
            iflag |= termios.IXON | termios.IXOFF
        characters = list(self._found[CC])
        characters[termios.VMIN], characters[termios.VTIME] = 1, 0
        known = named_speed(line.baud)
        speed = termios.B38400 if known is None else known
        attributes: list[Any] = [iflag, 0, cflag, 0, speed, speed, characters]
        try:
            _set_attributes(self._descriptor, attributes)
            if known is None:
                set_baud(self._descriptor, round(line.baud))
        except (OSError, termios.error) as error:
            raise PortError(f"port {self.name}", f"does not take {line}: {error.args[-1]}") from None

    def _differences(self, line: LineSettings) -> list[str]:
        """Compare what the driver says with what was asked."""
        now = termios.tcgetattr(self._descriptor)
        result = []
        if now[CFLAG] & termios.CSIZE != DATA_BITS[line.data_bits]:
            result.append(f"the driver did not take {line.data_bits} data bits")
        if bool(now[CFLAG] & termios.PARENB) != line.has_parity:
            result.append(f"the driver did not take parity {line.parity}; characters go without")
        if bool(now[CFLAG] & termios.CSTOPB) != (line.stop_bits > 1):
            result.append(f"the driver did not take {line.stop_bits:g} stop bits")
        if line.flow_control == "rts-cts" and not now[CFLAG] & termios.CRTSCTS:
            result.append("the driver did not take rts-cts flow control")
        baud = baud_of(self._descriptor)
        if not is_given_back(line.baud):
            result.append(f"this system does not give back a baud such as {line.baud:g}, so that it is not checked")
        elif baud is not None and abs(baud - line.baud) > 0.5:
            result.append(f"the driver made {baud} of {line.baud:g} baud")
        return result

    def _thrown_away(self) -> list[str]:
        """Throw away what arrived before the settings were made: it is unknown how it was read."""
        waiting = _queued(self._descriptor, termios.FIONREAD)
        if not waiting:
            return []
        termios.tcflush(self._descriptor, termios.TCIFLUSH)
        return [f"{waiting:,} characters received before the port was set up were discarded"]

    def _drain(self) -> None:
        assert self.line is not None
        left = drain(lambda: _queued(self._descriptor, termios.TIOCOUTQ), self.line.character_time_s, self.now_s)
        if left:
            self.notes += (unsent_note(left),)
            termios.tcflush(self._descriptor, termios.TCOFLUSH)

    def _restore(self) -> None:
        if not self._is_changed:
            return
        try:
            self._drain()
        finally:  # whoever is impatient with a device that takes nothing gets its settings back too
            self._give_back()
            forget(self)

    def _give_back(self) -> None:
        """Restore the settings that were found."""
        try:
            for name in self._moved & set(self._lines_found):
                self.set_modem_line(name, self._lines_found[name])
            _set_attributes(self._descriptor, self._found)
            if self._found[OSPEED] == BOTHER and self._baud_found is not None:
                set_baud(self._descriptor, self._baud_found)
            self.notes += tuple(f"not restored on closing: {item}" for item in self._not_restored())
            fcntl.flock(self._descriptor, fcntl.LOCK_UN)
            fcntl.ioctl(self._descriptor, termios.TIOCNXCL)
        except (OSError, termios.error, PortError):
            return  # it is gone, and with it what could be restored

    def _not_restored(self) -> list[str]:
        """Compare what the driver says with what was found on opening."""
        now, found = termios.tcgetattr(self._descriptor), self._found
        result = [name for place, name in SETTING_NAMES.items() if now[place] != found[place]]
        if baud_of(self._descriptor) != self._baud_found:
            result.append(f"baud, which was {self._baud_found}")
        lines = self.modem_lines()
        return result + [name for name in self._moved if lines.get(name) != self._lines_found.get(name)]


def read_back(path: str) -> LineSettings:
    """Return the settings that a serial device has; see `larkreader.exercise.ports.open.read_back`."""
    try:
        descriptor = os.open(path, os.O_RDONLY | os.O_NOCTTY | os.O_NONBLOCK)
    except OSError as error:
        raise PortError(f'port "{path}"', f"cannot be opened: {error.strerror}") from None
    try:
        now, baud = termios.tcgetattr(descriptor), baud_of(descriptor)
    except termios.error:
        raise PortError(f'port "{path}"', "is not a serial device") from None
    finally:
        os.close(descriptor)
    if not baud:
        raise PortError(f'port "{path}"', "does not report its baud")
    flags = now[CFLAG]
    data_bits = next(bits for bits, flag in DATA_BITS.items() if flags & termios.CSIZE == flag)
    letters = "SM" if HAS_CMSPAR and flags & CMSPAR else "EO"
    parity = letters[bool(flags & termios.PARODD)] if flags & termios.PARENB else "N"
    stop_bits = ("1.5" if data_bits == 5 else "2") if flags & termios.CSTOPB else "1"
    is_paused_by_characters = now[IFLAG] & termios.IXON and now[IFLAG] & termios.IXOFF
    flow = "rts-cts" if flags & termios.CRTSCTS else "xon-xoff" if is_paused_by_characters else "none"
    return LineSettings.model_validate(
        {"baud": baud, "format": f"{data_bits}{parity}{stop_bits}", "flow_control": flow}
    )


def _queued(descriptor: int, which: int) -> int:
    """Return how many characters a driver holds of what arrived or is to go out."""
    try:
        return int(struct.unpack("i", fcntl.ioctl(descriptor, which, bytes(4)))[0])
    except OSError:
        return 0


def _set_attributes(descriptor: int, attributes: list[Any]) -> None:
    """Set what a driver can be set to. What it does not take is found by reading back."""
    try:
        termios.tcsetattr(descriptor, termios.TCSANOW, attributes)
    except termios.error as error:
        if error.args[0] != errno.EINVAL:  # the C library's word for: nothing had to change, and not all is as asked
            raise


def open_descriptor(path: str) -> int:
    """Open a device exclusively, as far as the system holds others back."""
    descriptor = os.open(path, os.O_RDWR | os.O_NOCTTY | os.O_NONBLOCK)
    try:
        if not os.isatty(descriptor):
            raise PortError(
                f'port "{path}"', "is not a serial device", "It must be a terminal device such as /dev/ttyUSB0"
            )
        fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
        fcntl.ioctl(descriptor, termios.TIOCEXCL)
    except BaseException:
        os.close(descriptor)
        raise
    return descriptor
