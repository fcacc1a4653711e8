"""A simulated line: transmitter, wire, receiver and a device, in time of its own.

What is written is put on a wire bit by bit, received at the far end by a receiver with its own settings, handed to
the device, and the device's answer comes back the same way over a second wire. Nothing waits: the clock of the port
is that of the simulated line.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable

import numpy as np

from larkreader.capture.characters import Characters
from larkreader.capture.trace import Trace
from larkreader.declare.line import LineSettings
from larkreader.decode.receive import receive
from larkreader.exercise.transmit import transmit

Device = Callable[[bytes], bytes]


class SimulatedPort:
    """One end of a simulated line with a device at the other.

    Parameters
    ----------
    line : LineSettings
        Settings of this end.
    device : callable
        Takes the bytes that arrive and returns those that it answers.
    far : LineSettings, optional
        Settings of the device's end, if they differ.
    clock_error_ppm : float
        How much faster than declared the device's transmitter runs, in millionths.
    disturb : callable, optional
        Takes the trace of the way back and returns the one that arrives, so that faults can be put on the wire.
    """

    def __init__(
        self,
        line: LineSettings,
        device: Device,
        *,
        far: LineSettings | None = None,
        clock_error_ppm: float = 0.0,
        disturb: Callable[[Trace], Trace] | None = None,
    ) -> None:
        self.line = line
        self.far = far or line
        self.clock_error_ppm = clock_error_ppm
        self.received: list[Characters] = []
        self._device = device
        self._disturb = disturb
        self._now_s = 0.0
        self._out_free_s = 0.0
        self._back_free_s = 0.0
        self._waiting: deque[tuple[float, int]] = deque()

    def write(self, data: bytes) -> None:
        """Put `data` on the wire; the clock goes on to when the transmitter has taken the last character."""
        if not data:
            return
        begin_s = max(self._now_s, self._out_free_s)
        out = transmit(data, self.line, begin_s=begin_s)
        self._out_free_s = begin_s + len(data) * self.line.character_time_s
        self._now_s = max(self._now_s, self._out_free_s - self.line.character_time_s)
        arrived = receive(out, self.far)
        answer = self._device((arrived.value & 0xFF).astype(np.uint8).tobytes())
        if not answer:
            return
        first_s = float(arrived.end_s[0]) if len(arrived) else begin_s
        begin_s = max(first_s, self._back_free_s)
        back = transmit(
            np.frombuffer(answer, np.uint8) & ((1 << self.far.data_bits) - 1),
            self.far,
            begin_s=begin_s,
            clock_error_ppm=self.clock_error_ppm,
        )
        self._back_free_s = begin_s + len(answer) * self.far.character_time_s
        characters = receive(self._disturb(back) if self._disturb else back, self.line)
        self.received.append(characters)
        self._waiting.extend(zip(characters.end_s.tolist(), (characters.value & 0xFF).tolist(), strict=True))

    def read(self, length: int, limit_s: float) -> bytes:
        """Receive `length` bytes, or fewer if `limit_s` seconds of line time pass without another one."""
        received = bytearray()
        while len(received) < length:
            if not self._waiting or self._waiting[0][0] > self._now_s + limit_s:
                self._now_s += limit_s
                break
            at_s, value = self._waiting.popleft()
            self._now_s = max(self._now_s, at_s)
            received.append(value)
        return bytes(received)

    def now_s(self) -> float:
        """Return the time of the simulated line, in seconds."""
        return self._now_s

    def close(self) -> None:
        """Nothing to give back."""
