"""Serial ports of Windows.

What the driver made of the settings is read back and compared with what was asked. The driver reports errors of the
line by the block: `ClearCommError` gives the kinds that there were since it was last asked, not the characters. All
characters that arrived between two looks are marked then, with `Fault.BY_BLOCK` beside the fault. On closing, the
settings found are restored.
"""

from __future__ import annotations

import re
import threading
import time
from collections import Counter, deque
from collections.abc import Iterable

from larkreader.capture.characters import Fault
from larkreader.declare.link.line import LineSettings
from larkreader.errors import PortError

from . import win32
from .closing import drain, unsent_note
from .impossible import refuse_impossible
from .port import HELD_BACK, Port, Received
from .unclosed import forget, remember
from .win32 import Win32Error

DEVICES = "\\\\.\\"
_NUMBERED = re.compile(r"COM\d+", re.IGNORECASE)
LARGEST_READ = QUEUE = 1 << 16
BREAK_S = 0.3  # as long as POSIX holds one
BY_BLOCK = (
    "the driver reports parity errors, framing errors and breaks by the block, not by the character: all characters "
    "that arrived between two looks at it are marked"
)

PARITIES = {"N": 0, "O": 1, "E": 2, "M": 3, "S": 4}
STOP_BITS = {1.0: 0, 1.5: 1, 2.0: 2}
RTS_ENABLE, RTS_HANDSHAKE, DTR_ENABLE = 1, 2, 1
MODEM_LINES = {
    "cts": win32.MS_CTS_ON,
    "dsr": win32.MS_DSR_ON,
    "dcd": win32.MS_RLSD_ON,
    "ri": win32.MS_RING_ON,
}
MARKED = {win32.CE_RXPARITY: Fault.PARITY, win32.CE_FRAME: Fault.FRAMING, win32.CE_BREAK: Fault.BREAK}
COUNTERS = {
    win32.CE_FRAME: "framing errors",
    win32.CE_OVERRUN: "overruns",
    win32.CE_RXPARITY: "parity errors",
    win32.CE_BREAK: "breaks",
    win32.CE_RXOVER: "buffer overflows",
}
GONE = {
    win32.ERROR_INVALID_HANDLE,
    win32.ERROR_BAD_COMMAND,
    win32.ERROR_GEN_FAILURE,
    win32.ERROR_ACCESS_DENIED,
    win32.ERROR_NO_SUCH_DEVICE,
    win32.ERROR_DEVICE_NOT_CONNECTED,
    win32.ERROR_DEVICE_REMOVED,
    win32.ERROR_FILE_NOT_FOUND,
    win32.ERROR_OPERATION_ABORTED,
}
FLOW_FIELDS = ("fOutX", "fInX", "fOutxCtsFlow", "fRtsControl")
RESTORED = {
    "BaudRate": "baud",
    "ByteSize": "data bits",
    "Parity": "parity",
    "StopBits": "stop bits",
    **dict.fromkeys(FLOW_FIELDS, "flow control"),
}


