"""Opening a port by its name."""

from __future__ import annotations

import errno
import os
import re
from collections.abc import Callable
from pathlib import Path
from types import ModuleType
from typing import TypeVar

from larkreader.declare.document.sheet import Sheet
from larkreader.declare.link.line import LineSettings
from larkreader.declare.paths.impairments import Impairments
from larkreader.declare.paths.receive_path import ReceivePath
from larkreader.declare.paths.send_path import SendPath
from larkreader.declare.run.port import STAND_IN
from larkreader.errors import PortError, nearest
from larkreader.exercise.devices.stand_ins import OWN_LINES, STAND_INS

from .listing import device_paths, holders_of
from .port import Port
from .program import is_program, open_program
from .simulated import SimulatedPort
from .win32 import Win32Error

ACCEPT = "accept:"
IS_WINDOWS = os.name == "nt"
NO_DEVICES = "HOST:PORT, accept:HOST:PORT, exec:COMMAND or stand-in:NAME"
PORT_WANTED = (
    f"must be a device such as COM3, {NO_DEVICES}"
    if IS_WINDOWS
    else "must be a device such as /dev/ttyUSB0, HOST:PORT, accept:HOST:PORT, pty, exec:COMMAND, or stand-in:NAME"
)
NO_TERMINALS = f"must be {NO_DEVICES}, as this system has no POSIX terminals"
_T = TypeVar("_T")
_HOST_AND_PORT = re.compile(r"(\[[0-9A-Fa-f:]+\]|[^/:\s]+):(\d{1,5})")


def open_port(name: str, line: LineSettings | None = None, *, limit_s: float | None = None) -> Port:
    """Open a port.

    Parameters
    ----------
    name : str
        A device (``/dev/ttyUSB0``, ``COM3``); ``HOST:PORT``, a TCP connection; ``accept:HOST:PORT``, which waits for a
        device to connect; ``pty``, a new pseudo terminal whose path is the port's ``name``; ``exec:COMMAND``, a program
        whose standard input and output are the line, or ``exec-pty:COMMAND``, for which they are a pseudo terminal; or
        ``stand-in:NAME``, a simulated device at the other end of a simulated line.
    line : LineSettings, optional
        Its settings; 115200 8N1 by default. They mean nothing over TCP.
    limit_s : float, optional
        How long ``accept`` waits for a connection, in seconds; for ever by default.

    Returns
    -------
    Port
        Its ``notes`` say what of the settings could not be had.

    Raises
    ------
    PortError
        If there is no such port, it is busy, may not be used, or cannot do what is asked; the message says what to do.

    Examples
    --------
    >>> with lr.open_port("stand-in:echo") as port:
    ...     port.write(b"?")
    ...     received = port.read_some(16, 1.0)
    >>> received.data
    b'?'
    """
    line = line or LineSettings()
    if name.startswith(STAND_IN):
        return _open_stand_in(name, line)
    if is_program(name):
        return open_program(name)
    if name == "pty":
        return _open_pty()
    where = _HOST_AND_PORT.fullmatch(name.removeprefix(ACCEPT))
    if where and not Path(name).exists():
        from . import tcp

        host, number = where[1].strip("[]"), int(where[2])
        if number > 65535:
            raise PortError(f'port "{name}"', f"has the TCP port {number}", "must be 65535 at most")
        return tcp.accept(host, number, limit_s=limit_s) if name.startswith(ACCEPT) else tcp.connect(host, number)
    if IS_WINDOWS:
        from . import windows

        return _on_windows(lambda port: windows.open_device(port, line), name)
    if not Path(name).exists():
        if "/" not in name:
            raise PortError(f'port "{name}"', "is of no kind that can be opened", PORT_WANTED)
        raise _missing(name)
    return _open_device(name, line)


def is_port_name(name: str) -> bool:
    """Return whether a name is one that `open_port` takes, and not that of a file."""
    if name == "pty" or name.startswith(STAND_IN) or is_program(name):
        return True
    if _HOST_AND_PORT.fullmatch(name.removeprefix(ACCEPT)) and not Path(name).exists():
        return True
    if IS_WINDOWS:
        from . import windows

        return windows.is_port_name(name, device_paths())
    return Path(name).is_char_device()


def read_back(path: str) -> LineSettings:
    """Return the settings that a serial device has, and leave it as it is.

    Parameters
    ----------
    path : str
        The device. Opening it may restart what hangs on it, as any opening may.

    Returns
    -------
    LineSettings
        As its driver gives them.

    Raises
    ------
    PortError
        If it cannot be opened, is not a serial device, or does not report its baud.
    """
    if IS_WINDOWS:
        from . import windows

        return _on_windows(windows.read_back, path)
    line: LineSettings = _terminals(path).read_back(path)
    return line


def open_by_name(
    name: str, sheet: Sheet | None = None, line: LineSettings | None = None, *, far: LineSettings | None = None
) -> Port:
    """Open a port, or one of a sheet.

    Parameters
    ----------
    name : str
        One of the sheet's ``[port.*]``, or anything that `open_port` takes.
    sheet : Sheet, optional
        The sheet.
    line : LineSettings, optional
        Settings instead of those that the sheet says.
    far : LineSettings, optional
        Settings of the far end of a stand-in; the same by default.

    Returns
    -------
    Port

    Raises
    ------
    PortError
        As `open_port` does.
    """
    if line is None:
        line = sheet.line_of(name) if sheet is not None else LineSettings()
    known = sheet.port.get(name) if sheet is not None else None
    at = known.at if known is not None else name
    if not at.startswith(STAND_IN):
        return open_port(at, line)
    if known is None or sheet is None:
        return _open_stand_in(at, line, far)
    receive = sheet.receive[known.receive] if known.receive is not None else None
    send = sheet.send[known.send] if known.send is not None else None
    return _open_stand_in(at, line, far, impairments=known.impaired, receive_path=receive, send_path=send)


