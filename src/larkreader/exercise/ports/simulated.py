"""A simulated line: transmitter, wire, receiver and a device, in time of its own.

What is written is put on a wire bit by bit, received at the far end by a receiver with its own settings, handed to
the device, and the device's answer comes back the same way over a second wire. Nothing waits: the clock of the port
is that of the simulated line.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable
from threading import RLock

import numpy as np

from larkreader.capture.characters import Characters
from larkreader.capture.trace import Trace
from larkreader.declare.line import LineSettings
from larkreader.decode.receive import receive
from larkreader.errors import PortError
from larkreader.exercise.devices import Device, as_device
from larkreader.exercise.transmit import transmit

from .port import Port, Received

LOOKS_A_CHARACTER = 4  # how often a device that may speak unasked is looked at, a character time


class SimulatedPort(Port):
    """One end of a simulated line with a device at the other.

    Parameters
    ----------
    line : LineSettings
        Settings of this end.
    device : Device or callable
        Takes the bytes that arrive and returns those that it answers.
    far : LineSettings, optional
        Settings of the device's end, if they differ.
    clock_error_ppm : float
        How much faster than declared the device's transmitter runs, in millionths.
    disturb : callable, optional
        Takes the trace of the way back and returns the one that arrives, so that faults can be put on the wire.
    """

    tells_faults = True
    notes = ("the line is simulated, and so is its time",)

    def __init__(
        self,
        line: LineSettings,
        device: Device | Callable[[bytes], bytes],
        *,
        far: LineSettings | None = None,
        clock_error_ppm: float = 0.0,
        disturb: Callable[[Trace], Trace] | None = None,
    ) -> None:
        self.name = "simulated line"
        self.line = line
        self.far = far or line
        self.clock_error_ppm = clock_error_ppm
        self._device = as_device(device)
        self._disturb = disturb
        self._now_s = 0.0
        self._out_free_s = 0.0
        self._back_free_s = 0.0
        self._waiting: deque[tuple[float, int, int]] = deque()
        self._lock = RLock()
        self._closed = False

    def write(self, data: bytes, limit_s: float | None = None) -> None:
        """Put `data` on the wire; the clock goes on to when the transmitter has taken the last character."""
        self._check_open()
        if not data:
            return
        assert self.line is not None
        with self._lock:
            begin_s = max(self._now_s, self._out_free_s)
            out = transmit(data, self.line, begin_s=begin_s)
            self._out_free_s = begin_s + len(data) * self.line.character_time_s
            self._now_s = max(self._now_s, self._out_free_s - self.line.character_time_s)
            arrived = receive(out, self.far)
            first_s = float(arrived.end_s[0]) if len(arrived) else begin_s
            answer = self._device.react((arrived.value & 0xFF).astype(np.uint8).tobytes(), first_s)
            self._send_back(answer, first_s)

    def read_some(self, most: int, limit_s: float) -> Received:
        """Receive what is there; let up to `limit_s` seconds of line time pass for the first character."""
        self._check_open()
        with self._lock:
            deadline = self._now_s + limit_s
            while not self._waiting and self._now_s < deadline and self._device.speaks_unasked:
                self._now_s = min(deadline, self._now_s + self.far.character_time_s / LOOKS_A_CHARACTER)
                self._send_back(self._device.react(b"", self._now_s), self._now_s)
            if not self._waiting or self._waiting[0][0] > deadline:
                self._now_s = max(self._now_s, deadline)
                return Received(b"", "time")
            values, faults = bytearray(), bytearray()
            self._now_s = max(self._now_s, self._waiting[0][0])
            while self._waiting and len(values) < most and self._waiting[0][0] <= self._now_s:
                _, value, fault = self._waiting.popleft()
                values.append(value)
                faults.append(fault)
            return Received(bytes(values), "length" if len(values) == most else "time", bytes(faults))

    def now_s(self) -> float:
        """Return the time of the simulated line, in seconds."""
        return self._now_s

    def close(self) -> None:
        """Let nothing more through."""
        self._closed = True

    def _send_back(self, answer: bytes, at_s: float) -> None:
        """Put what the device says on the way back."""
        if not answer:
            return
        assert self.line is not None
        begin_s = max(at_s, self._back_free_s)
        values = np.frombuffer(answer, np.uint8) & ((1 << self.far.data_bits) - 1)
        back = transmit(values, self.far, begin_s=begin_s, clock_error_ppm=self.clock_error_ppm)
        self._back_free_s = begin_s + len(answer) * self.far.character_time_s / (1 + self.clock_error_ppm * 1e-6)
        got: Characters = receive(self._disturb(back) if self._disturb else back, self.line)
        columns = (got.end_s.tolist(), (got.value & 0xFF).tolist(), got.faults.tolist())
        self._waiting.extend(zip(*columns, strict=True))

    def _check_open(self) -> None:
        if self._closed:
            raise PortError(f"port {self.name}", "is closed")
