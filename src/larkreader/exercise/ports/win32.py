"""The communications functions of Windows, through ``ctypes``.

Structures and constants as the header files ``winbase.h``, ``winnt.h`` and ``ntddser.h`` of the Windows SDK give them.
A call that fails raises `Win32Error` with the system's error code. Each read and write is overlapped, and waits in
slices, so that Ctrl-C, which Python looks at between two calls, need not wait.
"""

from __future__ import annotations

import ctypes
import time
from ctypes import wintypes
from typing import Any

DWORD, WORD = ctypes.c_uint32, ctypes.c_uint16  # the module `wintypes` has 64 bits for a DWORD elsewhere
GENERIC_READ, GENERIC_WRITE, OPEN_EXISTING, FILE_FLAG_OVERLAPPED = 0x80000000, 0x40000000, 3, 0x40000000
INVALID_HANDLE = ctypes.c_void_p(-1).value
WAIT_OBJECT_0 = 0
SLICE_S = 0.05  # of a wait, after which Python may look for Ctrl-C

ERROR_INVALID_FUNCTION, ERROR_FILE_NOT_FOUND, ERROR_PATH_NOT_FOUND, ERROR_ACCESS_DENIED = 1, 2, 3, 5
ERROR_INVALID_HANDLE, ERROR_BAD_COMMAND, ERROR_GEN_FAILURE, ERROR_SHARING_VIOLATION = 6, 22, 31, 32
ERROR_INVALID_PARAMETER, ERROR_SEM_TIMEOUT, ERROR_INVALID_NAME = 87, 121, 123
ERROR_NO_SUCH_DEVICE, ERROR_OPERATION_ABORTED, ERROR_IO_PENDING = 433, 995, 997
ERROR_DEVICE_NOT_CONNECTED, ERROR_DEVICE_REMOVED = 1167, 1617

CE_RXOVER, CE_OVERRUN, CE_RXPARITY, CE_FRAME, CE_BREAK = 0x01, 0x02, 0x04, 0x08, 0x10
MS_CTS_ON, MS_DSR_ON, MS_RING_ON, MS_RLSD_ON = 0x10, 0x20, 0x40, 0x80
SETRTS, CLRRTS, SETDTR, CLRDTR = 3, 4, 5, 6
PURGE_TXABORT, PURGE_RXABORT, PURGE_TXCLEAR, PURGE_RXCLEAR = 1, 2, 4, 8
IOCTL_SERIAL_GET_DTRRTS = 0x001B0078  # ntddser.h: CTL_CODE(FILE_DEVICE_SERIAL_PORT, 30, METHOD_BUFFERED, any access)


class Dcb(ctypes.Structure):
    """The settings of a port (``DCB``)."""

    _fields_ = (
        ("DCBlength", DWORD),
        ("BaudRate", DWORD),
        ("fBinary", DWORD, 1),
        ("fParity", DWORD, 1),
        ("fOutxCtsFlow", DWORD, 1),
        ("fOutxDsrFlow", DWORD, 1),
        ("fDtrControl", DWORD, 2),
        ("fDsrSensitivity", DWORD, 1),
        ("fTXContinueOnXoff", DWORD, 1),
        ("fOutX", DWORD, 1),
        ("fInX", DWORD, 1),
        ("fErrorChar", DWORD, 1),
        ("fNull", DWORD, 1),
        ("fRtsControl", DWORD, 2),
        ("fAbortOnError", DWORD, 1),
        ("fDummy2", DWORD, 17),
        ("wReserved", WORD),
        ("XonLim", WORD),
        ("XoffLim", WORD),
        ("ByteSize", ctypes.c_ubyte),
        ("Parity", ctypes.c_ubyte),
        ("StopBits", ctypes.c_ubyte),
        ("XonChar", ctypes.c_ubyte),
        ("XoffChar", ctypes.c_ubyte),
        ("ErrorChar", ctypes.c_ubyte),
        ("EofChar", ctypes.c_ubyte),
        ("EvtChar", ctypes.c_ubyte),
        ("wReserved1", WORD),
    )


class CommTimeouts(ctypes.Structure):
    """The time limits of a port's reads and writes (``COMMTIMEOUTS``), in milliseconds; all 0 for none."""

    _fields_ = (
        ("ReadIntervalTimeout", DWORD),
        ("ReadTotalTimeoutMultiplier", DWORD),
        ("ReadTotalTimeoutConstant", DWORD),
        ("WriteTotalTimeoutMultiplier", DWORD),
        ("WriteTotalTimeoutConstant", DWORD),
    )


