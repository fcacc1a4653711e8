"""Whether frames of a sequence are missing, and how much of that is proven.

Two trusted frames in a row, A and B, say by their counters how many frames were sent between them. Each of those takes
at least as many bytes as the shortest frame of the layout, and at most as many as the longest; so between A and B there
were at least and at most so many bytes. Some arrived: of damaged frames, and of stretches that are not a frame. The
difference is an interval of how many bytes are missing, and only an interval above zero proves that any are. Where
all frames have one length the interval is a point.

A frame is trusted if its checksum is right. Without a checksum it must also agree with a neighbour: a counter that fits
neither of two neighbours that fit each other was changed, and nothing is missing; a single frame at the beginning or
the end leaves open which of both it was.

Where bytes are missing, the cause is the line only if it shows a fault there, or a gap within the rest of a frame as
long as the missing bytes take; the hardware, if the receiver reported an overrun; else a buffer.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters
from larkreader.capture.masked import is_masked
from larkreader.declare.frame.slot import Slot
from larkreader.decode.check.verify import counter_steps
from larkreader.decode.columns.frame_columns import CONTRADICTED, FrameFault, Frames, Skip
from larkreader.decode.cut.content import judge_contents
from larkreader.judge.findings.finding import Finding, Places

from .carried import Habit, LastFrame, byte_bounds, trusted
from .loss_causes import NOTHING, find_causes

Offsets = npt.NDArray[np.int64]
Mask = npt.NDArray[np.bool_]
FindCause = Callable[[Offsets, Offsets], Finding | None]

FEWEST_RESTART_BITS = 4  # of a counter; a narrower one stands at 0 too often to show a restart
FEWEST_RESTART_STEPS = 8  # of a counter that jumps to 0; so many frames seldom go missing just before its turn
FEWEST_SUPPORTED = 0.5  # of the frames without a checksum that must agree with a neighbour, for any to be trusted


@dataclass(frozen=True)
class Losses:
    """What the counters of the frames of one layout show.

    Parameters
    ----------
    layout : str
        The frames' layout.
    count : int
        How many frames there are.
    begin, end : ndarray of int64, shape (n_places,)
        Where bytes are proven to be missing: offsets behind the trusted frame before, and of the one after.
    begin_s : ndarray of float64, shape (n_places,)
        When the characters behind the frames before began, in seconds; NaN where that is not known.
    frames : ndarray of int64, shape (n_places,)
        How many frames are missing or incomplete there.
    at_least, at_most : ndarray of int64, shape (n_places,)
        How many bytes are missing.
    joined : ndarray of int64, shape (n_places,)
        How many frames with a wrong checksum lie there that are the rest of two.
    cause : ndarray of str, shape (n_places,)
        ``"line"``, ``"hardware"`` or ``"buffer"``.
    whole : ndarray of bool, shape (n_places,)
        Whether nothing is left of the missing frames.
    repeats, restarts : ndarray of int64
        Offsets of frames whose counter is that of the frame before, and of those at which it starts again at 0 from
        the lower half of its range.
    changed, expected, found : ndarray of int64
        Offsets of frames whose counter fits neither neighbour; the counter that it should be, and the counter that it
        is.
    jumps, before, after : ndarray of int64
        Offsets of frames whose counter jumps without proof of a loss; the counter before, and there.
    """

    layout: str
    count: int
    begin: Offsets
    begin_s: npt.NDArray[np.float64]
    end: Offsets
    frames: Offsets
    at_least: Offsets
    at_most: Offsets
    joined: Offsets
    cause: npt.NDArray[np.str_]
    whole: Mask
    repeats: Offsets
    restarts: Offsets
    changed: Offsets
    expected: Offsets
    found: Offsets
    jumps: Offsets
    before: Offsets
    after: Offsets

    def by(self, cause: str) -> Mask:
        """Return which losses have a cause."""
        chosen: Mask = self.cause == cause
        return chosen


def find_losses(
    every: list[Frames],
    characters: Characters,
    but: Collection[tuple[str, str]] = (),
    habits: Mapping[str, Habit] | None = None,
    last: Mapping[str, LastFrame] | None = None,
) -> list[Losses]:
    """Find where bytes are missing between the frames of each layout that has a counter.

    Parameters
    ----------
    every : list of Frames
        The frames of all layouts of a wire.
    characters : Characters
        The characters of the wire, from which they were cut.
    but : collection of tuple of str and str
        Layouts and fields that are not counters of their own, such as one that a reply takes from its request.
    habits : mapping of str to Habit, optional
        By layout, how its sender makes frames; as these frames show unless given.
    last : mapping of str to LastFrame, optional
        By layout with a checksum, its last trusted frame before these characters.

    Returns
    -------
    list of Losses
        One for each layout with a counter.
    """
    known, before = habits or {}, last or {}
    return [
        _losses_of(
            frames,
            frames.layout.counter,
            characters,
            [other for other in every if other is not frames],
            known.get(frames.layout.key) or Habit.of(frames, characters),
            before.get(frames.layout.key),
        )
        for frames in every
        if frames.layout.counter is not None and (frames.layout.key, frames.layout.counter.name) not in but
    ]


def lost_by_hardware(losses: list[Losses]) -> int:
    """Return how many bytes are missing where the receiver's hardware reported an overrun."""
    return sum(int(lost.at_least[lost.by("hardware")].sum()) for lost in losses)


