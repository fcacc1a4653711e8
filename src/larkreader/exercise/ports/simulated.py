"""A simulated line: two transmitters, two wires, two receivers and a device, in time of its own.

What is written is put on a wire bit by bit, received at the far end by a receiver with its own settings and clock,
handed to the device, through a receive path if one is declared, and the device's answer returns the same way over a
second wire. Nothing waits: the clock of the port is that of the simulated line. An ideal line, whose ends have the same
settings and on which nothing is wrong, needs no bits. What is written at once is received by itself: a receiver that is
out of step at its end finds into step before the next.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable
from threading import RLock

import numpy as np
import numpy.typing as npt

from larkreader.capture.trace import Trace
from larkreader.declare.link.line import LineSettings
from larkreader.declare.paths.impairments import Impairments
from larkreader.declare.paths.receive_path import ReceivePath
from larkreader.declare.paths.send_path import SendPath
from larkreader.decode.characters.receive import receive
from larkreader.errors import PortError
from larkreader.exercise.devices.device import Device, as_device
from larkreader.exercise.line.channel import Carried, Channel
from larkreader.exercise.payload.patterns import as_values, as_written
from larkreader.simulate.live_path import LivePath
from larkreader.simulate.send_path import SendFate, replay_send

from .port import Port, Received

LOOKS_A_CHARACTER = 4  # how often a device that may speak unasked is looked at, a character time
DRIVER_HOLDS = 4096  # characters that a simulated driver takes before a write has to wait
LONGEST_WAIT_S = 3600.0  # of a write without a limit, for a sender that is paused
NS = 1e9


class Arrivals:
    """Characters on their way to a reader, in order of time."""

    def __init__(self) -> None:
        self._chunks: deque[tuple[Carried, int]] = deque()

    def add(self, carried: Carried) -> None:
        """Add what arrives later than all that is there."""
        if len(carried.value):
            self._chunks.append((carried, 0))

    @property
    def next_s(self) -> float | None:
        """When the next character is complete; None if there is none."""
        if not self._chunks:
            return None
        carried, place = self._chunks[0]
        return float(carried.end_s[place])

    def take(self, most: int, until_s: float, data_bits: int) -> tuple[bytes, bytes]:
        """Return the characters that are complete at a time, `most` bytes of them, and a flag byte for each byte."""
        width = 2 if data_bits > 8 else 1
        data, faults = bytearray(), bytearray()
        while self._chunks and len(data) + width <= most:
            carried, place = self._chunks[0]
            count = int(np.searchsorted(carried.end_s[place:], until_s, side="right"))
            count = min(count, (most - len(data)) // width)
            data += as_written(carried.value[place : place + count], data_bits)
            faults += np.repeat(carried.faults[place : place + count], width).tobytes()
            if place + count < len(carried.value):
                self._chunks[0] = (carried, place + count)
                break
            self._chunks.popleft()
        return bytes(data), bytes(faults)


class _WayBack:
    """The way from a device to the near end of a line, and what is on it.

    Parameters
    ----------
    channel : Channel
        The line.
    far, line : LineSettings
        Settings of the device's end, and of the near end.
    send_path : SendPath, optional
        What the device's answers go through.
    disturb : callable, optional
        What changes the trace on its way.
    """

    def __init__(
        self,
        channel: Channel,
        far: LineSettings,
        line: LineSettings,
        send_path: SendPath | None,
        disturb: Callable[[Trace], Trace] | None,
    ) -> None:
        self._channel, self._far, self._line = channel, far, line
        self._send_path, self._disturb = send_path, disturb
        self._asked: list[tuple[float, int]] = []  # messages of the device since it last rested, and their lengths
        self._free_s = 0.0
        self.arrivals: Arrivals = Arrivals()

    def send(self, answer: bytes, at_s: float) -> None:
        """Let the device send an answer from a moment on."""
        values = as_values(answer, self._far.data_bits) & np.uint16((1 << self._far.data_bits) - 1)
        if not len(values):
            return
        character_s = self._channel.character_s
        if self._send_path is not None:
            values, begins_s = self._sent_by(self._send_path, values, at_s)
            if not len(values):
                return
        else:
            begins_s = max(at_s, self._free_s) + np.arange(len(values), dtype=np.float64) * character_s
        self._free_s = float(begins_s[-1]) + character_s
        if self._disturb is not None:
            got = receive(self._disturb(self._channel.trace(values, begins_s)), self._line)
            self.arrivals.add(Carried(got.begin_s, got.end_s, got.value, got.faults))
        else:
            self.arrivals.add(self._channel.carry(values, begins_s))

    def _sent_by(
        self, path: SendPath, values: npt.NDArray[np.uint16], at_s: float
    ) -> tuple[npt.NDArray[np.uint16], npt.NDArray[np.float64]]:
        """Return what of a message goes out through a send path, and when."""
        if at_s > self._free_s:
            self._asked.clear()
        self._asked.append((at_s, len(values)))
        asked, lengths = zip(*self._asked, strict=True)
        replayed = replay_send(asked, lengths, path, self._far)
        own = slice(int(replayed.first[-1]), int(replayed.first[-1]) + int(replayed.count[-1]))
        begins_s, fates = replayed.begin_s[own], replayed.fate[own]
        values = np.concatenate([values, np.zeros(len(fates) - len(values), np.uint16)])  # a NUL that is counted
        sent = (fates == SendFate.SENT) & ~np.isnan(begins_s)
        begins_s = begins_s[sent]
        if len(begins_s):  # by the clock of the far end, which may be slower than that of the replay
            begins_s = np.maximum(begins_s, begins_s[0] + np.arange(len(begins_s)) * self._channel.character_s)
        return values[sent], begins_s


class SimulatedPort(Port):
    """One end of a simulated line with a device at the other.

    Parameters
    ----------
    line : LineSettings
        Settings of this end. With nine data bits a character is two bytes, the low one first.
    device : Device or callable
        Takes the bytes that arrive and returns those that it answers.
    far : LineSettings, optional
        Settings of the device's end, if they differ.
    clock_error_ppm : float
        How much faster than declared the device's transmitter alone runs, in millionths.
    disturb : callable, optional
        Takes the trace of the way back and returns the trace that arrives, so that faults can be put on the wire.
    impairments : Impairments, optional
        What is wrong with the line, both ways.
    receive_path : ReceivePath, optional
        What the device's characters go through before it has them. It pauses this end's sender if it declares a pause
        and the line flow control.
    send_path : SendPath, optional
        What its answers go through.
    """

    marks_faults = True
    is_simulated = True
    notes: tuple[str, ...] = ("the line is simulated, and so is its time",)

    def __init__(
        self,
        line: LineSettings,
        device: Device | Callable[[bytes], bytes],
        *,
        far: LineSettings | None = None,
        clock_error_ppm: float = 0.0,
        disturb: Callable[[Trace], Trace] | None = None,
        impairments: Impairments | None = None,
        receive_path: ReceivePath | None = None,
        send_path: SendPath | None = None,
    ) -> None:
        self.name = "simulated line"
        self.line: LineSettings = line
        self.far: LineSettings = far or line
        declared = impairments or Impairments()
        back = declared.model_copy(update={"far_ppm": clock_error_ppm}) if clock_error_ppm else declared
        self._out = Channel(line, self.far, declared)
        channel = Channel(self.far, line, back, is_back=True)
        self._way_back = _WayBack(channel, self.far, line, send_path, disturb)
        self._device = as_device(device)
        self._path = LivePath(receive_path, self.far) if receive_path is not None else None
        self._now_s = self._out_free_s = 0.0
        self._lock = RLock()
        self._closed = False

    def path_fates(self) -> dict[str, int]:
        """Return what has become of the characters in the device's receive path so far, by the names of `Fate`."""
        return {} if self._path is None else self._path.fates

    def write(self, data: bytes, limit_s: float | None = None) -> None:
        """Put `data` on the wire; the clock goes on to when the transmitter has taken the last character."""
        self._check_open()
        with self._lock:
            values = as_values(data, self.line.data_bits) & np.uint16((1 << self.line.data_bits) - 1)
            if not len(values):
                return
            if self._device.speaks_unasked and self._path is None:
                self._let_speak(self._now_s)
            begin_s, character_s = max(self._now_s, self._out_free_s), self._out.character_s
            carried = self._out.carry(values, begin_s + np.arange(len(values), dtype=np.float64) * character_s)
            self._out_free_s = begin_s + len(values) * character_s
            taken_s = max(self._now_s, self._out_free_s - character_s)
            if self._path is not None:
                self._through_path(self._path, carried, taken_s, limit_s)
                return
            self._now_s = taken_s
            first_s = float(carried.end_s[0]) if len(carried.value) else begin_s
            self._answer(as_written(carried.value, self.far.data_bits), first_s)

    def read_some(self, most: int, limit_s: float) -> Received:
        """Receive what is there; let up to `limit_s` seconds of line time pass for the first character."""
        self._check_open()
        with self._lock:
            deadline = self._now_s + limit_s
            self._wait_for_something(deadline)
            next_s = self._way_back.arrivals.next_s
            if next_s is None or next_s > deadline:
                self._now_s = max(self._now_s, deadline)
                return Received(b"", "time")
            self._now_s = max(self._now_s, next_s)
            data, faults = self._way_back.arrivals.take(most, self._now_s, self.line.data_bits)
            return Received(data, "length" if len(data) == most else "time", faults)

    def now_s(self) -> float:
        """Return the time of the simulated line, in seconds."""
        return self._now_s

    def close(self) -> None:
        """Let nothing more through."""
        self._closed = True

    def _wait_for_something(self, deadline: float) -> None:
        """Let time pass until something is on its way back, or a time is reached."""
        while True:
            next_s, asks = self._way_back.arrivals.next_s, self._device.speaks_unasked
            until_s = deadline if next_s is None else min(deadline, max(next_s, self._now_s))
            if asks and next_s is None:
                due_s = self._device.speaks_next_s(self._now_s)
                step_s = self.far.character_time_s / LOOKS_A_CHARACTER
                until_s = min(until_s, self._now_s + step_s if due_s is None else max(due_s, self._now_s + 1e-9))
            if self._path is not None and (given := self._path.advance(round(until_s * NS))) is not None:
                self._now_s = max(self._now_s, given[0] / NS)
                self._answer(given[1], given[0] / NS)
                continue
            if next_s is not None or not asks or self._now_s >= deadline:
                return
            self._now_s = until_s
            self._answer(b"", until_s)

    def _let_speak(self, until_s: float) -> None:
        """Let a device say what was due before now."""
        due_s = self._device.speaks_next_s(until_s)
        if due_s is not None and due_s <= until_s:
            self._answer(b"", until_s)

    def _through_path(self, path: LivePath, carried: Carried, taken_s: float, limit_s: float | None) -> None:
        """Let characters go through the device's receive path; wait for a sender that it pauses."""
        first, count = len(path.values), len(carried.value)
        begins = np.rint(carried.begin_s * NS).astype(np.int64).tolist()
        path.feed(begins, carried.value.tolist(), round(self._now_s * NS))
        deadline = self._now_s + (LONGEST_WAIT_S if limit_s is None else limit_s) + max(taken_s - self._now_s, 0.0)
        self._let_pass(path, taken_s)
        if not path.is_paced or not count:
            return
        while path.begun(first + count - 1) is None:
            if self._now_s >= deadline:
                sent = sum(path.begun(first + place) is not None for place in range(count))
                found = f"took {sent} of {count} bytes within {deadline - self._now_s + (limit_s or 0.0):g} s"
                raise PortError(f"port {self.name}", found, "", "It is held back by flow control")
            self._let_pass(path, min(deadline, self._now_s + 16 * self.far.character_time_s))
        last_s = path.begun(first + count - 1)
        self._out_free_s = max(self._out_free_s, (last_s or 0.0) + self._out.character_s)

    def _let_pass(self, path: LivePath, until_s: float) -> None:
        """Let time pass, and the device answer what it gets."""
        while (given := path.advance(round(until_s * NS))) is not None:
            self._answer(given[1], given[0] / NS)
        self._now_s = max(self._now_s, until_s)

    def _answer(self, received: bytes, at_s: float) -> None:
        """Let the device react, and put its answer on the way back."""
        self._way_back.send(self._device.react(received, at_s), at_s)


