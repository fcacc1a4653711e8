"""Whether frames went missing, and where: on the line, in the hardware, or in a buffer behind it.

Each good frame of a layout with a counter says how many frames there should be since the last good one, and so how
many bytes. If fewer arrived, some were lost. A fault of the line around the place, or a hole within the frame as long
as they take, says that they were lost on the line; an overrun flag, that the receiver's hardware lost them; neither,
that a software buffer did.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters, Fault
from larkreader.declare.fields import Slot
from larkreader.declare.layout import FrameLayout
from larkreader.decode.frame_columns import FrameFault, Frames
from larkreader.decode.frames import read_layouts
from larkreader.decode.verify import counter_steps

from .findings import Finding, make_finding, number_of, time_of

Places = npt.NDArray[np.int64]
UNTRUSTED = FrameFault.CHECKSUM_MISMATCH | FrameFault.UNKNOWN_VALUE
ON_THE_LINE = Fault.PARITY | Fault.FRAMING | Fault.BREAK | Fault.NOISE | Fault.UNKNOWN_LEVEL
HOLE_FIT = 1.2  # characters within which the length of a hole must be that of what is missing
FEWEST_RESTART_BITS = 4  # of a counter; a narrower one stands at 0 too often to tell a restart
NO_LINE_FAULTS_KNOWN = (
    "The sequence counter jumps and bytes are missing. The capture holds bytes alone, no line faults; most likely a "
    "software buffer lost them, but a loss on the line cannot be ruled out from here."
)


@dataclass(frozen=True)
class Losses:
    """Places between two good frames of a layout where bytes are missing; all arrays have shape (n_places,).

    Parameters
    ----------
    layout : str
        The frames' layout.
    count : int
        How many frames there are.
    begin, end : ndarray of int64
        Offsets behind the good frame before, and of the good frame after.
    frames : ndarray of int64
        How many frames are missing or incomplete there.
    missing : ndarray of int64
        How many bytes are missing.
    joined : ndarray of int64
        How many frames with a wrong checksum lie there: what is left of two frames can have the length of one.
    cause : ndarray of str
        ``"line"``, ``"hardware"`` or ``"buffer"``.
    repeats, restarts : ndarray of int64, shapes (n_repeats,) and (n_restarts,)
        Offsets of frames whose counter stands where the last one's stood, and of those at which it began again at 0
        from the lower half of what it holds.
    """

    layout: str
    count: int
    begin: Places
    end: Places
    frames: Places
    missing: Places
    joined: Places
    cause: npt.NDArray[np.str_]
    repeats: Places
    restarts: Places

    def by(self, cause: str) -> npt.NDArray[np.bool_]:
        """Tell which losses have a cause."""
        chosen: npt.NDArray[np.bool_] = self.cause == cause
        return chosen


def find_losses(every: list[Frames], characters: Characters, but: Collection[tuple[str, str]] = ()) -> list[Losses]:
    """Find where bytes are missing between the frames of each layout that has a counter.

    Parameters
    ----------
    every : list of Frames
        The frames of all layouts of a wire.
    characters : Characters
        The characters of the wire, from which they were cut.
    but : collection of tuple of str and str
        Layouts and fields that are no counters of their own, such as one that a reply takes from its request.

    Returns
    -------
    list of Losses
        One for each layout with a counter.
    """
    return [
        _losses_of(frames, frames.layout.counter, characters, [other for other in every if other is not frames])
        for frames in every
        if frames.layout.counter is not None and (frames.layout.key, frames.layout.counter.name) not in but
    ]


def lost_by_hardware(losses: list[Losses]) -> int:
    """Return how many bytes are missing where the receiver's hardware reported an overrun."""
    return sum(int(lost.missing[lost.by("hardware")].sum()) for lost in losses)


def explain_losses(wire: str, characters: Characters, layouts: Sequence[FrameLayout]) -> Iterator[Finding]:
    """Yield where characters were lost, by the counters of frames: on the line, in the hardware, or in a buffer."""
    if not layouts:
        return
    losses = find_losses(list(read_layouts(characters, layouts).values()), characters)
    for lost in losses:
        yield from (one for one in judge_losses(lost, characters, wire) if one.kind in ("counter-gap", "overflow"))
    if overruns := characters.count(Fault.OVERRUN):
        missing = lost_by_hardware(losses)
        detail = f"By the sequence counter, {number_of(missing, 'byte')} are missing there." if missing else ""
        first = int(np.argmax(characters.faults & Fault.OVERRUN != 0))
        first_s = time_of(characters, first)
        yield make_finding("overrun", wire, overruns, first_s=first_s, offset=first, detail=detail)


