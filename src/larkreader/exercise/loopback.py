"""A loopback: send what is known, and hold what comes back against it.

Two blocks are under way at a time, so that the line need not wait, and no buffer of a few kilobytes overflows. What
does not come within a time limit is taken as lost, and the next block goes out; what it really was, the comparison of
all that was to come with all that came decides.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Fault, fault_names
from larkreader.declare.line import LineSettings
from larkreader.declare.loopback import Alteration, LoopbackPlan

from .alignment import Alignment, align, align_step_by_step
from .loopback_result import Cycle, Difference, LoopbackResult, Stopped
from .patterns import LINE_LENGTH, as_values, as_written, length_of, pattern_pieces
from .ports.borrowed import as_port
from .ports.port import Port
from .prbs import find_place, sequence_from

AROUND = 8  # characters shown before and behind the first difference
WRITE_LIMIT_S = 30.0  # beyond the time of the line, after which a port that takes nothing more has failed
LARGEST_BLOCK = 8192  # characters; twice as many fit into the buffers of any port on the way there and back
PIECE = 512  # characters written into one of two ports at once, which any buffer between them holds
UNDER_WAY = 2  # blocks at a time
FEWEST_ALIKE = 16  # characters from which it is no chance that all differ alike
GIVE_UP = 2  # blocks after which a port that has sent nothing at all is taken to be dead
MOST_BEFORE = 1 << 20  # characters that are read away before anything is sent
GRAIN_S = 1e-9  # below which two times are the same
TURN_S = 0.002  # for which one way is waited for, before it is the other's turn
SLACK = 2  # times as much of a sequence is made as came, since some of it may be lost

Change = Callable[[bytes], bytes]
Progress = Callable[[int, int], None]


def run_loopback(
    port: Port | Any,
    plan: LoopbackPlan | None = None,
    *,
    line: LineSettings | None = None,
    into: Port | Any = None,
    change: Change | None = None,
    progress: Progress | None = None,
) -> LoopbackResult:
    """Send a pattern into a port and compare what comes back.

    Parameters
    ----------
    port : Port, or any object with ``read`` and ``write``
        Where to send; see `BorrowedPort` for what its methods must do.
    plan : LoopbackPlan, optional
        What to send, and what is to come back.
    line : LineSettings, optional
        The settings whose rate the measured one is held against; those of the port where it knows them.
    into : Port, or any object with ``read`` and ``write``, optional
        Where it is to come; at `port` itself unless said.
    change : callable, optional
        Takes each block as it was written and returns what is to come of it, instead of what the plan expects.
    progress : callable, optional
        Called with the characters sent and those to be sent, after each block.

    Returns
    -------
    LoopbackResult
        A dead or lossy port never raises; it is a result. So is what had been measured when somebody interrupted it.

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
    out = as_port(port)
    way = OneWay(out, out if into is None else as_port(into), plan or LoopbackPlan(), line, change)
    try:
        while way.step():
            if progress:
                progress(*way.progress)
    except KeyboardInterrupt:
        way.stopped = "interrupted"
    return way.result()


def run_both_ways(
    first: Port | Any,
    second: Port | Any,
    plan: LoopbackPlan | None = None,
    back: LoopbackPlan | None = None,
    *,
    progress: Progress | None = None,
) -> tuple[LoopbackResult, LoopbackResult]:
    """Send a pattern out at each of two ports at once, and compare what comes at the other.

    Parameters
    ----------
    first, second : Port, or any object with ``read`` and ``write``
        The two ends, each with its own settings.
    plan, back : LoopbackPlan, optional
        What goes from the first to the second, and back. Unless said, the same goes back mirrored, so that a port that
        echoes what it sends itself cannot pass.
    progress : callable, optional
        Called with the characters sent and those to be sent, both ways.

    Returns
    -------
    tuple of LoopbackResult
        What came at the second, and what came at the first.

    Raises
    ------
    PortError
        If a port fails to send or receive.
    """
    ends, plan = (as_port(first), as_port(second)), plan or LoopbackPlan()
    back = back or plan.model_copy(update={"mirrored": True})
    ways = [OneWay(*ends, plan, None, None), OneWay(*ends[::-1], back, None, None)]
    try:
        while sum(way.step(patience_s=TURN_S) for way in ways):
            if progress:
                progress(*(sum(one) for one in zip(*(way.progress for way in ways), strict=True)))
    except KeyboardInterrupt:
        for way in ways:
            way.stopped = "interrupted"
    return ways[0].result(), ways[1].result()