class ComStat(ctypes.Structure):
    """What a driver holds (``COMSTAT``)."""

    _fields_ = (("flags", DWORD), ("cbInQue", DWORD), ("cbOutQue", DWORD))


class Overlapped(ctypes.Structure):
    """A read or write under way (``OVERLAPPED``)."""

    _fields_ = (
        ("Internal", ctypes.c_size_t),
        ("InternalHigh", ctypes.c_size_t),
        ("Offset", DWORD),
        ("OffsetHigh", DWORD),
        ("hEvent", wintypes.HANDLE),
    )


class Win32Error(OSError):
    """A call of the system failed.

    Parameters
    ----------
    code : int
        The system's error code.
    """

    def __init__(self, code: int) -> None:
        describe = getattr(ctypes, "FormatError", None)
        super().__init__(code, describe(code).strip() if describe else f"error {code}")
        self.code = code

    def __reduce__(self) -> tuple[Any, ...]:
        """Return what makes the same error again, in another process too."""
        return type(self), (self.code,)


class CommDevice:
    r"""An open serial port.

    Parameters
    ----------
    path : str
        Such as ``\\.\COM3``.

    Raises
    ------
    Win32Error
        If it cannot be opened, as every method does if the system refuses.
    """

    def __init__(self, path: str) -> None:
        self._kernel = kernel32()
        access = GENERIC_READ | GENERIC_WRITE
        handle = self._kernel.CreateFileW(path, access, 0, None, OPEN_EXISTING, FILE_FLAG_OVERLAPPED, None)
        if handle in (None, INVALID_HANDLE):
            raise _last_error()
        self._handle = wintypes.HANDLE(handle)

    def close(self) -> None:
        """Give the port back to the system."""
        self._call("CloseHandle")

    def settings(self) -> Dcb:
        """Return the settings that the driver has."""
        settings = Dcb(DCBlength=ctypes.sizeof(Dcb))
        self._call("GetCommState", ctypes.byref(settings))
        return settings

    def set(self, settings: Dcb) -> None:
        """Set the driver. Read back what it took."""
        self._call("SetCommState", ctypes.byref(settings))

    def time_limits(self) -> CommTimeouts:
        """Return the time limits that the driver has."""
        limits = CommTimeouts()
        self._call("GetCommTimeouts", ctypes.byref(limits))
        return limits

    def set_time_limits(self, limits: CommTimeouts) -> None:
        """Set the time limits of reads and writes."""
        self._call("SetCommTimeouts", ctypes.byref(limits))

    def set_queues(self, received: int, to_send: int) -> None:
        """Ask the driver for buffers of so many bytes; it may take other sizes."""
        self._call("SetupComm", received, to_send)

    def look(self) -> tuple[int, int, int]:
        """Return the errors (``CE_*``) since the last look, and how many bytes wait to be read and to be sent."""
        errors, state = DWORD(), ComStat()
        self._call("ClearCommError", ctypes.byref(errors), ctypes.byref(state))
        return errors.value, state.cbInQue, state.cbOutQue

    def purge(self, what: int) -> None:
        """Throw away what waits; `what` is made of ``PURGE_*``."""
        self._call("PurgeComm", what)

    def modem_status(self) -> int:
        """Return which of CTS, DSR, RI and DCD are asserted, as ``MS_*``."""
        status = DWORD()
        self._call("GetCommModemStatus", ctypes.byref(status))
        return status.value

    def dtr_and_rts(self) -> int:
        """Return bit 0 for an asserted DTR, bit 1 for RTS."""
        state, length = DWORD(), DWORD()
        out = (ctypes.byref(state), ctypes.sizeof(state), ctypes.byref(length), None)
        self._call("DeviceIoControl", IOCTL_SERIAL_GET_DTRRTS, None, 0, *out)
        return state.value

    def escape(self, function: int) -> None:
        """Do one of ``SETRTS``, ``CLRRTS``, ``SETDTR`` and ``CLRDTR``."""
        self._call("EscapeCommFunction", function)

    def set_break(self, on: bool) -> None:
        """Hold the line at start level, or let it go."""
        self._call("SetCommBreak" if on else "ClearCommBreak")

    def read(self, length: int, limit_s: float) -> bytes:
        """Read `length` bytes, or none if they do not come within `limit_s` seconds."""
        buffer = ctypes.create_string_buffer(length)
        count = self._overlapped("ReadFile", buffer, length, limit_s)
        return buffer.raw[:count]

    def write(self, data: bytes, limit_s: float | None) -> int:
        """Write; return how many bytes the driver has taken within `limit_s` seconds."""
        return self._overlapped("WriteFile", ctypes.create_string_buffer(data, len(data)), len(data), limit_s)

    def _overlapped(self, function: str, buffer: Any, length: int, limit_s: float | None) -> int:
        kernel, count = self._kernel, DWORD()
        event = kernel.CreateEventW(None, True, False, None)
        if not event:
            raise _last_error()
        pending = Overlapped(hEvent=event)
        try:
            if not getattr(kernel, function)(self._handle, buffer, length, None, ctypes.byref(pending)):
                error = _last_error()
                if error.code != ERROR_IO_PENDING:
                    raise error
                try:
                    self._wait(event, limit_s)
                finally:  # the system may write to `buffer` until it has let go of it, whatever happens here
                    kernel.CancelIoEx(self._handle, ctypes.byref(pending))
                    is_done = kernel.GetOverlappedResult(self._handle, ctypes.byref(pending), ctypes.byref(count), True)
                    error = _last_error()
                if not is_done and error.code != ERROR_OPERATION_ABORTED:
                    raise error
                return count.value
            kernel.GetOverlappedResult(self._handle, ctypes.byref(pending), ctypes.byref(count), True)
            return count.value
        finally:
            kernel.CloseHandle(event)

    def _wait(self, event: int, limit_s: float | None) -> None:
        deadline = None if limit_s is None else time.perf_counter() + limit_s
        while True:
            left_s = SLICE_S if deadline is None else deadline - time.perf_counter()
            slice_ms = round(1000 * min(max(left_s, 0.0), SLICE_S) + 0.5)
            if self._kernel.WaitForSingleObject(event, slice_ms) == WAIT_OBJECT_0 or left_s <= 0:
                return

    def _call(self, name: str, *arguments: Any) -> None:
        if not getattr(self._kernel, name)(self._handle, *arguments):
            raise _last_error()


