"""A loopback: send what is known, and hold what comes back against it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np

from larkreader.declare.line import LineSettings
from larkreader.declare.loopback import LoopbackPlan

from .alignment import align
from .devices import complement
from .patterns import LINE_LENGTH, pattern_of
from .ports.borrowed import as_port
from .ports.port import Port

AROUND = 8  # characters shown before and behind the first difference
WRITE_LIMIT_S = 30.0  # beyond the time of the line, after which a port that takes nothing more has failed
LARGEST_BLOCK = 8192  # characters; twice as many fit into the buffers of any port on the way there and back
GIVE_UP = 2  # blocks after which a port that has sent nothing at all is taken to be dead


@dataclass(frozen=True)
class Difference:
    """The first place where what came back is not what went out.

    Parameters
    ----------
    offset : int
        Number of the first character sent that did not come back as it was, counted from 0.
    begin : int
        Number of the first of the characters in `sent` and `received`.
    sent, received : bytes
        What stood around it; `sent` is what was expected to come back.
    """

    offset: int
    begin: int
    sent: bytes
    received: bytes


@dataclass(frozen=True)
class LoopbackResult:
    """What came of a loopback.

    Parameters
    ----------
    plan : LoopbackPlan
        What was asked for.
    line : LineSettings, optional
        The settings whose rate the measured one is held against.
    sent, received : int
        Characters that went out and came back.
    lost, changed, extra : int
        Characters that did not come back, came back as others, or came back without having been sent.
    difference : Difference, optional
        The first place where the two differ.
    duration_s : float
        From the first write to the last character, in seconds on the port's clock.
    planned : int
        Characters that were to go out.
    block_s : tuple of float, optional
        Shortest, median and longest time from the write of a block to the return of its last character, in seconds.
        None where characters were lost, changed or extra. Two blocks are under way at a time, so that one waits for
        the other; a plan with ``block=1`` gives the time of a character.
    """

    plan: LoopbackPlan
    line: LineSettings | None
    sent: int
    received: int
    lost: int
    changed: int
    extra: int
    difference: Difference | None
    duration_s: float
    planned: int
    block_s: tuple[float, float, float] | None

    @property
    def verdict(self) -> Literal["pass", "fail"]:
        """``"pass"`` if all that was planned went out, and came back unchanged."""
        return "pass" if self.sent == self.planned and self.difference is None else "fail"

    @property
    def characters_per_second(self) -> float:
        """Characters that came back a second."""
        return self.received / self.duration_s if self.duration_s > 0 else 0.0

    @property
    def line_share(self) -> float | None:
        """The measured rate as a share of what the line carries at most; None where its settings are not known."""
        return None if self.line is None else self.characters_per_second / self.line.characters_per_second

    def to_dict(self) -> dict[str, Any]:
        """Return the result as JSON has it."""
        first = self.difference
        return {
            "verdict": self.verdict,
            "line": None if self.line is None else str(self.line),
            "pattern": self.plan.pattern,
            "sent": self.sent,
            "received": self.received,
            "lost": self.lost,
            "changed": self.changed,
            "extra": self.extra,
            "duration_s": round(self.duration_s, 9),
            "characters_per_second": round(self.characters_per_second, 3),
            "line_share": None if self.line_share is None else round(self.line_share, 6),
            "block_s": None if self.block_s is None else [round(one, 9) for one in self.block_s],
            "first_difference": first
            and {
                "offset": first.offset,
                "begin": first.begin,
                "sent": first.sent.hex(" "),
                "received": first.received.hex(" "),
            },
        }


def run_loopback(
    port: Port | Any,
    plan: LoopbackPlan | None = None,
    *,
    line: LineSettings | None = None,
    progress: Callable[[int, int], None] | None = None,
) -> LoopbackResult:
    """Send a pattern into a port and compare what comes back.

    Two blocks are under way at a time, so that the line need not wait and no buffer of a few kilobytes overflows.

    Parameters
    ----------
    port : Port, or any object with ``read`` and ``write``
        Where to send and receive; see `BorrowedPort` for what its methods must do.
    plan : LoopbackPlan, optional
        What to send.
    line : LineSettings, optional
        The settings whose rate the measured one is held against; those of the port where it knows them.
    progress : callable, optional
        Called with the characters sent and those to be sent, after each block.

    Returns
    -------
    LoopbackResult
        A dead or lossy port never raises; it is a result.

    Raises
    ------
    PortError
        If the port fails to send or receive.
    RequestError
        If `port` lacks ``read`` or ``write``.

    Examples
    --------
    >>> result = lr.run_loopback(lr.open_port("stand-in:echo"), lr.LoopbackPlan(characters=1000))
    >>> result.verdict, result.received, result.lost
    ('pass', 1000, 0)
    """
    plan = plan or LoopbackPlan()
    end = as_port(port)
    line = line or end.line
    size = plan.block or block_for(end.line)
    pattern = pattern_of(plan).tobytes()
    write_limit_s = WRITE_LIMIT_S + (2 * size / end.line.characters_per_second if end.line else 0.0)
    blocks = _blocks_of(pattern, size, plan)
    written: list[tuple[int, float]] = []  # how much is expected with each block, and when the block was written
    arrivals: list[tuple[int, float]] = []  # how much had arrived at each moment
    expected, received = bytearray(), bytearray()
    begin_s = last_s = end.now_s()
    sent = under_way = silent = 0
    for number, (block, back) in enumerate(blocks, 1):
        expected += back
        written.append((len(expected), end.now_s()))
        end.write(block, write_limit_s)
        sent, under_way = sent + len(block), under_way + len(back)
        wanted = under_way - len(back) if number < len(blocks) else under_way
        if wanted > 0:
            piece, last_s = _gather(end, wanted, plan.limit_s, last_s, len(received), arrivals)
            received += piece
            silent = 0 if received else silent + 1
            under_way = under_way - len(piece) if len(piece) == wanted else 0  # the rest is taken as lost
        if progress:
            progress(sent, len(pattern))
        if silent == GIVE_UP:
            break
    if received:
        received += _gather(end, 2 * len(pattern), plan.limit_s, last_s, len(received), [])[0]  # what nobody sent
    found = align(bytes(expected), bytes(received))
    return LoopbackResult(
        plan=plan,
        line=line,
        sent=sent,
        received=len(received),
        lost=found.lost,
        changed=found.changed,
        extra=found.extra,
        difference=found.first and _difference(bytes(expected), bytes(received), *found.first),
        duration_s=max(last_s - begin_s, 0.0),
        planned=len(pattern),
        block_s=_round_trips(written, arrivals) if found.first is None else None,
    )


def block_for(line: LineSettings | None) -> int:
    """Return how many characters to write at once: a quarter of a second of the line, 64 to `LARGEST_BLOCK`."""
    return LARGEST_BLOCK if line is None else min(max(round(line.characters_per_second / 4), 64), LARGEST_BLOCK)


def _blocks_of(pattern: bytes, size: int, plan: LoopbackPlan) -> list[tuple[bytes, bytes]]:
    """Cut a pattern into what is written at once, each with what is expected to come back."""
    if plan.pattern == "lines":
        size = max(size // LINE_LENGTH, 1) * LINE_LENGTH
    blocks = [pattern[low : low + size] for low in range(0, len(pattern), size)]
    if plan.expect == "prefixed":
        prefix = plan.prefix.encode()
        return [(one, b"".join(prefix + line for line in one.splitlines(keepends=True))) for one in blocks]
    return [(one, complement(one) if plan.expect == "altered" else one) for one in blocks]


def _round_trips(
    written: list[tuple[int, float]], arrivals: list[tuple[int, float]]
) -> tuple[float, float, float] | None:
    """Return the shortest, median and longest time from the write of a block to its last character's return."""
    if not arrivals:
        return None
    counts, times = np.array([count for count, _ in arrivals]), np.array([at for _, at in arrivals])
    ends, begins = np.array([count for count, _ in written]), np.array([at for _, at in written])
    taken = times[np.minimum(np.searchsorted(counts, ends), len(times) - 1)] - begins
    return float(taken.min()), float(np.median(taken)), float(taken.max())


def _gather(
    port: Port, wanted: int, limit_s: float, last_s: float, before: int, arrivals: list[tuple[int, float]]
) -> tuple[bytes, float]:
    """Receive `wanted` characters, or fewer if none comes for `limit_s` seconds; return when the last one came."""
    gathered = bytearray()
    while len(gathered) < wanted:
        some = port.read_some(wanted - len(gathered), limit_s)
        if not some.data:
            break
        gathered += some.data
        last_s = port.now_s()
        arrivals.append((before + len(gathered), last_s))
    return bytes(gathered), last_s


def _difference(sent: bytes, received: bytes, here: int, there: int) -> Difference:
    before = min(AROUND, here, there)
    return Difference(
        offset=here,
        begin=here - before,
        sent=sent[here - before : here + AROUND],
        received=received[there - before : there + AROUND],
    )