class OneWay:
    """A run of a loopback one way, step by step.

    Parameters
    ----------
    out, back : Port
        Where to send, and where it is to come.
    plan : LoopbackPlan
        What to send.
    line : LineSettings, optional
        The settings whose rate the measured one is held against; those of `out` unless said.
    change : callable, optional
        Returns what is to come of a block.

    Attributes
    ----------
    stopped : {"", "time", "silence", "interrupted"}
        What ended it before all was sent.
    """

    def __init__(
        self, out: Port, back: Port, plan: LoopbackPlan, line: LineSettings | None, change: Change | None
    ) -> None:
        self._out, self._back, self._plan = out, back, plan
        self.line = line or out.line
        self._width = 2 if plan.data_bits > 8 else 1
        size = plan.block or block_for(out.line)
        self._blocks = _blocks_of(plan, size, change) if plan.sends else iter(())
        self._next = next(self._blocks, None)
        self._planned = length_of(plan) * self._width
        self._write_limit_s = WRITE_LIMIT_S + (2 * size / out.line.characters_per_second if out.line else 0.0)
        self._written: list[tuple[int, float]] = []  # what is expected with each block, and when it was written
        self._arrivals: list[tuple[int, float]] = []  # how much had arrived at each moment
        self._expected, self._received, self._faults = bytearray(), bytearray(), bytearray()
        self._sent = self._under_way = self._silent = 0
        self._send_s = self._wait_s = self._receive_s = self._rest_s = 0.0
        self.stopped: Stopped = ""
        self._is_awaited, self._is_draining, self._is_over = False, False, False
        self._before = self._read_away() if plan.sends else b""
        self._begin_s = self._last_s = self._due_s = self._heard_s = back.now_s()

    @property
    def progress(self) -> tuple[int, int]:
        """How many characters have been sent, or have come where nothing is sent, and how many are to be."""
        done = self._sent if self._plan.sends else len(self._received)
        return done // self._width, self._planned // self._width

    def step(self, *, patience_s: float | None = None) -> bool:
        """Do the next thing, and return whether there is another; wait for what comes as long as the plan says."""
        if self._is_over:
            return False
        now_s = self._back.now_s()
        self._note_time(now_s)
        if self._may_write() and now_s >= self._due_s - GRAIN_S:
            self._write()
        elif self._drains() and (not self._received or len(self._received) >= 3 * len(self._expected)):
            self._is_over = True
        else:
            self._await(now_s, patience_s)
        return not self._is_over

    def _note_time(self, now_s: float) -> None:
        limit_s = self._plan.for_s
        if (
            limit_s is not None
            and now_s - self._begin_s >= limit_s - GRAIN_S
            and not self.stopped
            and not self._is_draining
        ):
            if self._plan.sends and self._next is not None:
                self.stopped = "time"
            elif not self._plan.sends:
                self.stopped, self._is_over = "time", True

    def _drains(self) -> bool:
        """Tell whether all that is to come has come, so that only what nobody sent is still waited for."""
        self._is_draining = self._is_draining or (self._plan.sends and not self._under_way and not self._has_more())
        return self._is_draining

    def _has_more(self) -> bool:
        return self._next is not None and not self.stopped

    def _may_write(self) -> bool:
        if not self._has_more():
            return False
        waiting = len(self._expected) - self._under_way
        open_blocks = sum(end > waiting for end, _ in self._written[-UNDER_WAY:])
        return open_blocks < (1 if self._plan.pause_s else UNDER_WAY)

    def _write(self) -> None:
        """Write a block; into another port in pieces, and take what comes there meanwhile, lest its buffer be full."""
        assert self._next is not None
        block, wanted = self._next
        end_s = self._out.now_s()
        self._expected += wanted
        self._written.append((len(self._expected), end_s))
        self._under_way += len(wanted)
        self._is_awaited = True
        is_one_port = self._out is self._back
        size = len(block) if is_one_port else PIECE
        for low in range(0, len(block), size):
            begin_s = self._out.now_s()
            self._out.write(block[low : low + size], self._write_limit_s)
            end_s = self._out.now_s()
            self._send_s += end_s - begin_s
            if not is_one_port:
                self._take(0.0)
        self._next, self._sent = next(self._blocks, None), self._sent + len(block)
        self._due_s = end_s + self._plan.pause_s
        self._heard_s = max(self._heard_s, end_s)

    def _await(self, now_s: float, patience_s: float | None) -> None:
        """Wait for what is under way, for the end of a pause, or for what nobody sent."""
        plan = self._plan
        rests = self._has_more() and not self._under_way
        until_s = self._due_s if rests else self._heard_s + plan.limit_s
        if self._has_more() and not rests and self._due_s > now_s:
            until_s = min(until_s, self._due_s)
        if plan.for_s is not None and not plan.sends:
            until_s = self._begin_s + plan.for_s
        limit_s = max(until_s - now_s, 0.0)
        came = self._take(limit_s if patience_s is None else min(limit_s, patience_s))
        if not plan.sends:
            silent = self._back.now_s() - self._heard_s >= plan.limit_s - GRAIN_S
            if len(self._received) >= self._planned or (silent and not came and plan.for_s is None):
                self._is_over = True
            return
        if came or rests:
            return
        if self._back.now_s() - self._heard_s >= plan.limit_s - GRAIN_S:
            self._give_up_on_the_rest()

    def _give_up_on_the_rest(self) -> None:
        """Take what is under way as lost."""
        if self._is_draining:
            self._is_over = True
            return
        self._silent = 0 if self._received else self._silent + len(self._written[-UNDER_WAY:])
        self._under_way = 0
        self._heard_s = self._back.now_s()
        if self._silent >= GIVE_UP and not self._received:
            self.stopped = "silence"
        if not self._has_more():
            self._is_draining = True

    def _take(self, limit_s: float) -> bool:
        """Take in what comes, and note what the time went into."""
        begin_s = self._back.now_s()
        most = max(self._under_way, self._width) if self._plan.sends else max(self._planned - len(self._received), 1)
        some = self._back.read_some(min(most, 1 << 16), limit_s)
        taken_s = self._back.now_s() - begin_s
        if not self._under_way and not self._is_draining and self._plan.sends:
            self._rest_s += taken_s
        elif self._is_awaited:
            self._wait_s += taken_s
        elif not self._is_draining or some.data:
            self._receive_s += taken_s
        if not some.data:
            return False
        self._received += some.data
        self._faults += some.faults
        self._under_way = max(self._under_way - len(some.data), 0)
        self._heard_s = self._back.now_s()
        self._is_awaited = False
        self._last_s = self._heard_s
        self._arrivals.append((len(self._received), self._heard_s))
        return True

    def _read_away(self) -> bytes:
        """Return what has come before anything was sent."""
        before = bytearray()
        while len(before) < MOST_BEFORE and (some := self._back.read_some(1 << 12, 0.0)).data:
            before += some.data
        return bytes(before)

    def result(self) -> LoopbackResult:
        """Return what came of it."""
        bits = self._plan.data_bits
        received = as_values(bytes(self._received), bits)
        if self._plan.sends:
            expected = as_values(bytes(self._expected), bits)
            found, before = align(expected, received), self._before
            if self.stopped == "interrupted":  # nobody knows what would still have come
                expected = expected[: len(expected) - _trailing(found.lost_at, len(expected))]
                found = align(expected, received)
        else:
            expected, received, found, before = _as_sequence(received, self._plan)
        constant = _constant_of(expected, received, found, bits)
        if constant is not None:  # one change of all characters, rather than a loss and an addition that look alike
            places = np.flatnonzero(expected != received)
            nothing = np.empty(0, np.int64)
            found = Alignment(nothing, np.column_stack([places, places]), nothing, 0, (0, 0))
        wrong = expected[found.changed_at[:, 0]] ^ received[found.changed_at[:, 1]]
        duration_s = max(self._last_s - self._begin_s, 0.0)
        spent = self._send_s + self._wait_s + self._receive_s + self._rest_s
        own_s = max(duration_s - spent, 0.0)
        return LoopbackResult(
            plan=self._plan,
            line=self.line,
            sent=self._sent // self._width,
            received=len(received),
            lost=found.lost,
            changed=found.changed,
            extra=found.extra,
            doubled=found.doubled,
            difference=found.first and _difference(expected, received, *found.first, bits),
            duration_s=duration_s,
            planned=self._planned // self._width if self._plan.sends else 0,
            bit_errors=(wrong[:, None] >> np.arange(bits) & 1).sum(axis=0, dtype=np.int64),
            latencies_s=self._latencies(found, len(received)),
            cycle=Cycle(self._send_s, self._wait_s, self._receive_s, self._rest_s, own_s),
            before=before,
            faults=_fault_counts(bytes(self._faults)),
            stopped=self.stopped,
            constant=constant,
            name=self._out.name if self._out is self._back else f"{self._out.name} to {self._back.name}",
        )

    def _latencies(self, found: Alignment, count: int) -> npt.NDArray[np.float64]:
        """Return the time from the write of each block to the return of its last character; NaN where it was lost."""
        if not self._written or not self._arrivals:
            return np.full(len(self._written), np.nan)
        ends = np.array([end for end, _ in self._written]) // self._width - 1
        begins = np.array([at for _, at in self._written])
        before = np.searchsorted(found.lost_at, ends)
        is_lost = np.isin(ends, found.lost_at)
        places = ends - before
        kept = np.setdiff1d(np.arange(count), found.extra_at, assume_unique=True)
        places = kept[np.minimum(places, len(kept) - 1)] if len(kept) else np.full(len(ends), count)
        counts = np.array([count for count, _ in self._arrivals]) // self._width
        times = np.array([at for _, at in self._arrivals])
        at = np.searchsorted(counts, places, side="right")
        known = ~is_lost & (at < len(times)) & (places >= 0)
        taken = times[np.minimum(at, len(times) - 1)] - begins
        return np.where(known & (taken >= 0), taken, np.nan)  # nothing comes before it is sent