def _open_stand_in(
    name: str,
    line: LineSettings,
    far: LineSettings | None = None,
    *,
    impairments: Impairments | None = None,
    receive_path: ReceivePath | None = None,
    send_path: SendPath | None = None,
) -> Port:
    known = [STAND_IN + device for device in STAND_INS]
    short = name.removeprefix(STAND_IN)
    make = STAND_INS.get(short)
    if make is None:
        raise PortError(f'port "{name}"', "is not a stand-in that ships with us", advice=nearest(name, known))
    port = SimulatedPort(
        line,
        make(),
        far=OWN_LINES.get(short, far),
        impairments=impairments,
        receive_path=receive_path,
        send_path=send_path,
    )
    port.name = name
    return port


def _open_pty() -> Port:
    try:
        from .pty import PtyPort
    except ModuleNotFoundError:
        raise PortError('port "pty"', "is none that this system has", NO_TERMINALS) from None
    try:
        return PtyPort()
    except OSError as error:
        raise PortError('port "pty"', f"cannot be made: {error.strerror}") from None


def _on_windows(call: Callable[[str], _T], name: str) -> _T:
    """Return what `call` makes of a port of Windows; put in words what the system refuses."""
    from . import windows

    if not windows.is_port_name(name, device_paths()):
        raise PortError(f'port "{name}"', "is of no kind that can be opened", PORT_WANTED)
    try:
        return call(name)
    except Win32Error as error:
        raise _refused_by_windows(name, error.code) from None


def _refused_by_windows(name: str, code: int) -> PortError:
    """Say why Windows does not open a port, and what to do."""
    from . import win32

    where = f'port "{name}"'
    if code in (win32.ERROR_FILE_NOT_FOUND, win32.ERROR_PATH_NOT_FOUND, win32.ERROR_INVALID_NAME):
        return _missing(name)
    if code in (win32.ERROR_ACCESS_DENIED, win32.ERROR_SHARING_VIOLATION):
        held = holders_of(name)
        if held:
            return PortError(where, f"is busy, held by {', '.join(held)}", advice="Close it there first")
        advice = "Close it there first; if no program has it, ask an administrator for access to it"
        return PortError(where, "is busy: another program has it open, or you may not use it", advice=advice)
    if code in (win32.ERROR_GEN_FAILURE, win32.ERROR_NO_SUCH_DEVICE, win32.ERROR_DEVICE_NOT_CONNECTED):
        return PortError(where, "has a name but no device behind it", advice="Is it plugged in and powered?")
    if code in (win32.ERROR_INVALID_FUNCTION, win32.ERROR_INVALID_HANDLE, win32.ERROR_INVALID_PARAMETER):
        return PortError(where, "is not a serial port", PORT_WANTED)
    return PortError(where, f"cannot be opened: {Win32Error(code).strerror}")


def _missing(name: str) -> PortError:
    there = device_paths()
    advice = nearest(name, there) if there else "No serial device is there at all. Is it plugged in and powered?"
    return PortError(f'port "{name}"', "does not exist", "", advice)


def _terminals(path: str) -> ModuleType:
    """Return the module that opens devices; raise `PortError` where the system has no POSIX terminals."""
    try:
        from . import tty
    except ModuleNotFoundError:
        raise PortError(f'port "{path}"', "cannot be opened on this system", NO_TERMINALS) from None
    return tty


def _open_device(path: str, line: LineSettings) -> Port:
    tty = _terminals(path)
    try:
        descriptor = tty.open_descriptor(path)
    except PortError:
        raise
    except OSError as error:
        raise _refused(path, error) from None
    port: Port = tty.TtyPort(descriptor, path, line)
    return port


def _refused(path: str, error: OSError) -> PortError:
    """Say why a device cannot be opened, and what to do."""
    where = f'port "{path}"'
    if error.errno in (errno.EBUSY, errno.EWOULDBLOCK):
        held = [item for item in holders_of(path) if f"({os.getpid()})" not in item]
        who = f"held by {', '.join(held)}" if held else "held by another program or by this program"
        return PortError(where, f"is busy, {who}", advice="Close it there first")
    if error.errno in (errno.EACCES, errno.EPERM):
        return PortError(where, "may not be used by you", advice=f"Join the group {_group_of(path)}, then log in again")
    if error.errno == errno.EISDIR:
        return PortError(where, "is a folder", PORT_WANTED)
    if error.errno in (errno.EIO, errno.ENXIO, errno.ENODEV):
        return PortError(where, "has a name but no device behind it", advice="Is it plugged in and powered?")
    return PortError(where, f"cannot be opened: {error.strerror}")


def _group_of(path: str) -> str:
    import grp

    try:
        return grp.getgrgid(Path(path).stat().st_gid).gr_name
    except (OSError, KeyError):
        return "that owns it"