def _losses_of(frames: Frames, counter: Slot, characters: Characters, others: list[Frames]) -> Losses:
    good = frames[(frames.faults & UNTRUSTED) == 0]
    values = good.raw(counter.name)
    length = frames.layout.length if frames.layout.is_fixed else round(float(good.length.mean())) if len(good) else 1
    steps = counter_steps(values, counter.cycle)
    begin, end = good.offset[:-1] + good.length[:-1], good.offset[1:]
    present = end - begin + length - _taken_by(others, begin, end)
    cycle = min(counter.cycle, 1 << 48)
    restarts = (values[1:] == 0) & (steps > cycle // 2) & (counter.bits >= FEWEST_RESTART_BITS)
    steps[restarts] = 1
    steps += cycle * np.maximum(np.rint((present / length - steps) / cycle), 0).astype(np.int64)
    missing = steps * length - present
    lost = np.flatnonzero((missing > 0) & ~restarts)
    first, behind = begin[lost], end[lost] + length
    damaged = _count_between(np.flatnonzero(characters.faults & ON_THE_LINE), first, behind)
    damaged += _count_between(np.searchsorted(characters.begin_s, characters.false_starts_s), first, behind)
    damaged += _has_hole(characters, first, end[lost], missing[lost])
    overrun = _count_between(np.flatnonzero(characters.faults & Fault.OVERRUN), first, behind)
    return Losses(
        layout=frames.layout.key,
        count=len(frames),
        begin=first,
        end=end[lost],
        frames=steps[lost] - 1,
        missing=missing[lost],
        joined=_count_between(frames.offset[(frames.faults & FrameFault.CHECKSUM_MISMATCH) != 0], first, end[lost]),
        cause=np.where(overrun > 0, "hardware", np.where(damaged > 0, "line", behind_the_line(characters))),
        repeats=end[steps == 0],
        restarts=end[restarts],
    )


def _has_hole(characters: Characters, begin: Places, end: Places, missing: Places) -> npt.NDArray[np.bool_]:
    """Tell where the wire rests within what is left of frames, for as long as the missing bytes take.

    A buffer that lost bytes leaves the others close together; on a wire that was interrupted they are missing in time.
    """
    if not characters.has_line or not len(begin):
        return np.zeros(len(begin), dtype=np.bool_)
    rests = np.append(characters.begin_s[1:] - characters.end_s[:-1], [0.0, 0.0])
    character_s = float(np.median(characters.end_s - characters.begin_s))
    bounds = np.column_stack([begin, np.maximum(end - 1, begin + 1)]).ravel()
    longest = np.maximum.reduceat(rests, bounds)[::2]
    return (end - begin > 1) & (np.abs(longest / character_s - missing) < HOLE_FIT)


def judge_losses(losses: Losses, characters: Characters, wire: str) -> Iterator[Finding]:
    """Yield the findings on what is missing between the frames of a layout."""
    layout = losses.layout
    sent = (losses.count, f"{layout} frames")
    for cause, kind in (("line", "counter-gap"), ("buffer", "overflow")):
        chosen = losses.by(cause)
        if not chosen.any():
            continue
        missing, number, joined = (
            int(column[chosen].sum()) for column in (losses.missing, losses.frames, losses.joined)
        )
        detail = f"{number_of(missing, 'byte')} {'is' if missing == 1 else 'are'} missing, "
        detail += f"of {number_of(number, f'{layout} frame')}."
        if joined and kind == "overflow":
            detail += f" What is left was read as {number_of(joined, 'frame')} with a wrong checksum."
        first = int(losses.begin[chosen][0])
        yield make_finding(
            kind,
            wire,
            int(chosen.sum()),
            first_s=time_of(characters, first),
            offset=first,
            frame=layout,
            detail=detail,
            meaning=None if kind != "overflow" or shows_line_faults(characters) else NO_LINE_FAULTS_KNOWN,
            advice=_where_it_overflowed(characters) if kind == "overflow" else None,
        )
    for places, kind in ((losses.repeats, "counter-repeat"), (losses.restarts, "counter-restart")):
        if len(places):
            first = int(places[0])
            first_s = time_of(characters, first)
            yield make_finding(kind, wire, len(places), of=sent, first_s=first_s, offset=first, frame=layout)


def behind_the_line(characters: Characters) -> str:
    """Return who loses characters without any trace: the hardware, if its driver counted that and no overflow."""
    counted = {name for _, name, _ in characters.counted}
    return "hardware" if "overrun" in counted and "overflow" not in counted else "buffer"


def shows_line_faults(characters: Characters) -> bool:
    """Tell whether a line fault would show in the characters, if there were one."""
    return characters.has_line or bool(characters.faults.any())


def _where_it_overflowed(characters: Characters) -> str:
    if characters.has_line:
        return (
            "The bytes never reached the wire: look at the sender's transmit buffer, and at what writes into it "
            "without waiting for room."
        )
    return (
        "Make the receiver's software buffer larger, empty it more often, or let flow control pause the sender; "
        "if the wire itself was recorded too, read that to rule out the sender."
    )


def _taken_by(others: list[Frames], begin: Places, end: Places) -> Places:
    """Return how many bytes of other layouts' frames lie in each stretch."""
    taken = np.zeros(len(begin), dtype=np.int64)
    for frames in others:
        before = np.concatenate([[0], np.cumsum(frames.length)])
        taken += before[np.searchsorted(frames.offset, end)] - before[np.searchsorted(frames.offset, begin)]
    return taken


def _count_between(places: Places, begin: Places, end: Places) -> Places:
    return np.searchsorted(places, end) - np.searchsorted(places, begin)
