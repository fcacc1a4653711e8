"""The dosing rig's traffic: a deterministic generator with a known list of faults.

Ten seconds of both wires are made from the rig's sheet. Every fault put on a wire is noted as the finding that must
come out, with its count, its first place and its time, so that a reading can be compared with it. The generator knows
when it put which character on a wire; it never asks the receiver.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from larkreader.capture.characters import Fault
from larkreader.capture.files.vcd_writer import write_vcd
from larkreader.capture.trace import Trace
from larkreader.declare.document.sheet import Sheet
from larkreader.declare.document.sheet_file import SHIPPED, open_shipped_sheet, parse_sheet
from larkreader.declare.frame.layout import FrameLayout
from larkreader.exercise.line.transmission import transmit
from larkreader.simulate.buffers import characters_at, replay

from .wires import Injected, Message, on_wire

DURATION_S = 10.0
END_S = DURATION_S + 0.05  # of the recording
STATUS_PERIOD_S = 0.05
SETPOINT_PERIOD_S = 0.5
OUT_OF_RANGE, UNKNOWN_STATE, REPEATED = 70, 84, 96  # numbers of status messages
SHEET_FILE = SHIPPED / "rig.toml"
HISTORY_FILE = SHIPPED / "history.toml"
HISTORY = 40  # status messages of the pump head's history
HISTORY_BEGINS_S = 0.01


@dataclass(frozen=True)
class Rig:
    """The rig's link with ten seconds of its traffic.

    Parameters
    ----------
    sheet : Sheet
        The declared link.
    traces : mapping of str to Trace
        What was on each wire, by the signal's name in the capture.
    injected : tuple of Injected
        The faults that were put on the wires.
    delivered : bytes
        What the controller's firmware got out of its receive buffer on another day, without any fault on the line:
        the pump head's bytes, but for those that the buffer lost when it overflowed.
    delivered_losses : tuple of int
        How many bytes were lost, place by place.
    """

    sheet: Sheet
    traces: Mapping[str, Trace]
    injected: tuple[Injected, ...]
    delivered: bytes
    delivered_losses: tuple[int, ...]


def rig_sheet() -> Sheet:
    """Return the rig's sheet."""
    return open_shipped_sheet("rig")


def make_rig(*, seed: int = 7, faulty: bool = True) -> Rig:
    """Make ten seconds of the rig's traffic.

    Parameters
    ----------
    seed : int
        Of the measured values' noise.
    faulty : bool
        Whether to put the faults on the wires.

    Returns
    -------
    Rig
    """
    sheet = rig_sheet()
    rng = np.random.default_rng(seed)
    rows = _measurements(rng)
    alarms = _alarm_messages(sheet.frame["alarm"])
    setpoints = _setpoint_messages(sheet.frame["setpoint"])
    from_pump = _in_order(_status_messages(sheet.frame["status"], rows), alarms)
    delivered = bytes(value for message in from_pump for value in message.values)
    losses: tuple[int, ...] = ()
    spikes: list[float] = []
    if faulty:
        delivered, losses = _through_a_small_buffer(delivered)
        _mistake_values(rows)
        status = _status_messages(sheet.frame["status"], rows)
        _damage(status)
        from_pump = _in_order(status, alarms, [_boot_text()])
        spikes = [4.645, 8.03]
        setpoints[5].faults[6] = Fault.PARITY
        setpoints[5].marks.append(("parity-error", 6))
    pump_trace, pump_injected = on_wire(from_pump, sheet.wire["from_pump"].line, "from_pump", spikes, END_S)
    control_trace, control_injected = on_wire(setpoints, sheet.wire["to_pump"].line, "to_pump", [], END_S)
    return Rig(
        sheet=sheet,
        traces={sheet.wire["to_pump"].source: control_trace, sheet.wire["from_pump"].source: pump_trace},
        injected=(*pump_injected, *control_injected),
        delivered=delivered,
        delivered_losses=losses,
    )


@dataclass(frozen=True)
class History:
    """The pump head's history, sent in one go into a ring that is too small for it.

    Parameters
    ----------
    sheet : Sheet
        The link, with or without flow control.
    traces : mapping of str to Trace
        What was on the wire, and on the controller's RTS, by the signals' names in the capture.
    """

    sheet: Sheet
    traces: Mapping[str, Trace]


