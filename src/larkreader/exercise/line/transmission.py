"""Characters to trace: what a transmitter puts on the wire, with faults on request."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Fault
from larkreader.capture.trace import Trace
from larkreader.declare.link.line import LineSettings
from larkreader.decode.characters.bit_levels import levels_of
from larkreader.errors import RequestError

LATEST_TICK = 1 << 62  # of a trace; more does not fit into 64 bits
CAN_SEND = Fault.PARITY | Fault.FRAMING | Fault.BREAK


def transmit(
    values: npt.ArrayLike | bytes,
    line: LineSettings,
    *,
    gaps: npt.ArrayLike = 0.0,
    faults: npt.ArrayLike = 0,
    clock_error_ppm: float = 0.0,
    begin_s: float | None = None,
    end_s: float | None = None,
    tick_s: float = 1e-9,
    name: str = "",
) -> Trace:
    """Put characters on a wire.

    Parameters
    ----------
    values : bytes or array_like of int, shape (n,)
        What to send; each must fit into the line's data bits.
    line : LineSettings
        Baud and character format of the transmitter.
    gaps : array_like of float, shape () or (n,)
        Idle time before each character, in bit times; the first follows `begin_s`.
    faults : array_like of int, shape () or (n,)
        Flags of `Fault` that each character is to have: ``PARITY`` turns its parity bit over, ``FRAMING`` holds its
        first stop bit at start level, ``BREAK`` holds the wire at start level for the whole character. After the last
        two one more bit time of idle follows, without which there would be no next start.
    clock_error_ppm : float
        How much faster than declared the transmitter runs, in millionths.
    begin_s, end_s : float
        When the first gap begins and when recording ends, in seconds. By default a character time behind the
        beginning of the recording at 0, and a character time behind the last character, which is the least.
    tick_s : float
        Length of a tick of the trace, in seconds.
    name : str
        What the wire is called.

    Returns
    -------
    Trace
        Its level changes. The wire is idle before the first character and after the last.

    Raises
    ------
    RequestError
        If a value does not fit, a gap is negative, or a fault cannot be put on a wire.

    See Also
    --------
    receive : The way back.

    Examples
    --------
    >>> line = lr.LineSettings.parse("57600 8E1")
    >>> bytes(lr.receive(lr.transmit(b"flow", line), line).value.astype("u1"))
    b'flow'
    """
    given = np.frombuffer(values, dtype=np.uint8) if isinstance(values, bytes) else np.asarray(values)
    if not given.size:
        given = given.astype(np.uint8)
    _check(given, line, np.asarray(gaps), np.asarray(faults, dtype=np.int64))
    sent = given.astype(np.uint16)
    fault = np.broadcast_to(np.asarray(faults, dtype=np.uint8), sent.shape)
    held = (fault & (Fault.FRAMING | Fault.BREAK)) != 0

    recorded_s = 0.0 if begin_s is None else begin_s
    begin_s = line.character_time_s if begin_s is None else begin_s
    bit_s = line.bit_time_s / (1 + clock_error_ppm * 1e-6)
    room = line.bits_per_character + held + np.broadcast_to(np.asarray(gaps, dtype=np.float64), sent.shape)
    length = line.bits_per_character + held
    begin_bits = np.cumsum(room) - length
    levels = levels_of(sent, line, fault)

    over = begin_s + (float(begin_bits[-1] + length[-1]) * bit_s if len(sent) else 0.0) + line.character_time_s
    if not over / tick_s < LATEST_TICK:
        raise RequestError("gaps", f"last until {over:g} s", f"All must end before {LATEST_TICK * tick_s:g} s")
    turns = np.flatnonzero(np.diff(levels, axis=1, prepend=1).reshape(-1))
    row, bit = np.divmod(turns, levels.shape[1])
    edges = np.rint((begin_s + (begin_bits[row] + bit) * bit_s) / tick_s).astype(np.int64)
    idle = 1 if line.idle == "high" else 0
    end = round(max(over, end_s or 0.0) / tick_s)
    return Trace(edges, tick_s, idle, begin=round(recorded_s / tick_s), end=end, name=name)


def _check(
    sent: npt.NDArray[np.integer],
    line: LineSettings,
    gaps: npt.NDArray[np.floating],
    faults: npt.NDArray[np.integer],
) -> None:
    if not np.issubdtype(sent.dtype, np.integer) or sent.ndim != 1:
        raise RequestError(
            "values", f"are {sent.dtype} of shape {sent.shape}", "must be bytes or a row of whole numbers"
        )
    wrong = np.flatnonzero((sent < 0) | (sent >> line.data_bits != 0))
    if wrong.size:
        place = int(wrong[0])
        raise RequestError(f"values[{place}]", f"is {sent[place]}", f"must fit into {line.data_bits} data bits")
    if gaps.size and not (np.isfinite(gaps).all() and gaps.min() >= 0):
        raise RequestError("gaps", f"has {gaps.min()}", "must be bit times, 0 or more")
    if (faults & ~int(CAN_SEND)).any():
        raise RequestError("faults", "has others", "must be of PARITY, FRAMING and BREAK")
    if not line.has_parity and (faults & Fault.PARITY).any():
        raise RequestError("faults", "has PARITY", f"needs a parity bit, which {line.format} has not")
