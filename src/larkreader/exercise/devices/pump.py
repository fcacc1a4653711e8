"""The dosing rig's pump head as a stand-in: it reports its measurements and takes set-points, on a line of its own."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

from larkreader.declare.document.sheet_file import open_shipped_sheet
from larkreader.decode.cut.frames import read_frames
from larkreader.errors import RequestError, nearest

from .device import Device

STATUS_PERIOD_S = 0.05
REPORT_PERIOD_S = 0.1
ANSWER_S = 0.012  # between a set-point and the status that answers it
ALONE_S = 2.0  # without a set-point, after which it halts and reports what it would have measured at rest
WRONG_EVERY = 50  # every so many status frames one has a wrong checksum
FAULT_EVERY = 20  # so many status frames have a fault among them, where faults are wanted
PUMP_FAULTS = ("checksum-mismatch", "overflow", "resynchronised", "out-of-range", "counter-repeat", "counter-restart")
"""The findings of which a pump head can send what shows them."""
TOO_MUCH = 320.0  # mL/min, more than the sheet declares
LONGEST_WAIT = 64  # bytes kept of a set-point that has not come whole


class DosingPump(Device):
    """A pump head that meters nutrient.

    It sends a status frame twenty times a second, and one more shortly after each good set-point; one in fifty has a
    wrong checksum. When it has had no set-point for two seconds it halts, and its values are substitutes.

    Parameters
    ----------
    faults : sequence of str
        Of `PUMP_FAULTS`: each of them in turn, one in twenty frames, instead of the wrong checksums.

    Raises
    ------
    RequestError
        If it cannot send such a fault.
    """

    speaks_unasked = True

    def __init__(self, faults: Sequence[str] = ()) -> None:
        for fault in faults:
            if fault not in PUMP_FAULTS:
                advice = nearest(fault, PUMP_FAULTS)
                raise RequestError(f'fault "{fault}"', "is not a fault of the pump head", advice=advice)
        self._faults = tuple(faults)
        sheet = open_shipped_sheet("rig")
        self._status, self._setpoint = sheet.frame["status"], sheet.frame["setpoint"]
        self._held = b""
        self._due_s: float | None = None
        self._answer_s: float | None = None
        self._spoken_to_s = -math.inf
        self._measured_s = 0.0
        self._flow = 0.0
        self._dosed = 0.0
        self._sent = 0

    def react(self, received: bytes, now_s: float) -> bytes:
        """Take set-points, and return the status frames that are due."""
        if received:
            self._take(received, now_s)
        self._due_s = now_s + STATUS_PERIOD_S if self._due_s is None else self._due_s
        out = b""
        if self._answer_s is not None and now_s >= self._answer_s:
            out, self._answer_s = self._report(now_s), None
        if now_s >= self._due_s:
            out += self._report(now_s)
            self._due_s = max(self._due_s + STATUS_PERIOD_S, now_s)
        return out

    def speaks_next_s(self, now_s: float) -> float | None:
        """Return when the next status is due."""
        return min((at for at in (self._due_s, self._answer_s) if at is not None), default=now_s)

    def _take(self, received: bytes, now_s: float) -> None:
        self._held += received
        frames = read_frames(self._held, self._setpoint)
        good = frames[frames.faults == 0]
        if len(good):
            self._flow = float(good["flow"][-1])
            self._spoken_to_s, self._answer_s = now_s, now_s + ANSWER_S
            self._held = self._held[int(good.offset[-1]) + self._setpoint.length :]
        self._held = self._held[-LONGEST_WAIT:]

    def _report(self, now_s: float) -> bytes:
        alone = now_s - self._spoken_to_s > ALONE_S
        flow = 0.0 if alone else self._flow
        self._dosed += flow * max(now_s - self._measured_s, 0.0) / 60
        self._measured_s = now_s
        values: dict[str, Any] = {
            "count": self._sent % 256,
            "flow": flow,
            "pressure": 101.25 + 0.4 * flow,
            "temperature": 21.5 + 0.5 * math.sin(now_s / 60),
            "dosed": self._dosed,
            "state": "halted" if alone else "dosing" if flow else "resting",
            "valve": [flow > 0, False, False, True],
        }
        self._sent += 1
        if self._faults:
            return self._with_fault(values)
        frame = bytearray(self._status.encode(values))
        if self._sent % WRONG_EVERY == 0:
            frame[-1] ^= 0x40
        return bytes(frame)

    def _with_fault(self, values: dict[str, Any]) -> bytes:
        """Return a status frame, every so often with the next of the faults that are wanted."""
        turn, place = divmod(self._sent, FAULT_EVERY)
        fault = self._faults[turn % len(self._faults)] if place == FAULT_EVERY // 2 else ""
        if fault == "out-of-range":
            values["flow"] = TOO_MUCH
        elif fault == "counter-restart":
            self._sent = 1
            values["count"] = 0
        frame = bytearray(self._status.encode(values))
        if fault == "checksum-mismatch":
            frame[-1] ^= 0x40
        elif fault == "overflow":
            del frame[5:9]
        elif fault == "resynchronised":
            frame[:0] = bytes(3)
        elif fault == "counter-repeat":
            frame *= 2
        return bytes(frame)


class TalkingPump(Device):
    """A pump head in the service mode of its maker, which says ten times a second in plain text what it measures.

    It is set to 38400 7E1, whatever the port is set to, and takes nothing.
    """

    speaks_unasked = True

    def __init__(self) -> None:
        self._due_s: float | None = None

    def react(self, received: bytes, now_s: float) -> bytes:
        """Return the line of text that is due."""
        self._due_s = now_s if self._due_s is None else self._due_s
        if now_s < self._due_s:
            return b""
        self._due_s = max(self._due_s + REPORT_PERIOD_S, now_s)
        flow, pressure = 12.5 + math.sin(now_s), 105.0 + 0.4 * math.cos(now_s)
        return f"flow {flow:.2f} mL/min, pressure {pressure:.2f} kPa, valves 1001\r\n".encode()

    def speaks_next_s(self, now_s: float) -> float | None:
        """Return when the next line is due."""
        return now_s if self._due_s is None else self._due_s