class WindowsPort(Port):
    """A serial port of Windows.

    Parameters
    ----------
    device : CommDevice
        The open device; it belongs to the port from now on.
    name : str
        Its name, such as ``COM3``.
    line : LineSettings
        What to set it to.

    Raises
    ------
    PortError
        If the settings cannot be had on any serial device, or the driver refuses them.
    """

    name: str
    line: LineSettings
    notes: tuple[str, ...]

    marks_faults = True

    def __init__(self, device: win32.CommDevice, name: str, line: LineSettings) -> None:
        self.name, self.line = name, line
        self._device = device
        self._closed = False
        self._looking = threading.Lock()
        self._counts: Counter[str] = Counter()
        self._delivered = self._seen = self._held_over = 0
        self._blocks: deque[tuple[int, int]] = deque()  # up to which character, and with which faults
        self._is_changed = False
        try:
            refuse_impossible(name, line)
            self._found, self._limits_found = device.settings(), device.time_limits()
            self._is_changed = True
            remember(self)
            self._set(line)
            self.notes = (*self._differences(line), *self._thrown_away(), BY_BLOCK)
        except BaseException:
            self.close()
            raise

    def read_some(self, most: int, limit_s: float) -> Received:
        """Receive what is there; wait up to `limit_s` seconds for the first character."""
        self._check_open()
        most = min(most, LARGEST_READ)
        try:
            data = b""
            waiting = self._look()
            if not waiting and most and limit_s > 0:
                data = self._device.read(1, limit_s)
                waiting = self._look(unread=len(data)) if data else 0
            if waiting and len(data) < most:
                data += self._device.read(min(waiting, most - len(data)), limit_s)
        except Win32Error as error:
            raise self._failed(error) from None
        return Received(data, "length" if len(data) == most else "time", self._faults_of(len(data)))

    def write(self, data: bytes, limit_s: float | None = None) -> None:
        """Send all of `data`; return when the port has taken it."""
        self._check_open()
        rest = bytes(data)
        deadline = None if limit_s is None else self.now_s() + limit_s
        while rest:
            remaining = None if deadline is None else max(deadline - self.now_s(), 0.0)
            try:
                rest = rest[self._device.write(rest, remaining) :]
            except Win32Error as error:
                raise self._failed(error) from None
            if rest and deadline is not None and self.now_s() >= deadline:
                raise self._took_too_little(len(data) - len(rest), len(data), limit_s, HELD_BACK)

    def now_s(self) -> float:
        """Return the time on the machine's monotonic clock, in seconds."""
        return time.perf_counter()  # `time.monotonic` goes in steps of 15 ms before Python 3.13

    def close(self) -> None:
        """Give the port back as it was found."""
        if not self._closed:
            self._closed = True
            try:
                self._restore()
            finally:
                self._device.close()

    def modem_lines(self) -> dict[str, bool]:
        """Return which of RTS, DTR, CTS, DSR, DCD and RI are asserted; what the driver does not know is left out."""
        lines: dict[str, bool] = {}
        try:
            own = self._device.dtr_and_rts()
            lines |= {"rts": bool(own & 2), "dtr": bool(own & 1)}
        except Win32Error:
            pass  # a driver need not know
        try:
            status = self._device.modem_status()
        except Win32Error:
            return lines
        return lines | {name: bool(status & bit) for name, bit in MODEM_LINES.items()}

    def set_modem_line(self, name: str, asserted: bool) -> None:
        """Assert or release ``rts`` or ``dtr``.

        Raises
        ------
        PortError
            If the driver refuses; with rts-cts flow control RTS belongs to it.
        """
        functions = {
            ("rts", True): win32.SETRTS,
            ("rts", False): win32.CLRRTS,
            ("dtr", True): win32.SETDTR,
            ("dtr", False): win32.CLRDTR,
        }
        try:
            self._device.escape(functions[name, asserted])
        except Win32Error as error:
            raise PortError(f"port {self.name}", f"has no line {name}: {error.strerror}") from None

    def send_break(self) -> None:
        """Hold the line at start level for 0.3 s."""
        try:
            self._device.set_break(True)
            time.sleep(BREAK_S)
            self._device.set_break(False)
        except Win32Error as error:
            raise self._failed(error) from None

    def error_counters(self) -> dict[str, int]:
        """Return at how many looks at the driver each kind of error had occurred since the port was opened."""
        if not self._closed:
            try:
                self._look()
            except Win32Error as error:
                raise self._failed(error) from None
        return {name: self._counts[name] for name in COUNTERS.values()}

    def _look(self, unread: int = 0) -> int:
        """Ask the driver for errors, and return how many characters wait; `unread` are read but not delivered yet."""
        with self._looking:
            errors, waiting, _ = self._device.look()
            for bit, name in COUNTERS.items():
                self._counts[name] += bool(errors & bit)
            flags = self._held_over
            for bit, fault in MARKED.items():
                flags |= int(fault) if errors & bit else 0
            arrived = self._delivered + unread + waiting
            if arrived > self._seen:
                self._blocks.append((arrived, flags | Fault.BY_BLOCK if flags else 0))
                self._seen, self._held_over = arrived, 0
            else:
                self._held_over = flags  # nothing arrived with it: it belongs to what follows
            return waiting

    def _faults_of(self, length: int) -> bytes:
        """Return the faults of the next `length` characters, which are delivered now."""
        faults = bytearray()
        with self._looking:
            end = self._delivered + length
            while self._delivered < end:
                until, flags = self._blocks[0] if self._blocks else (end, 0)
                taken = min(until, end) - self._delivered
                faults += bytes([flags]) * taken
                self._delivered += taken
                if self._blocks and self._delivered == until:
                    self._blocks.popleft()
            self._seen = max(self._seen, self._delivered)
        return bytes(faults)

    def _set(self, line: LineSettings) -> None:
        wanted = win32.Dcb.from_buffer_copy(self._found)
        wanted.BaudRate, wanted.ByteSize = round(line.baud), line.data_bits
        wanted.Parity, wanted.StopBits = PARITIES[line.parity], STOP_BITS[line.stop_bits]
        wanted.fBinary, wanted.fParity, wanted.fAbortOnError = 1, line.has_parity, 0
        wanted.fErrorChar = wanted.fNull = wanted.fDsrSensitivity = wanted.fOutxDsrFlow = 0
        wanted.fOutxCtsFlow = line.flow_control == "rts-cts"
        wanted.fRtsControl = RTS_HANDSHAKE if line.flow_control == "rts-cts" else RTS_ENABLE
        wanted.fDtrControl = DTR_ENABLE
        wanted.fOutX = wanted.fInX = line.flow_control == "xon-xoff"
        wanted.XonChar, wanted.XoffChar = 0x11, 0x13
        try:
            self._device.set_queues(QUEUE, QUEUE)
            self._device.set(wanted)
            self._device.set_time_limits(win32.CommTimeouts())
        except Win32Error as error:
            raise PortError(f"port {self.name}", f"does not take {line}: {error.strerror}") from None

    def _differences(self, line: LineSettings) -> list[str]:
        """Compare what the driver gives back with what was asked."""
        now = self._device.settings()
        notes = []
        if now.ByteSize != line.data_bits:
            notes.append(f"the driver did not take {line.data_bits} data bits; it has {now.ByteSize}")
        if now.Parity != PARITIES[line.parity]:
            notes.append(f"the driver did not take parity {line.parity}; it has {_letter(now.Parity)}")
        if now.StopBits != STOP_BITS[line.stop_bits]:
            notes.append(f"the driver did not take {line.stop_bits:g} stop bits")
        if line.flow_control == "rts-cts" and not (now.fOutxCtsFlow and now.fRtsControl == RTS_HANDSHAKE):
            notes.append("the driver did not take rts-cts flow control")
        if line.flow_control == "xon-xoff" and not (now.fOutX and now.fInX):
            notes.append("the driver did not take xon-xoff flow control")
        if abs(now.BaudRate - line.baud) > 0.5:
            notes.append(f"the driver made {now.BaudRate} of {line.baud:g} baud")
        return notes

    def _thrown_away(self) -> list[str]:
        """Throw away what was received before the settings were made: it is unknown how it was read."""
        _, waiting, _ = self._device.look()
        self._device.purge(win32.PURGE_RXCLEAR | win32.PURGE_RXABORT)
        if not waiting:
            return []
        return [f"{waiting:,} characters that were received before the port was set up were thrown away"]

    def _restore(self) -> None:
        if not self._is_changed:
            return
        try:
            self._drain()
        except Win32Error:
            pass  # it is gone
        finally:
            self._give_back()
            forget(self)

    def _give_back(self) -> None:
        """Restore the settings that were found."""
        try:
            self._device.set_time_limits(self._limits_found)
            self._device.set(self._found)
            now = self._device.settings()
        except Win32Error:
            return  # it is gone, and with it what could be restored
        lost = {name for field, name in RESTORED.items() if getattr(now, field) != getattr(self._found, field)}
        self.notes += tuple(f"not restored on closing: {name}" for name in sorted(lost))

    def _drain(self) -> None:
        assert self.line is not None
        left = drain(lambda: self._device.look()[2], self.line.character_time_s, self.now_s)
        if left:
            self.notes += (unsent_note(left),)
            self._device.purge(win32.PURGE_TXCLEAR | win32.PURGE_TXABORT)

    def _failed(self, error: Win32Error) -> PortError:
        if self._closed:
            return PortError(f"port {self.name}", "is closed")
        if error.code in GONE:
            return PortError(f"port {self.name}", "is gone", advice="Was it unplugged?")
        return PortError(f"port {self.name}", f"failed: {error.strerror}")


