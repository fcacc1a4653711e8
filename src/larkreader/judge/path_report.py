"""Whether a receive path keeps up with what comes in."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters, Fault
from larkreader.declare.line import LineSettings
from larkreader.declare.receive_path import (
    BlockingApplication,
    DmaService,
    InterruptService,
    LineApplication,
    PollingService,
    ReceivePath,
    SoftwareReceiver,
)
from larkreader.declare.sheet import Sheet

from .buffers import replay
from .findings import Finding, make_finding, number_of, stated
from .path_limits import PathLimits, find_limits
from .replayed import BUFFERS, Fate, Replay
from .software_receiver import Heard, compare_heard, hear, trace_of

ROOM = 0.8  # of what there is, that may be taken: the rest is for what the sheet does not say
BUSY = 0.5  # of the processor's time
SEARCHED = 20_000  # characters up to which plan and decode search what a path could stand
LONG = 20.0  # character times beyond those until it is served, from which on a character waits for long
Places = npt.NDArray[np.int64]


@dataclass(frozen=True)
class PathReport:
    """What the receive path of a wire makes of what comes in.

    Parameters
    ----------
    wire : str
        The wire.
    line : LineSettings
        Its settings.
    replay : Replay
        What became of each character.
    limits : PathLimits
        What the path could stand.
    findings : tuple of Finding
        What is wrong or worth knowing.
    heard : Heard, optional
        What a receiver in software made of the wire; `replay` is of what it received.
    """

    wire: str
    line: LineSettings
    replay: Replay
    limits: PathLimits
    findings: tuple[Finding, ...]
    heard: Heard | None = None

    def to_dict(self) -> dict[str, Any]:
        """Return the report as JSON has it, without its findings."""
        told = {**self.replay.to_dict(), "limits": self.limits.to_dict()}
        if self.heard is not None:
            counts = {name: len(getattr(self.heard, name)) for name in ("missed", "misread", "made_up")}
            told["heard"] = counts
        return told


def judge_receive_path(
    sheet: Sheet, wire: str, characters: Characters, starts: Places | None = None, *, search: bool = True
) -> PathReport:
    """Run characters through the receive path of a wire and tell what is wrong with it.

    Parameters
    ----------
    sheet : Sheet
        What was declared; its ``[receive]`` has a path for the wire.
    wire : str
        The wire.
    characters : Characters
        What is on it, with times.
    starts : ndarray of int64, shape (n_messages,), optional
        Number of the first character of each message.
    search : bool
        Whether to search for what the path could stand, which takes a score of replays.

    Returns
    -------
    PathReport

    Raises
    ------
    RequestError
        As for `replay`.
    """
    path, line = sheet.receive[wire], sheet.wire[wire].line
    others = [one.line for key, one in sheet.wire.items() if key != wire]
    back = others[0] if len(others) == 1 else None
    heard = None
    if isinstance(path.service, SoftwareReceiver):
        trace = trace_of(characters, line)
        heard = compare_heard(characters, hear(trace, line, path.deaf, start=path.service.start), line)
        characters, starts = heard.characters, None  # whose messages begin elsewhere
        path = path.model_copy(update={"deaf": tuple(one for one in path.deaf if one.stops == "everything")})
    told = replay(characters, path, line, back=back)
    limits = find_limits(characters, path, line, back=back) if search else PathLimits()
    findings = [
        *([] if heard is None else _judge_deafness(wire, heard)),
        *_judge_losses(wire, told, limits, is_paused=path.pause is not None and line.flow_control != "none"),
        *_judge_reads(wire, told, starts if starts is not None else np.empty(0, np.int64)),
        *([] if any(told.count(fate) for fate in (Fate.OVERRUN, *BUFFERS)) else _judge_room(wire, told, limits)),
        *_judge_processor(wire, told),
        *_judge_waits(wire, told, line),
    ]
    return PathReport(wire, line, told, limits, tuple(findings), heard)


def judge_declared_path(wire: str, path: ReceivePath, line: LineSettings) -> Iterator[Finding]:
    """Yield what is wrong with a receive path on paper, whatever comes in."""
    application, ring = path.application, path.ring
    if isinstance(application, BlockingApplication):
        places = application.length if application.buffer is None else application.buffer
        wanted = application.length + application.terminated
        if wanted > places:
            nul = " and a NUL behind them" if application.terminated else ""
            detail = f"{wire}: a read asks for {number_of(application.length, 'character')}{nul}, but its buffer has "
            yield stated("large-request", wire, f"{detail}{number_of(places, 'place')}.")
        if ring is not None and application.whole and application.length > ring.capacity:
            detail = (
                f"{wire}: a read waits until {number_of(application.length, 'character')} are in the ring, which "
                f"holds {ring.capacity:,}."
            )
            yield stated("large-request", wire, detail)
    if isinstance(application, LineApplication) and ring is not None and application.room > ring.capacity:
        detail = (
            f"{wire}: a line may have {application.room:,} characters, but the ring holds {ring.capacity:,}: one "
            "that is longer never comes out of it."
        )
        yield stated("large-request", wire, detail, severity="warning")
    if path.pause is not None and line.flow_control == "none":
        yield stated("pause-unused", wire, f"{wire}: [receive.{wire}] has a pause, and the line is {line}.")


def _judge_deafness(wire: str, heard: Heard) -> Iterator[Finding]:
    missed, misread, made_up = len(heard.missed), len(heard.misread), len(heard.made_up)
    if not missed + misread + made_up:
        return
    framing = heard.characters.count(Fault.FRAMING)
    detail = (
        f"{missed:,} are missed, {misread:,} misread, and {made_up:,} begin where none does, on a data bit; "
        f"{number_of(framing, 'framing error')} {'is' if framing == 1 else 'are'} reported."
    )
    places = np.concatenate([heard.missed, heard.misread])
    first = int(places.min()) if places.size else None
    yield make_finding("deaf-receiver", wire, missed + misread or made_up, offset=first, detail=detail)


def _judge_losses(wire: str, told: Replay, limits: PathLimits, *, is_paused: bool) -> Iterator[Finding]:
    total = (len(told), "characters")
    ring, service = told.path.ring, told.path.service
    stretches = _stretches(told.fate, (Fate.OVERRUN,))
    if len(stretches):
        size = told.path.fifo.size
        detail = _how_many(stretches, "the FIFO" if size > 1 else "the data register", size)
        advice = None
        if limits.slowest_s is not None and np.isfinite(limits.slowest_s):
            what = "a period" if isinstance(service, PollingService) else "a latency"
            advice = f"With {what} of {_time(limits.slowest_s)} or less nothing is lost there."
        yield _lost("predicted-overrun", wire, told, stretches, total, detail, advice)
    stretches = _stretches(told.fate, BUFFERS)
    if len(stretches):
        in_block = told.count(Fate.BLOCK)
        what, size = ("the ring", ring.capacity) if ring is not None and not in_block else ("the block of DMA", 0)
        if isinstance(service, DmaService) and in_block:
            size = service.block
        detail = _how_many(stretches, what, size)
        advice = None
        if limits.ring_needed is not None and not in_block:
            advice = f"A ring of {limits.ring_needed:,} loses nothing of this."
            if limits.ring_bound is not None:
                advice += f" By arithmetic {limits.ring_bound:,} are enough, however the phases lie."
            advice += " Or pause the sender earlier." if is_paused else " Or pause the sender in time."
        elif in_block and limits.slowest_s is not None and np.isfinite(limits.slowest_s):
            advice = f"With a latency of {_time(limits.slowest_s)} or less nothing is lost there."
        yield _lost("predicted-overflow", wire, told, stretches, total, detail, advice)
    for fate, kind in ((Fate.DISCARDED, "discarded-characters"), (Fate.HELD_BACK, "sender-overflow")):
        if len(stretches := _stretches(told.fate, (fate,))):
            yield _lost(kind, wire, told, stretches, total, "", None)


def _lost(
    kind: str, wire: str, told: Replay, stretches: Places, total: tuple[int, str], detail: str, advice: str | None
) -> Finding:
    first = int(stretches[0, 0])
    at_s = told.arrived_s[first] if np.isfinite(told.arrived_s[first]) else told.lost_s[first]
    count = int(stretches[:, 1].sum())
    return make_finding(kind, wire, count, of=total, first_s=float(at_s), offset=first, detail=detail, advice=advice)


def _how_many(stretches: Places, what: str, size: int) -> str:
    """Say in how many stretches characters were lost, and for want of room where."""
    places, longest = len(stretches), int(stretches[:, 1].max())
    where = f"in {number_of(places, 'stretch')}" if places == 1 else f"in {places:,} stretches"
    return f"They are lost {where}, {longest:,} at most in one, because {what}, of {size:,}, is full."


def _stretches(fate: npt.NDArray[np.uint8], fates: tuple[Fate, ...]) -> Places:
    """Return where characters in a row had one of some fates: first and how many, int64 of shape (n, 2)."""
    has = np.isin(fate, fates)
    turns = np.flatnonzero(np.diff(has, prepend=False, append=False)).reshape(-1, 2)
    return np.column_stack([turns[:, 0], turns[:, 1] - turns[:, 0]]).astype(np.int64)


def _judge_reads(wire: str, told: Replay, starts: Places) -> Iterator[Finding]:
    application, reads = told.path.application, told.reads
    is_cut = True  # as the end of a capture may be in the midst of a message
    if isinstance(application, BlockingApplication) and len(starts):
        lengths = np.diff(starts, append=len(told))
        sizes, times = np.unique(lengths, return_counts=True)
        usual = int(sizes[times.argmax()])
        is_cut = int(lengths[-1]) != usual
        whole = np.flatnonzero((reads.count == application.length) & (reads.first >= starts[0]))
        into = reads.first[whole] - starts[np.searchsorted(starts, reads.first[whole], side="right") - 1]
        wrong = whole[(into > 0) & (into < usual)]
        if application.length == usual and len(wrong):
            first, inside = int(reads.first[wrong[0]]), int(into[np.searchsorted(whole, wrong[0])])
            detail = f"The first begins at character {inside:,} of a message of {usual:,}"
            if short := np.flatnonzero(lengths[: np.searchsorted(starts, first)] != usual).size:
                detail += f", behind {number_of(short, 'message')} of another length"
            yield make_finding(
                "misaligned-read",
                wire,
                len(wrong),
                of=(len(whole), "whole reads"),
                first_s=float(reads.begin_s[wrong[0]]),
                offset=first,
                detail=f"{detail}.",
            )
    left = told.count(Fate.LEFT)
    capacity = told.path.ring.capacity if told.path.ring is not None else 0
    waits = isinstance(application, LineApplication) or (
        isinstance(application, BlockingApplication) and application.limit_s is None
    )
    if waits and left and ((told.unfinished and not is_cut) or left >= capacity > 0):
        last_s = float(reads.end_s[-1]) if len(reads) else None
        what = f"{number_of(left, 'character')} {'is' if left == 1 else 'are'} there at the end, and not taken"
        since = "none was ever taken" if last_s is None else f"the last read returned at {last_s:.6f} s"
        yield make_finding("stuck-read", wire, 1, detail=f"{what}; {since}.")


def _judge_room(wire: str, told: Replay, limits: PathLimits) -> Iterator[Finding]:
    """Yield where nothing is lost, but little room is left."""
    ring, service = told.path.ring, told.path.service
    if ring is not None and limits.ring_needed is not None and told.path.pause is None:
        needed = limits.ring_needed - (ring.size - ring.capacity)
        if needed > ROOM * ring.capacity:
            detail = f"{wire}: up to {needed:,} of the ring's {ring.capacity:,} places are taken."
            yield stated("little-room", wire, detail)
    declared = service.every_s if isinstance(service, PollingService) else getattr(service, "latency_s", 0.0)
    if limits.slowest_s is not None and declared > ROOM * limits.slowest_s:
        what = "period" if isinstance(service, PollingService) else "latency"
        detail = f"{wire}: the service's {what} is {_time(declared)}, and at {_time(limits.slowest_s)} it is too late."
        yield stated("little-room", wire, detail)


def _judge_waits(wire: str, told: Replay, line: LineSettings) -> Iterator[Finding]:
    """Yield that the end of a message waits in the hardware for the next one, where nobody is told of an idle line."""
    service, fifo = told.path.service, told.path.fifo
    if isinstance(service, DmaService):
        if "idle" in service.notices:
            return
        where, came_s, went_s = "DMA's block", told.fetched_s, told.stored_s
    elif isinstance(service, InterruptService) and fifo.trigger > 1 and fifo.idle_characters is None:
        where, came_s, went_s = "the FIFO", told.arrived_s, told.fetched_s
    else:
        return
    waits_s = (went_s - came_s)[np.isfinite(went_s - came_s)]
    left = int(np.count_nonzero(np.isfinite(came_s) & np.isnan(went_s) & (told.fate == Fate.LEFT)))
    longest_s = float(waits_s.max(initial=0.0))
    deaf_s = sum(one.for_s for one in told.path.deaf)
    held = service.block if isinstance(service, DmaService) else fifo.trigger
    usual_s = service.latency_s + service.jitter_s + deaf_s + (held + LONG) * line.character_time_s
    if longest_s > usual_s or left:
        detail = f"{wire}: characters wait in {where} for up to {_time(longest_s)}" if longest_s > usual_s else ""
        rest = f"{number_of(left, 'character')} {'is' if left == 1 else 'are'} still in {where} at the end"
        detail = f"{detail}, and {rest}." if detail and left else f"{detail or f'{wire}: {rest}'}."
        yield stated("waiting-tail", wire, detail)


def _judge_processor(wire: str, told: Replay) -> Iterator[Finding]:
    if told.busy_share > BUSY:
        longest = f"The longest stretch without a rest is {_time(told.longest_busy_s)}."
        detail = f"{wire}: serving it takes {told.busy_share:.0%} of the processor's time. {longest}"
        yield stated("busy-processor", wire, detail)


def _time(seconds: float) -> str:
    if seconds >= 1:
        return f"{seconds:.4g} s"
    return f"{seconds * 1e3:.4g} ms" if seconds >= 1e-3 else f"{seconds * 1e6:.4g} us"