def _constant_of(
    expected: npt.NDArray[np.uint16], received: npt.NDArray[np.uint16], found: Alignment, bits: int
) -> Alteration | None:
    """Return the one change with which every character came back: the same number added, or the same bits inverted.

    In a pattern that counts, a number added to all looks like a loss at the beginning and an addition at the end.
    """
    if found.first is None or len(expected) != len(received) or len(expected) < FEWEST_ALIKE:
        return None
    mask = (1 << bits) - 1
    added = (received.astype(np.int64) - expected) & mask
    if added[0] and (added == added[0]).all():
        add = int(added[0])
        return Alteration(add=add if add <= mask // 2 else add - mask - 1)
    turned = (received ^ expected) & mask
    return Alteration(xor=int(turned[0])) if turned[0] and (turned == turned[0]).all() else None


def block_for(line: LineSettings | None) -> int:
    """Return how many characters to write at once: a quarter of a second of the line, 64 to `LARGEST_BLOCK`."""
    return LARGEST_BLOCK if line is None else min(max(round(line.characters_per_second / 4), 64), LARGEST_BLOCK)


def _blocks_of(plan: LoopbackPlan, size: int, change: Change | None) -> Iterator[tuple[bytes, bytes]]:
    """Yield what is written at once, each with what is expected to come back."""
    if plan.pattern == "lines":
        size = max(size // LINE_LENGTH, 1) * LINE_LENGTH
    bits, prefix = plan.data_bits, plan.prefix.encode()
    table = np.array([plan.alter.of(value, bits) for value in range(1 << bits)])
    for piece in pattern_pieces(plan, size):
        block = as_written(piece, bits)
        if change is not None:
            yield block, change(block)
        elif plan.expect == "prefixed":
            yield block, b"".join(prefix + line for line in block.splitlines(keepends=True))
        else:
            yield block, as_written(table[piece], bits) if plan.expect == "altered" else block


def _as_sequence(
    received: npt.NDArray[np.uint16], plan: LoopbackPlan
) -> tuple[npt.NDArray[np.uint16], npt.NDArray[np.uint16], Alignment, bytes]:
    """Return what a sequence would have been, what came of it, how they differ, and what came before it was seen."""
    stages = int(plan.pattern.removeprefix("prbs-"))
    begin = find_place(received, plan.data_bits, stages)
    if begin is None:
        nothing = np.empty(0, np.uint16)
        return nothing, nothing, align(nothing, nothing), as_written(received, plan.data_bits)
    seen = received[begin:]
    expected = sequence_from(seen, SLACK * len(seen), plan.data_bits, stages)
    # how much of it was sent nobody knows: what follows upon the last character that fits was not
    found = align_step_by_step(expected, seen)
    tail = expected[: len(expected) - _trailing(found.lost_at, len(expected))]
    return tail, seen, align(tail, seen), as_written(received[:begin], plan.data_bits)


def _trailing(places: npt.NDArray[np.int64], count: int) -> int:
    """Return how many of some places lie at the very end."""
    behind = count - 1 - places[::-1]
    return int(np.count_nonzero(behind == np.arange(len(places))))


def _fault_counts(faults: bytes) -> dict[str, int]:
    """Count the faults of the line by name."""
    flags = np.frombuffer(faults, np.uint8)
    counts = {fault_names(fault): int(np.count_nonzero(flags & fault)) for fault in Fault}
    return {name: count for name, count in counts.items() if count}


def _difference(
    sent: npt.NDArray[np.uint16], received: npt.NDArray[np.uint16], here: int, there: int, bits: int
) -> Difference:
    before = min(AROUND, here, there)
    return Difference(
        offset=here,
        begin=here - before,
        sent=as_written(sent[here - before : here + AROUND], bits),
        received=as_written(received[there - before : there + AROUND], bits),
    )
