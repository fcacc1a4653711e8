"""A loopback one way, step by step.

Two blocks are under way at a time, so that the line never waits and no buffer of a few kilobytes overflows. A block
that does not return within a time limit counts as lost, and the next is written; the comparison of everything expected
with everything received decides what really happened.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import FAULT_NAMES, Characters
from larkreader.declare.link.line import LineSettings
from larkreader.declare.run.loopback import LoopbackPlan
from larkreader.exercise.payload.patterns import LINE_LENGTH, as_values, as_written, length_of, pattern_pieces
from larkreader.exercise.ports.port import Port, Received

from .alignment import Alignment
from .comparison import compare_sent, compare_sequence
from .result import Cycle, LoopbackResult, Stopped

WRITE_LIMIT_S = 30.0  # beyond the time of the line, after which a port that takes nothing more has failed
LARGEST_BLOCK = 8192  # characters; twice as many fit into the buffers of any port on the way there and back
PIECE = 512  # characters written into one of two ports at once, which any buffer between them holds
UNDER_WAY = 2  # blocks at a time
GIVE_UP = 2  # blocks after which a port that has sent nothing at all is taken to be dead
MOST_BEFORE = 1 << 20  # characters that are read away before anything is sent
GRAIN_S = 1e-9  # below which two times are the same

Change = Callable[[bytes], bytes]


class _Outgoing:
    """What is to be sent: block by block, each with what is expected to return."""

    def __init__(self, plan: LoopbackPlan, size: int, change: Change | None) -> None:
        self._blocks = _blocks_of(plan, size, change) if plan.sends else iter(())
        self.next: tuple[bytes, bytes] | None = next(self._blocks, None)
        self.sent: int = 0  # bytes
        self.due_s: float = 0.0  # when the next block may be written

    def has_written(self, end_s: float, pause_s: float) -> None:
        """Go on to the next block, at the earliest after a pause."""
        assert self.next is not None
        self.sent += len(self.next[0])
        self.next, self.due_s = next(self._blocks, None), end_s + pause_s


class _Account:
    """What is expected, what was received, and when."""

    def __init__(self) -> None:
        self.expected, self.received, self.faults = bytearray(), bytearray(), bytearray()
        self.under_way: int = 0  # bytes that are expected and not given up
        self.last_s: float | None = None
        self.silent: int = 0  # blocks that were given up while nothing at all arrived
        self._written: list[tuple[int, float]] = []  # what is expected with each block, and when it was written
        self._arrivals: list[tuple[int, float]] = []  # how much had arrived at each moment

    def expect(self, wanted: bytes, at_s: float) -> None:
        """Expect what returns of a block."""
        self.expected += wanted
        self._written.append((len(self.expected), at_s))
        self.under_way += len(wanted)

    def take(self, some: Received, at_s: float) -> None:
        """Take in what has arrived."""
        self.received += some.data
        self.faults += some.faults
        self.under_way = max(self.under_way - len(some.data), 0)
        self.last_s = at_s
        self._arrivals.append((len(self.received), at_s))

    @property
    def open_blocks(self) -> int:
        """How many of the last blocks have not returned whole."""
        waiting = len(self.expected) - self.under_way
        return sum(end > waiting for end, _ in self._written[-UNDER_WAY:])

    def give_up(self) -> None:
        """Expect nothing more of what is under way."""
        self.silent = 0 if self.received else self.silent + len(self._written[-UNDER_WAY:])
        self.under_way = 0

    def latencies(self, found: Alignment, count: int, width: int) -> npt.NDArray[np.float64]:
        """Return the time from the write of each block to the return of its last character; NaN where it was lost."""
        if not self._written or not self._arrivals:
            return np.full(len(self._written), np.nan)
        ends = np.array([end for end, _ in self._written]) // width - 1
        begins = np.array([at for _, at in self._written])
        before = np.searchsorted(found.lost_at, ends)
        is_lost = np.isin(ends, found.lost_at)
        places = ends - before
        kept = np.setdiff1d(np.arange(count), found.extra_at, assume_unique=True)
        places = kept[np.minimum(places, len(kept) - 1)] if len(kept) else np.full(len(ends), count)
        counts = np.array([count for count, _ in self._arrivals]) // width
        times = np.array([at for _, at in self._arrivals])
        at = np.searchsorted(counts, places, side="right")
        known = ~is_lost & (at < len(times)) & (places >= 0)
        taken = times[np.minimum(at, len(times) - 1)] - begins
        return np.where(known & (taken >= 0), taken, np.nan)  # nothing returns before it is sent


class _Spent:
    """What the time of a run went into, in seconds; see `Cycle`."""

    def __init__(self) -> None:
        self.send_s = self.wait_s = self.receive_s = self.rest_s = 0.0
        self.is_awaited: bool = False  # the first character that returns of a block

    def cycle(self, duration_s: float) -> Cycle:
        """Return the parts of a run of a duration."""
        parts = (self.send_s, self.wait_s, self.receive_s, self.rest_s)
        return Cycle(*parts, max(duration_s - sum(parts), 0.0))


class OneWay:
    """A run of a loopback one way, step by step.

    Parameters
    ----------
    out, back : Port
        Where to send, and where to receive.
    plan : LoopbackPlan
        What to send.
    line : LineSettings, optional
        The settings whose rate the measured one is compared with; default those of `out`.
    change : callable, optional
        Returns what to expect of a block.

    Attributes
    ----------
    stopped : {"", "time", "silence", "interrupted"}
        What ended it before all was sent.
    """

    def __init__(
        self, out: Port, back: Port, plan: LoopbackPlan, line: LineSettings | None, change: Change | None
    ) -> None:
        self._out, self._back, self._plan = out, back, plan
        self.line: LineSettings | None = line or out.line
        self._width = 2 if plan.data_bits > 8 else 1
        size = plan.block or block_for(out.line)
        self._outgoing, self._account, self._spent = _Outgoing(plan, size, change), _Account(), _Spent()
        self._write_limit_s = WRITE_LIMIT_S + (2 * size / out.line.characters_per_second if out.line else 0.0)
        self.stopped: Stopped = ""
        self._is_draining = self._is_over = False
        self._before = self._read_away() if plan.sends else b""
        self._begin_s = self._last_received_s = self._outgoing.due_s = back.now_s()

    @property
    def progress(self) -> tuple[int, int]:
        """How many characters have been sent, or have come where nothing is sent, and how many are to be."""
        done = self._outgoing.sent if self._plan.sends else len(self._account.received)
        return done // self._width, length_of(self._plan)

    def step(self, *, patience_s: float | None = None) -> bool:
        """Do the next thing, and return whether there is another; wait for characters as long as the plan allows."""
        if self._is_over:
            return False
        now_s = self._back.now_s()
        self._note_time(now_s)
        received, expected = self._account.received, self._account.expected
        if self._may_write() and now_s >= self._outgoing.due_s - GRAIN_S:
            self._write()
        elif self._drains() and (not received or len(received) >= 3 * len(expected)):
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
            if self._plan.sends and self._outgoing.next is not None:
                self.stopped = "time"
            elif not self._plan.sends:
                self.stopped, self._is_over = "time", True

    def _drains(self) -> bool:
        """Return whether everything expected has arrived, so that only spurious characters are still waited for."""
        self._is_draining = self._is_draining or (
            self._plan.sends and not self._account.under_way and not self._has_more()
        )
        return self._is_draining

    def _has_more(self) -> bool:
        return self._outgoing.next is not None and not self.stopped

    def _may_write(self) -> bool:
        if not self._has_more():
            return False
        return self._account.open_blocks < (1 if self._plan.pause_s else UNDER_WAY)

    def _write(self) -> None:
        """Write a block; into another port in pieces, reading there meanwhile, so that its buffer never fills up."""
        assert self._outgoing.next is not None
        block, wanted = self._outgoing.next
        end_s = self._out.now_s()
        self._account.expect(wanted, end_s)
        self._spent.is_awaited = True
        is_one_port = self._out is self._back
        size = len(block) if is_one_port else PIECE
        for low in range(0, len(block), size):
            begin_s = self._out.now_s()
            self._out.write(block[low : low + size], self._write_limit_s)
            end_s = self._out.now_s()
            self._spent.send_s += end_s - begin_s
            if not is_one_port:
                self._take(0.0)
        self._outgoing.has_written(end_s, self._plan.pause_s)
        self._last_received_s = max(self._last_received_s, end_s)

    def _await(self, now_s: float, patience_s: float | None) -> None:
        """Wait for what is under way, for the end of a pause, or for spurious characters."""
        plan, due_s = self._plan, self._outgoing.due_s
        rests = self._has_more() and not self._account.under_way
        until_s = due_s if rests else self._last_received_s + plan.limit_s
        if self._has_more() and not rests and due_s > now_s:
            until_s = min(until_s, due_s)
        if plan.for_s is not None and not plan.sends:
            until_s = self._begin_s + plan.for_s
        limit_s = max(until_s - now_s, 0.0)
        arrived = self._take(limit_s if patience_s is None else min(limit_s, patience_s))
        if not plan.sends:
            silent = self._back.now_s() - self._last_received_s >= plan.limit_s - GRAIN_S
            if len(self._account.received) >= self._planned or (silent and not arrived and plan.for_s is None):
                self._is_over = True
            return
        if arrived or rests:
            return
        if self._back.now_s() - self._last_received_s >= plan.limit_s - GRAIN_S:
            self._give_up_on_the_rest()

    def _give_up_on_the_rest(self) -> None:
        """Take what is under way as lost."""
        if self._is_draining:
            self._is_over = True
            return
        received = self._account.received
        self._account.give_up()
        self._last_received_s = self._back.now_s()
        if self._account.silent >= GIVE_UP and not received:
            self.stopped = "silence"
        if not self._has_more():
            self._is_draining = True

    def _take(self, limit_s: float) -> bool:
        """Receive characters, and note what the time was spent on."""
        begin_s, account, spent = self._back.now_s(), self._account, self._spent
        most = (
            max(account.under_way, self._width) if self._plan.sends else max(self._planned - len(account.received), 1)
        )
        some = self._back.read_some(min(most, 1 << 16), limit_s)
        taken_s = self._back.now_s() - begin_s
        if not account.under_way and not self._is_draining and self._plan.sends:
            spent.rest_s += taken_s
        elif spent.is_awaited:
            spent.wait_s += taken_s
        elif not self._is_draining or some.data:
            spent.receive_s += taken_s
        if not some.data:
            return False
        self._last_received_s = self._back.now_s()
        account.take(some, self._last_received_s)
        spent.is_awaited = False
        return True

    @property
    def _planned(self) -> int:
        """How many bytes are to be sent, or to arrive."""
        return length_of(self._plan) * self._width

    def _read_away(self) -> bytes:
        """Return what has come before anything was sent."""
        before = bytearray()
        while len(before) < MOST_BEFORE and (some := self._back.read_some(1 << 12, 0.0)).data:
            before += some.data
        return bytes(before)

    def result(self) -> LoopbackResult:
        """Return the result of the run."""
        bits, plan, account = self._plan.data_bits, self._plan, self._account
        received = as_values(bytes(account.received), bits)
        if plan.sends:
            sent = as_values(bytes(account.expected), bits)
            compared = compare_sent(sent, received, bits, is_whole=self.stopped != "interrupted")
        else:
            compared = compare_sequence(received, plan)
        found = compared.found
        duration_s = 0.0 if account.last_s is None else max(account.last_s - self._begin_s, 0.0)
        return LoopbackResult(
            plan=plan,
            line=self.line,
            sent=self._outgoing.sent // self._width,
            received=len(compared.received),
            lost=found.lost,
            changed=found.changed,
            extra=found.extra,
            doubled=found.doubled,
            difference=compared.difference,
            duration_s=duration_s,
            planned=length_of(plan) if plan.sends else 0,
            bit_errors=compared.bit_errors,
            latencies_s=account.latencies(found, len(compared.received), self._width),
            cycle=self._spent.cycle(duration_s),
            before=self._before if plan.sends else as_written(compared.before, bits),
            faults=_fault_counts(bytes(account.faults)),
            stopped=self.stopped,
            constant=compared.constant,
            name=self._out.name if self._out is self._back else f"{self._out.name} to {self._back.name}",
        )


def block_for(line: LineSettings | None) -> int:
    """Return how many characters to write at once: a quarter of a second of the line, 64 to `LARGEST_BLOCK`."""
    return LARGEST_BLOCK if line is None else min(max(round(line.characters_per_second / 4), 64), LARGEST_BLOCK)


def _blocks_of(plan: LoopbackPlan, size: int, change: Change | None) -> Iterator[tuple[bytes, bytes]]:
    """Yield what is written at once, each with what is expected to return."""
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


def _fault_counts(faults: bytes) -> dict[str, int]:
    """Count the faults of the line by name; a block of characters with a fault counts once, as at least one has it."""
    received = Characters.from_groups([(0.0, bytes(len(faults)), faults)])
    counts = {name: received.count(fault) for fault, name in FAULT_NAMES.items()}
    for _, name, count in received.counted:
        counts[name] += count
    return {name: count for name, count in counts.items() if count}