class _LineClock:
    """The time that both ends of a simulated line share."""

    def __init__(self) -> None:
        self.now_s: float = 0.0
        self.lock: RLock = RLock()


class SimulatedEnd(Port):
    """One of two ends of a simulated line; made by `simulated_pair`."""

    marks_faults = True
    is_simulated = True
    notes: tuple[str, ...] = ("the line is simulated, and so is its time",)

    def __init__(self, name: str, line: LineSettings, clock: _LineClock) -> None:
        self.name = name
        self.line: LineSettings = line
        self._clock, self._waiting = clock, Arrivals()
        self._free_s, self._closed = 0.0, False
        self.far_end: SimulatedEnd
        self.channel: Channel

    def write(self, data: bytes, limit_s: float | None = None) -> None:
        """Hand `data` to the driver, which takes it at once as long as it has room."""
        self._check_open()
        values = as_values(data, self.line.data_bits) & np.uint16((1 << self.line.data_bits) - 1)
        if not len(values):
            return
        with self._clock.lock:
            begin_s, character_s = max(self._clock.now_s, self._free_s), self.channel.character_s
            self.far_end._waiting.add(
                self.channel.carry(values, begin_s + np.arange(len(values), dtype=np.float64) * character_s)
            )
            self._free_s = begin_s + len(values) * character_s
            self._clock.now_s = max(self._clock.now_s, self._free_s - DRIVER_HOLDS * character_s)

    def read_some(self, most: int, limit_s: float) -> Received:
        """Receive what is there; let up to `limit_s` seconds of line time pass for the first character."""
        self._check_open()
        with self._clock.lock:
            deadline, next_s = self._clock.now_s + limit_s, self._waiting.next_s
            if next_s is None or next_s > deadline:
                self._clock.now_s = deadline
                return Received(b"", "time")
            self._clock.now_s = max(self._clock.now_s, next_s)
            data, faults = self._waiting.take(most, self._clock.now_s, self.line.data_bits)
            return Received(data, "length" if len(data) == most else "time", faults)

    def now_s(self) -> float:
        """Return the time of the simulated line, in seconds."""
        return self._clock.now_s

    def close(self) -> None:
        """Let nothing more through."""
        self._closed = True


def simulated_pair(
    first: LineSettings, second: LineSettings | None = None, *, impairments: Impairments | None = None
) -> tuple[SimulatedEnd, SimulatedEnd]:
    """Make a simulated line with a port at each end.

    Parameters
    ----------
    first, second : LineSettings
        Settings of the two ends; both alike by default.
    impairments : Impairments, optional
        What is wrong with the line, both ways; the first end is the near one.

    Returns
    -------
    tuple of SimulatedEnd
        The near end, and the far end.
    """
    clock, declared = _LineClock(), impairments or Impairments()
    near, far = SimulatedEnd("near end", first, clock), SimulatedEnd("far end", second or first, clock)
    near.far_end, far.far_end = far, near
    near.channel = Channel(near.line, far.line, declared)
    far.channel = Channel(far.line, near.line, declared, is_back=True)
    return near, far