def open_device(name: str, line: LineSettings) -> WindowsPort:
    """Open a serial port of Windows and set it.

    Parameters
    ----------
    name : str
        Such as ``COM3``.
    line : LineSettings
        What to set it to.

    Raises
    ------
    Win32Error
        If it cannot be opened.
    PortError
        If it cannot be set.
    """
    return WindowsPort(win32.CommDevice(device_path(name)), name, line)


def read_back(name: str) -> LineSettings:
    """Return the settings that a serial port has; see `larkreader.exercise.ports.open.read_back`."""
    device = win32.CommDevice(device_path(name))
    try:
        now = device.settings()
    finally:
        device.close()
    if not now.BaudRate:
        raise PortError(f'port "{name}"', "does not give its baud")
    stop_bits = {code: bits for bits, code in STOP_BITS.items()}.get(now.StopBits, 1.0)
    flow = "rts-cts" if now.fOutxCtsFlow else "xon-xoff" if now.fOutX and now.fInX else "none"
    form = f"{now.ByteSize}{_letter(now.Parity)}{stop_bits:g}"
    try:
        return LineSettings.model_validate({"baud": now.BaudRate, "format": form, "flow_control": flow})
    except ValueError:
        raise PortError(f'port "{name}"', f"has the settings {now.BaudRate} {form}, which no line has") from None


def is_port_name(name: str, there: Iterable[str]) -> bool:
    """Return whether a name can be that of a serial port; `there` are those that are registered."""
    known = {item.upper() for item in there}
    return bool(_NUMBERED.fullmatch(name)) or name.startswith(DEVICES) or name.upper() in known


def device_path(name: str) -> str:
    """Return the path by which Windows opens a port of any number."""
    return name if name.startswith(DEVICES) else DEVICES + name


def _letter(parity: int) -> str:
    return next((letter for letter, code in PARITIES.items() if code == parity), "N")
