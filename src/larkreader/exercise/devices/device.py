"""Stand-ins for the device at the other end: what each answers to what it is sent, and when."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np


class Device:
    """A device at the other end of a line; the simplest sends back what arrives."""

    speaks_unasked = False

    def react(self, received: bytes, now_s: float) -> bytes:
        """Return what the device sends at `now_s` seconds, when `received` has just arrived; it may be empty.

        Parameters
        ----------
        received : bytes
            What has arrived.
        now_s : float
            The time of the line, in seconds.
        """
        return received

    def speaks_next_s(self, now_s: float) -> float | None:
        """Return when it next speaks unasked, in seconds; None if it does not know, and must be asked often.

        Parameters
        ----------
        now_s : float
            The time of the line, in seconds.
        """
        return None


class AlteredEcho(Device):
    """Sends back each character changed, so that an accidental short cannot pass for a working echo.

    Parameters
    ----------
    change : callable, optional
        Takes bytes and returns as many; the complement by default.
    """

    change: Callable[[bytes], bytes]

    def __init__(self, change: Callable[[bytes], bytes] | None = None) -> None:
        self.change = change or complement

    def react(self, received: bytes, now_s: float) -> bytes:
        """Return what arrived, changed."""
        return self.change(received)


class LineAnswerer(Device):
    """Returns each line of text with a prefix.

    Parameters
    ----------
    prefix : bytes
        What stands before each line.
    ending : bytes
        What ends a line, both ways.
    longest : int
        Bytes after which a line that never ends is thrown away.
    """

    prefix: bytes
    ending: bytes
    longest: int

    def __init__(self, prefix: bytes = b"got: ", ending: bytes = b"\n", longest: int = 256) -> None:
        self.prefix, self.ending, self.longest = prefix, ending, longest
        self._line = b""

    def react(self, received: bytes, now_s: float) -> bytes:
        """Return the lines that are now whole, each with the prefix."""
        *whole, self._line = (self._line + received).split(self.ending)
        if len(self._line) > self.longest:
            self._line = b""
        return b"".join(self.prefix + line + self.ending for line in whole)


class LossyEcho(Device):
    """An echo that loses some characters.

    Parameters
    ----------
    share : float
        Of the characters, 0 to 1, that are lost.
    seed : int
        Of the choice.
    """

    lost: int

    def __init__(self, share: float = 0.001, seed: int = 1) -> None:
        self.share = share
        self.lost = 0
        self._random = np.random.default_rng(seed)

    def react(self, received: bytes, now_s: float) -> bytes:
        """Return what arrived, but for what is lost; `lost` counts that."""
        kept = self._random.random(len(received)) >= self.share
        self.lost += len(received) - int(kept.sum())
        return np.frombuffer(received, np.uint8)[kept].tobytes()


class NoisyEcho(Device):
    """An echo that turns over single bits of some characters.

    Parameters
    ----------
    share : float
        Of the characters, 0 to 1, that are changed.
    seed : int
        Of the choice.
    """

    changed: int

    def __init__(self, share: float = 0.001, seed: int = 1) -> None:
        self.share = share
        self.changed = 0
        self._random = np.random.default_rng(seed)

    def react(self, received: bytes, now_s: float) -> bytes:
        """Return what arrived, some of it changed; `changed` counts that."""
        values = np.frombuffer(received, np.uint8).copy()
        hit = np.flatnonzero(self._random.random(len(values)) < self.share)
        values[hit] ^= np.uint8(1) << self._random.integers(0, 8, len(hit)).astype(np.uint8)
        self.changed += len(hit)
        return values.tobytes()


class _Function(Device):
    """A device made of a function."""

    def __init__(self, answer: Callable[[bytes], bytes]) -> None:
        self._answer = answer

    def react(self, received: bytes, now_s: float) -> bytes:
        return self._answer(received)


def complement(data: bytes) -> bytes:
    """Return each byte with all its bits turned over."""
    return (~np.frombuffer(data, np.uint8)).tobytes()


def as_device(thing: Device | Callable[[bytes], bytes]) -> Device:
    """Return `thing` if it is a device, else a device made of a function."""
    return thing if isinstance(thing, Device) else _Function(thing)
