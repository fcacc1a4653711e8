"""The baud of a POSIX terminal: by the name that POSIX gives it, or by the system's own call for any other.

Linux: ``TCGETS2`` and ``TCSETS2`` (``asm-generic/ioctls.h``, ``termbits.h``). macOS: ``IOSSIOSPEED``
(``IOKit/serial/ioss.h``), whose baud the system does not give back.
"""

from __future__ import annotations

import fcntl
import struct
import sys
import termios

TCGETS2, TCSETS2 = 0x802C542A, 0x402C542B
BOTHER, CBAUD = 0o010000, 0o010017
TERMIOS2 = "IIIIB19sII"
IOSSIOSPEED = 0x80085402  # _IOW('T', 2, speed_t), where speed_t is an unsigned long of 64 bits
OSPEED = 5
IS_MACOS = sys.platform == "darwin"


def named_speed(baud: float) -> int | None:
    """Return the constant that POSIX has for a baud; None if it has none."""
    speed: int | None = getattr(termios, f"B{baud:.0f}", None) if baud == round(baud) else None
    return speed


def baud_of(descriptor: int) -> int | None:
    """Return the baud that the driver gives; None if it gives none."""
    if IS_MACOS:
        try:
            return int(termios.tcgetattr(descriptor)[OSPEED])  # a constant is its baud there
        except termios.error:
            return None
    try:
        state = fcntl.ioctl(descriptor, TCGETS2, bytes(struct.calcsize(TERMIOS2)))
    except OSError:
        return None
    return int(struct.unpack(TERMIOS2, state)[-1])


def set_baud(descriptor: int, baud: int) -> None:
    """Set a baud for which POSIX has no name.

    Raises
    ------
    OSError
        If the system refuses.
    """
    if IS_MACOS:
        fcntl.ioctl(descriptor, IOSSIOSPEED, struct.pack("L", baud))
        return
    state = list(struct.unpack(TERMIOS2, fcntl.ioctl(descriptor, TCGETS2, bytes(struct.calcsize(TERMIOS2)))))
    state[2] = state[2] & ~CBAUD | BOTHER
    state[-2:] = [baud, baud]
    fcntl.ioctl(descriptor, TCSETS2, struct.pack(TERMIOS2, *state))


def is_given_back(baud: float) -> bool:
    """Return whether the system gives back what was set."""
    return not IS_MACOS or named_speed(baud) is not None