def _losses_of(
    frames: Frames,
    counter: Slot,
    characters: Characters,
    others: list[Frames],
    habit: Habit,
    last: LastFrame | None,
) -> Losses:
    good = trusted(frames)
    values = good.raw(counter.name)
    values = (values.data if is_masked(values) else values).astype(np.uint64)
    offset, length = good.offset, good.length
    if last is not None:  # it stands in for a frame that ends where these characters begin
        values = np.append(np.uint64(last.value), values)
        offset, length = np.append(0, offset), np.append(0, length)
    cycle = min(counter.cycle, 1 << 48)
    number = np.arange(len(values))
    wrong = np.zeros(len(values), np.bool_)
    open_end = np.empty(0, np.int64)
    if frames.layout.checksum is None:
        number, wrong, open_end = _agreeing(values, cycle)
    held = values.astype(np.int64)
    expected = (held[number[np.maximum(np.searchsorted(number, open_end) - 1, 0)]] if len(number) else open_end) % cycle
    chain = offset[number], length[number]
    lost, begin, end, steps, least, most = _intervals(frames, chain, held[number], counter, others, number, habit)
    repeats, restarts, missing = lost
    doubtful = np.zeros(len(missing), dtype=np.bool_)
    for row, place in enumerate(missing.tolist()):
        following = int(held[number[place]] + 1) % cycle
        doubtful[row] = last is None and _holds_the_next(good, int(number[place]), counter, following)
    in_doubt, missing = missing[doubtful], missing[~doubtful]
    first, behind = begin[missing], end[missing]
    joined = _joined(frames, first, behind, least[missing], most[missing])
    begin_s, traces = Places.on(characters, first).time_s, NOTHING
    if last is not None and last.end < 0 and len(missing) and missing[0] == 0:
        first, begin_s = np.append(last.end, first[1:]), np.append(last.after_s, begin_s[1:])
        traces = last.traces
    cause, whole = find_causes(frames, characters, first, behind, least[missing], most[missing], habit, traces)
    places = np.flatnonzero(wrong)
    before = number[np.maximum(np.searchsorted(number, places) - 1, 0)] if len(number) else places
    jumps = np.concatenate([offset[open_end], chain[0][in_doubt + 1]])
    in_order = np.argsort(jumps, kind="stable")
    return Losses(
        layout=frames.layout.key,
        count=len(frames),
        begin=first,
        begin_s=begin_s,
        end=behind,
        frames=steps[missing] - 1,
        at_least=least[missing],
        at_most=most[missing],
        joined=joined,
        cause=cause,
        whole=whole,
        repeats=end[repeats],
        restarts=end[restarts],
        changed=offset[places],
        expected=(held[before] + places - before) % cycle,
        found=held[places],
        jumps=jumps[in_order],
        before=np.concatenate([expected, held[number[in_doubt]]])[in_order],
        after=np.concatenate([held[open_end], held[number[in_doubt + 1]]])[in_order],
    )


def _holds_the_next(good: Frames, row: int, counter: Slot, wanted: int) -> bool:
    """Return whether the frame before a jump is two, joined by damage to what separates them.

    Without a checksum such a frame passes for a good frame if its length may vary. Then its end is a frame of its own,
    with the fixed values of the layout and the counter that is missing.
    """
    layout = good.layout
    if layout.checksum is not None or layout.is_fixed or layout.pattern is not None:
        return False
    data, marker = good.data[row].tobytes(), layout.marker
    for seam in range(layout.shortest, len(data)):
        for width in sorted({max(len(marker) - 1, 0), len(marker), len(marker) + 1}):
            tail = marker + data[seam + width :]
            if len(tail) < layout.shortest or len(tail) > layout.longest:
                continue
            judged = judge_contents(np.frombuffer(tail, np.uint8), np.zeros(1, np.int64), np.array([len(tail)]), layout)
            if judged.fits[0] and judged.fixed_values_ok[0] and layout.peek(tail, counter.name) == [wanted]:
                return True
    return False