def kernel32() -> Any:
    """Return the library, with the types of what is called of it."""
    kernel = ctypes.WinDLL("kernel32", use_last_error=True)  # type: ignore[attr-defined, unused-ignore]
    handle, dword, pointer = wintypes.HANDLE, DWORD, ctypes.c_void_p
    for name, result, arguments in (
        ("CreateFileW", handle, (wintypes.LPCWSTR, dword, dword, pointer, dword, dword, handle)),
        ("CreateEventW", handle, (pointer, wintypes.BOOL, wintypes.BOOL, wintypes.LPCWSTR)),
        ("WaitForSingleObject", dword, (handle, dword)),
        ("CloseHandle", wintypes.BOOL, (handle,)),
        ("ReadFile", wintypes.BOOL, (handle, pointer, dword, pointer, pointer)),
        ("WriteFile", wintypes.BOOL, (handle, pointer, dword, pointer, pointer)),
        ("CancelIoEx", wintypes.BOOL, (handle, pointer)),
        ("GetOverlappedResult", wintypes.BOOL, (handle, pointer, pointer, wintypes.BOOL)),
        ("DeviceIoControl", wintypes.BOOL, (handle, dword, pointer, dword, pointer, dword, pointer, pointer)),
        *((name, wintypes.BOOL, (handle, pointer)) for name in _WITH_A_POINTER),
        ("ClearCommError", wintypes.BOOL, (handle, pointer, pointer)),
        ("SetupComm", wintypes.BOOL, (handle, dword, dword)),
        ("PurgeComm", wintypes.BOOL, (handle, dword)),
        ("EscapeCommFunction", wintypes.BOOL, (handle, dword)),
        ("SetCommBreak", wintypes.BOOL, (handle,)),
        ("ClearCommBreak", wintypes.BOOL, (handle,)),
    ):
        function = getattr(kernel, name)
        function.restype, function.argtypes = result, arguments
    return kernel


_WITH_A_POINTER = ("GetCommState", "SetCommState", "GetCommTimeouts", "SetCommTimeouts", "GetCommModemStatus")


def _last_error() -> Win32Error:
    return Win32Error(ctypes.get_last_error())  # type: ignore[attr-defined, unused-ignore]