def history_sheet(*, paused: bool) -> Sheet:
    """Return the sheet of the pump head's history, with or without flow control."""
    return parse_sheet(_history_text(paused=paused), name="history.toml")


def make_history(*, paused: bool) -> History:
    """Make the pump head's history: forty status messages, one right behind the other.

    Parameters
    ----------
    paused : bool
        Whether the pump head pauses when the controller asks it to.

    Returns
    -------
    History
    """
    sheet = history_sheet(paused=paused)
    wire, layout = sheet.wire["from_pump"], sheet.frame["status"]
    rows = _measurements(np.random.default_rng(11))[40 : 40 + HISTORY]
    values = np.frombuffer(b"".join(layout.encode(row) for row in rows), np.uint8)
    line = wire.line
    begin_s = HISTORY_BEGINS_S + np.arange(len(values)) * line.character_time_s
    end_s = HISTORY_BEGINS_S + 0.35
    signal = Trace(np.empty(0, np.int64), first_level=0, end=round(end_s * 1e9), name="rig.controller_rts")
    if paused:
        result = replay(characters_at(begin_s, values, line), sheet.receive["from_pump"], line)
        begin_s = result.begin_s
        signal = Trace.from_seconds(result.pauses_s.ravel(), 0, end_s=end_s, name="rig.controller_rts")
    rests_s = begin_s - np.concatenate([[0.0], begin_s[:-1] + line.character_time_s])
    trace = transmit(
        values, line, gaps=np.maximum(rests_s, 0.0) * line.baud, begin_s=0.0, end_s=end_s, name="from_pump"
    )
    return History(sheet, {wire.source: trace, "rig.controller_rts": signal})


def write_history(folder: Path, *, paused: bool) -> dict[str, Path]:
    """Write the sheet and the capture of the pump head's history.

    Parameters
    ----------
    folder : pathlib.Path
        Where to; it must exist.
    paused : bool
        Whether the pump head pauses when the controller asks it to.

    Returns
    -------
    dict of str to pathlib.Path
        ``sheet`` and ``capture``.
    """
    name = "history_paused" if paused else "history"
    files = {"sheet": folder / f"{name}.toml", "capture": folder / f"{name}.vcd"}
    files["sheet"].write_text(_history_text(paused=paused), encoding="utf-8")
    write_vcd(files["capture"], make_history(paused=paused).traces, comment="Dosing rig, simulated traffic")
    return files


def _history_text(*, paused: bool) -> str:
    text = HISTORY_FILE.read_text(encoding="utf-8")
    return text if paused else text.replace('flow_control = "rts-cts"', 'flow_control = "none"')


def write_rig(folder: Path, rig: Rig) -> dict[str, Path]:
    """Write the rig's sheet and captures.

    Parameters
    ----------
    folder : pathlib.Path
        Where to; it must exist.
    rig : Rig
        What to write.

    Returns
    -------
    dict of str to pathlib.Path
        ``sheet``, the TOML file; ``capture``, a VCD of both wires; ``delivered``, the bytes that the firmware got.
    """
    files = {name: folder / file for name, file in (("sheet", "rig.toml"), ("capture", "rig.vcd"))}
    files["delivered"] = folder / "delivered.bin"
    files["sheet"].write_text(SHEET_FILE.read_text(encoding="utf-8"), encoding="utf-8")
    write_vcd(files["capture"], rig.traces, comment="Dosing rig, simulated traffic")
    files["delivered"].write_bytes(rig.delivered)
    return files


def _measurements(rng: np.random.Generator) -> list[dict[str, Any]]:
    """Measure a dose: the pump head rests, doses, purges and rests again. One row of field values a status."""
    rows, dosed = [], 0.0
    for number in range(round(DURATION_S / STATUS_PERIOD_S)):
        at_s = _status_time(number)
        state = "dosing" if 1.0 <= at_s < 8.0 else "purging" if 8.0 <= at_s < 9.0 else "resting"
        flow = {"dosing": 120 + 60 * np.sin(at_s), "purging": 250.0, "resting": 0.0}[state]
        flow = max(0.0, float(flow + (rng.normal(0, 0.8) if flow else 0.0)))
        dosed += flow * STATUS_PERIOD_S / 60 if state == "dosing" else 0.0
        rows.append(
            {
                "count": number % 256,
                "flow": flow,
                "pressure": 101.3 + 0.4 * flow + rng.normal(0, 0.5),
                "temperature": 21.5 + 0.05 * at_s + rng.normal(0, 0.02),
                "dosed": dosed,
                "state": state,
                "valve": [state == "dosing", state == "purging", False, True],
            }
        )
    return rows