def _agreeing(values: npt.NDArray[np.uint64], cycle: int) -> tuple[Offsets, Mask, Offsets]:
    """Return which frames agree with a neighbour, which lie wrong between two of those, and where it stays open.

    The last are frames at the beginning or the end that agree with no neighbour, of which it stays open whether their
    counter was changed or frames are missing.
    """
    count, nothing = len(values), np.empty(0, np.int64)
    steps = counter_steps(values, cycle)
    follows = steps == 1
    supported = np.append(follows, False) | np.append(False, follows)
    if not supported.any():
        return np.arange(min(count, 1)), np.zeros(count, np.bool_), np.flatnonzero(steps > 1) + 1
    if np.count_nonzero(supported) < FEWEST_SUPPORTED * count:
        return np.flatnonzero(supported), np.zeros(count, np.bool_), nothing
    number = np.flatnonzero(supported)
    apart = np.diff(number)
    fits = counter_steps(values[number], cycle) == apart % cycle
    between = np.flatnonzero(fits & (apart > 1))
    wrong = np.zeros(count, np.bool_)
    for place in between.tolist():  # few frames are changed
        wrong[number[place] + 1 : number[place + 1]] = True
    held = values.astype(np.int64)
    before = np.maximum.accumulate(np.where(supported, np.arange(count), 0))
    as_expected = (held[before] + np.arange(count) - before) % cycle == held % cycle
    wrong &= ~as_expected
    outside = np.concatenate([np.arange(number[0]), np.arange(number[-1] + 1, count)])
    is_repeat = np.append(False, steps == 0)
    return number, wrong, outside[~is_repeat[outside] & (outside > 0)]


def _intervals(
    frames: Frames,
    chain: tuple[Offsets, Offsets],
    values: Offsets,
    counter: Slot,
    others: list[Frames],
    number: Offsets,
    habit: Habit,
) -> tuple[tuple[Offsets, Offsets, Offsets], Offsets, Offsets, Offsets, Offsets, Offsets]:
    """Return where counters repeat, restart and miss something, and what is known of each pair of frames.

    The latter is where the bytes between them lie, the step of their counters, and how many bytes are missing, at
    least and at most.
    """
    shortest, longest = byte_bounds(frames.layout, habit)
    usual = habit.usual_length
    cycle = min(counter.cycle, 1 << 48)
    steps = counter_steps(values.astype(np.uint64), cycle)
    offset, length = chain
    begin, end = offset[:-1] + length[:-1], offset[1:]
    fill = frames.skipped[frames.skipped.reason == Skip.FILL]
    there = end - begin - _between(fill.offset, fill.length, begin, end)
    most_there = there - _taken_by(others, begin, end, only_good=True)
    least_there = there - _taken_by(others, begin, end, only_good=False)
    restarts = (values[1:] == 0) & (steps > min(cycle // 2, FEWEST_RESTART_STEPS))
    restarts &= (counter.bits >= FEWEST_RESTART_BITS) & (most_there < min(usual, shortest))
    steps = np.where(restarts, 1, steps)
    steps = steps + cycle * np.maximum(np.rint((most_there / usual + 1 - steps) / cycle), 0).astype(np.int64)
    least = (steps - 1) * shortest - most_there
    most = (steps - 1) * longest - least_there
    repeats = (steps == 0) & (np.diff(number) == 1)
    missing = np.flatnonzero((least > 0) & ~restarts & (steps > 1))
    return (np.flatnonzero(repeats), np.flatnonzero(restarts), missing), begin, end, steps, least, most


def _joined(frames: Frames, begin: Offsets, end: Offsets, least: Offsets, most: Offsets) -> Offsets:
    """Return how many damaged frames at each place are the rest of two, of which a loss took the middle.

    Of frames of one length a single damaged frame beside a loss is that: one event explains both. Where there are
    more, or lengths vary, a damaged frame is a damaged frame.
    """
    damaged = frames.offset[frames.has_fault(FrameFault.CHECKSUM_MISMATCH)]
    between = np.searchsorted(damaged, end) - np.searchsorted(damaged, begin)
    return np.where((least == most) & (between == 1), between, 0)


def _taken_by(others: list[Frames], begin: Offsets, end: Offsets, *, only_good: bool) -> Offsets:
    """Return how many bytes of other layouts' frames lie in each stretch."""
    taken = np.zeros(len(begin), dtype=np.int64)
    for frames in others:
        counted = frames[~frames.has_fault(CONTRADICTED)] if only_good else frames
        taken += _between(counted.offset, counted.length, begin, end)
    return taken


def _between(offset: Offsets, length: Offsets, begin: Offsets, end: Offsets) -> Offsets:
    """Return how many bytes of some stretches lie between two places each."""
    before = np.concatenate([[0], np.cumsum(length)])
    found: Offsets = before[np.searchsorted(offset, end)] - before[np.searchsorted(offset, begin)]
    return found
