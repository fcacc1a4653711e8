"""Stand-ins for the device at the other end."""

from __future__ import annotations

from collections.abc import Callable, Mapping


def echo(received: bytes) -> bytes:
    """Send back what arrived."""
    return received


STAND_INS: Mapping[str, Callable[[bytes], bytes]] = {"echo": echo}