def _status_time(number: int) -> float:
    return 0.02 + number * STATUS_PERIOD_S


def _status_messages(layout: FrameLayout, rows: list[dict[str, Any]]) -> list[Message]:
    return [Message(_status_time(number), list(layout.encode(row))) for number, row in enumerate(rows)]


def _in_order(*messages: list[Message]) -> list[Message]:
    return sorted((item for several in messages for item in several), key=lambda message: message.at_s)


def _setpoint_messages(layout: FrameLayout) -> list[Message]:
    """Ask for a flow twice a second."""
    return [
        Message(
            0.01 + number * SETPOINT_PERIOD_S,
            list(layout.encode({"count": number, "flow": 120.0, "valve": [1, 0, 0, 1], "dose": 14.0})),
        )
        for number in range(round(DURATION_S / SETPOINT_PERIOD_S))
    ]


def _alarm_messages(layout: FrameLayout) -> list[Message]:
    return [
        Message(at_s + 0.01, list(layout.encode({"cause": cause, "at": int(at_s)})))
        for at_s, cause in ((3.0, "blocked"), (9.5, "dry"))
    ]


def _mistake_values(rows: list[dict[str, Any]]) -> None:
    """Let the pump head report what it should not, in frames that are whole."""
    rows[OUT_OF_RANGE]["flow"] = 321.0
    rows[UNKNOWN_STATE]["state"] = 5
    for row in rows[REPEATED:]:  # one frame is counted twice
        row["count"] = (row["count"] - 1) % 256


def _damage(status: list[Message]) -> None:
    """Put faults of every kind on the status messages, each far enough from the others to be distinguished."""
    for number, kind in (
        (OUT_OF_RANGE, "out-of-range"),
        (UNKNOWN_STATE, "unknown-value"),
        (REPEATED, "counter-repeat"),
    ):
        status[number].marks.append((kind, 0))
    for number, place in ((20, 7), (61, 12), (118, 3)):  # a parity bit turned over, the data whole
        status[number].faults[place] = Fault.PARITY
        status[number].marks.append(("parity-error", place))
    status[33].faults[9] = Fault.FRAMING
    status[33].marks.append(("framing-error", 9))
    for number, place in ((45, 5), (152, 8)):  # two bits changed, which parity does not see
        status[number].values[place] ^= 0x0A
        status[number].marks.append(("checksum-mismatch", 0))
    # A burst of noise: two characters never make it, the character behind them is garbled in its parity.
    del status[110].values[6:8]
    status[110].faults[6] = Fault.PARITY
    status[110].marks += [("parity-error", 6), ("truncated-frame", 0), ("counter-gap", 0)]
    # The pump head's transmit buffer overflows twice: 21 bytes over two frames, then one frame and a half.
    del status[130].values[11:]
    status[130].marks.append(("overflow", 0))
    status[131].values.clear()
    status[170].values.clear()
    del status[171].values[:8]
    status[171].marks.append(("overflow", 0))


def _boot_text() -> Message:
    """Let the pump head say something in plain text, which the sheet does not declare, behind a break."""
    marks = [("break", 0), ("resynchronised", 0)]
    return Message(6.345, [0, *b"pump head 1.4\r\n"], {0: Fault.BREAK}, marks)


def _through_a_small_buffer(data: bytes) -> tuple[bytes, tuple[int, ...]]:
    """Lose a stretch of bytes twice, as a receive buffer does that is not emptied for a while."""
    lost = ((1606, 43), (2331, 20))  # offset and length of each stretch
    rest, done = bytearray(), 0
    for offset, length in lost:
        rest += data[done:offset]
        done = offset + length
    return bytes(rest + data[done:]), tuple(length for _, length in lost)
