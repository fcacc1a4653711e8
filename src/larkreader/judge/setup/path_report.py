"""Whether a receive path keeps up with what arrives."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters, Fault
from larkreader.declare.document.sheet import Sheet
from larkreader.declare.link.line import LineSettings
from larkreader.declare.paths.receive_path import BlockingApplication, LineApplication, ReceivePath
from larkreader.declare.paths.receive_services import DmaService, InterruptService, PollingService, SoftwareReceiver
from larkreader.judge.findings.finding import Finding, Places, make_finding
from larkreader.judge.infer.survey import MESSAGE_GAP
from larkreader.simulate.buffers import replay
from larkreader.simulate.path_limits import PathLimits, find_limits
from larkreader.simulate.replayed import BUFFERS, Fate, Replay
from larkreader.simulate.software_receiver import SoftwareReception, compare_reception, receive_in_software, trace_of

ROOM = 0.8  # of what there is, that may be taken: the rest is for what the sheet does not say
BUSY = 0.5  # of the processor's time
SEARCHED = 20_000  # characters up to which plan and decode search what a path could stand
LONG = 20.0  # character times beyond those until it is served, from which on a character waits for long
USUAL = 0.5  # of the messages, above which their commonest length is that of all
Offsets = npt.NDArray[np.int64]


@dataclass(frozen=True)
class Messages:
    """Which characters make a message, as far as that is known.

    Parameters
    ----------
    starts : ndarray of int64, shape (n_messages,)
        Number of the first character of each.
    is_whole : bool, optional
        Whether the last one ends with the last character; None where that is not known.
    by_rests : bool
        Whether they were taken to end where the line rests, as no frame is declared.
    """

    starts: Offsets = field(default_factory=lambda: np.empty(0, np.int64))
    is_whole: bool | None = None
    by_rests: bool = False

    @classmethod
    def between_rests(cls, characters: Characters, line: LineSettings, end_s: float | None = None) -> Messages:
        """Take messages to end where the line rests for three character times; `end_s` is the end of the capture."""
        if not len(characters):
            return cls(by_rests=True)
        rest_s = MESSAGE_GAP * line.character_time_s
        rests_s = characters.begin_s[1:] - characters.end_s[:-1]
        starts = np.append(0, np.flatnonzero(rests_s >= rest_s) + 1)
        is_whole = True if end_s is not None and end_s - characters.end_s[-1] >= rest_s else None
        return cls(starts, is_whole, by_rests=True)


@dataclass(frozen=True)
class PathReport:
    """What the receive path of a wire makes of what arrives.

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
    reception : SoftwareReception, optional
        What a receiver in software made of the wire; `replay` is of what it received.
    """

    wire: str
    line: LineSettings
    replay: Replay
    limits: PathLimits
    findings: tuple[Finding, ...]
    reception: SoftwareReception | None = None

    def to_dict(self) -> dict[str, Any]:
        """Return the report as JSON has it, without its findings."""
        result = {**self.replay.to_dict(), "limits": self.limits.to_dict()}
        if self.reception is not None:
            counts = {name: len(getattr(self.reception, name)) for name in ("missed", "misread", "spurious")}
            result["software"] = counts
        return result


def judge_receive_path(
    sheet: Sheet,
    wire: str,
    characters: Characters,
    messages: Messages | Offsets | None = None,
    *,
    search: bool = True,
) -> PathReport:
    """Run characters through the receive path of a wire and find what is wrong with it.

    Parameters
    ----------
    sheet : Sheet
        What was declared; its ``[receive]`` has a path for the wire.
    wire : str
        The wire.
    characters : Characters
        What is on it, with times.
    messages : Messages, or ndarray of int64 of shape (n_messages,), optional
        Which characters make a message: the number of the first character of each.
    search : bool
        Whether to search for what the path could stand, which takes a score of replays.

    Returns
    -------
    PathReport
        The replay, its limits and its findings.

    Raises
    ------
    RequestError
        As for `replay`.
    """
    path, line = sheet.receive[wire], sheet.wire[wire].line
    others = [item.line for key, item in sheet.wire.items() if key != wire]
    back = others[0] if len(others) == 1 else None
    reception = None
    if isinstance(path.service, SoftwareReceiver):
        trace = trace_of(characters, line)
        reception = compare_reception(
            characters, receive_in_software(trace, line, path.deaf, start=path.service.start), line
        )
        characters, messages = reception.characters, None  # whose messages begin elsewhere
        path = path.model_copy(update={"deaf": tuple(item for item in path.deaf if item.stops == "everything")})
    starts = np.empty(0, np.int64) if messages is None or isinstance(messages, Messages) else messages
    result = replay(characters, path, line, back=back)
    limits = find_limits(characters, path, line, back=back) if search else PathLimits()
    findings = [
        *([] if reception is None else _judge_blackouts(wire, reception)),
        *_judge_losses(wire, result, limits, is_paused=path.pause is not None and line.flow_control != "none"),
        *_judge_reads(wire, result, messages if isinstance(messages, Messages) else Messages(starts)),
        *([] if any(result.count(fate) for fate in (Fate.OVERRUN, *BUFFERS)) else _judge_room(wire, result, limits)),
        *_judge_processor(wire, result),
        *_judge_waits(wire, result, line),
    ]
    return PathReport(wire, line, result, limits, tuple(findings), reception)


def judge_declared_path(wire: str, path: ReceivePath, line: LineSettings) -> Iterator[Finding]:
    """Yield what is wrong with a receive path on paper, whatever arrives."""
    application, ring = path.application, path.ring
    if isinstance(application, BlockingApplication):
        length, terminated = application.length, application.terminated
        room = length if application.buffer is None else application.buffer
        if length + terminated > room:
            yield make_finding("large-request", wire, length=length, terminated=terminated, room=room)
        if ring is not None and application.whole and length > ring.capacity:
            yield make_finding("large-request", wire, length=length, ring=ring.capacity)
    if isinstance(application, LineApplication) and ring is not None and application.room > ring.capacity:
        yield make_finding("large-request", wire, severity="warning", line=application.room, ring=ring.capacity)
    if path.pause is not None and line.flow_control == "none":
        yield make_finding("pause-unused", wire, line=str(line))


def _judge_blackouts(wire: str, reception: SoftwareReception) -> Iterator[Finding]:
    missed, misread, spurious = len(reception.missed), len(reception.misread), len(reception.spurious)
    if not missed + misread + spurious:
        return
    offsets = np.sort(np.concatenate([reception.missed, reception.misread]))
    yield make_finding(
        "deaf-receiver",
        wire,
        Places.at(offsets if len(offsets) else np.full(spurious, -1)),
        missed=missed,
        misread=misread,
        spurious=spurious,
        framing=reception.characters.count(Fault.FRAMING),
    )


def _judge_losses(wire: str, result: Replay, limits: PathLimits, *, is_paused: bool) -> Iterator[Finding]:
    ring, service = result.path.ring, result.path.service
    slowest_s = limits.slowest_s if limits.slowest_s is not None and np.isfinite(limits.slowest_s) else None
    if len(stretches := _stretches(result.fate, (Fate.OVERRUN,))):
        size = result.path.fifo.size
        yield make_finding(
            "predicted-overrun",
            wire,
            _lost(result, (Fate.OVERRUN,)),
            total=len(result),
            **_how_many(stretches, "the FIFO" if size > 1 else "the data register", size),
            delay="period" if isinstance(service, PollingService) else "latency",
            slowest_s=slowest_s,
        )
    if len(stretches := _stretches(result.fate, BUFFERS)):
        in_block = result.count(Fate.BLOCK)
        what, size = ("the ring", ring.capacity) if ring is not None and not in_block else ("the block of DMA", 0)
        if isinstance(service, DmaService) and in_block:
            size = service.block
        needed = None if in_block else limits.ring_needed
        yield make_finding(
            "predicted-overflow",
            wire,
            _lost(result, BUFFERS),
            total=len(result),
            **_how_many(stretches, what, size),
            ring_needed=needed,
            ring_bound=None if needed is None else limits.ring_bound,
            slowest_s=slowest_s if in_block and needed is None else None,
            remedy=needed is not None or bool(in_block and slowest_s is not None),
            paused=is_paused,
        )
    for fate, kind in ((Fate.DISCARDED, "discarded-characters"), (Fate.HELD_BACK, "sender-overflow")):
        if result.count(fate):
            yield make_finding(kind, wire, _lost(result, (fate,)), total=len(result))


def _lost(result: Replay, fates: tuple[Fate, ...]) -> Places:
    """Return the characters that had one of some fates."""
    lost = np.flatnonzero(np.isin(result.fate, fates))
    return Places.at(lost, np.where(np.isfinite(result.arrived_s[lost]), result.arrived_s[lost], result.lost_s[lost]))


def _how_many(stretches: Offsets, stage: str, size: int) -> dict[str, Any]:
    """Return in how many stretches characters were lost, and for want of room where."""
    return {"stretches": len(stretches), "longest": int(stretches[:, 1].max()), "stage": stage, "size": size}


def _stretches(fate: npt.NDArray[np.uint8], fates: tuple[Fate, ...]) -> Offsets:
    """Return where characters in a row had one of some fates: first and how many, int64 of shape (n, 2)."""
    has = np.isin(fate, fates)
    turns = np.flatnonzero(np.diff(has, prepend=False, append=False)).reshape(-1, 2)
    return np.column_stack([turns[:, 0], turns[:, 1] - turns[:, 0]]).astype(np.int64)


def _judge_reads(wire: str, result: Replay, messages: Messages) -> Iterator[Finding]:
    """Yield the reads that are out of step with the messages, and the read that does not return."""
    application, reads, starts = result.path.application, result.reads, messages.starts
    is_whole = messages.is_whole
    if isinstance(application, BlockingApplication) and len(starts):
        lengths = np.diff(starts, append=len(result))
        sizes, times = np.unique(lengths, return_counts=True)
        usual = int(sizes[times.argmax()])
        is_usual = int(times.max()) > USUAL * len(lengths)
        if is_whole is None and is_usual and lengths[-1] == usual:
            is_whole = True
        whole = np.flatnonzero((reads.count == application.length) & (reads.first >= starts[0]))
        into = reads.first[whole] - starts[np.searchsorted(starts, reads.first[whole], side="right") - 1]
        wrong = whole[(into > 0) & (into < usual)]
        if application.length == usual and is_usual and len(wrong):
            first, inside = int(reads.first[wrong[0]]), int(into[np.searchsorted(whole, wrong[0])])
            short = int(np.count_nonzero(lengths[: np.searchsorted(starts, first)] != usual))
            yield make_finding(
                "misaligned-read",
                wire,
                Places.at(reads.first[wrong], reads.begin_s[wrong], wrong),
                certainty="likely" if messages.by_rests else "proven",
                total=len(whole),
                inside=inside,
                usual=usual,
                short=short or None,
                by_rests=messages.by_rests,
            )
    left = result.count(Fate.LEFT)
    capacity = result.path.ring.capacity if result.path.ring is not None else 0
    waits = isinstance(application, LineApplication) or (
        isinstance(application, BlockingApplication) and application.limit_s is None
    )
    is_full = left >= capacity > 0
    is_unfinished = bool(result.unfinished) or isinstance(application, LineApplication)
    if waits and left and (is_full or (is_unfinished and is_whole is not False)):
        is_certain = is_full or is_whole is True
        yield make_finding(
            "stuck-read",
            wire,
            severity=None if is_certain else "warning",
            certainty="proven" if is_certain else "possible",
            left=left,
            last_s=float(reads.end_s[-1]) if len(reads) else None,
        )


def _judge_room(wire: str, result: Replay, limits: PathLimits) -> Iterator[Finding]:
    """Yield where nothing is lost, but little room is left."""
    ring, service = result.path.ring, result.path.service
    if ring is not None and limits.ring_needed is not None and result.path.pause is None:
        needed = limits.ring_needed - (ring.size - ring.capacity)
        if needed > ROOM * ring.capacity:
            yield make_finding("little-room", wire, needed=needed, capacity=ring.capacity)
    declared = service.every_s if isinstance(service, PollingService) else getattr(service, "latency_s", 0.0)
    if limits.slowest_s is not None and declared > ROOM * limits.slowest_s:
        what = "period" if isinstance(service, PollingService) else "latency"
        yield make_finding("little-room", wire, delay=what, declared_s=declared, slowest_s=limits.slowest_s)


def _judge_waits(wire: str, result: Replay, line: LineSettings) -> Iterator[Finding]:
    """Yield that the end of a message waits in the hardware for the next, where nothing reports an idle line."""
    service, fifo = result.path.service, result.path.fifo
    if isinstance(service, DmaService):
        if "idle" in service.notices:
            return
        where, entered_s, left_s = "DMA's block", result.fetched_s, result.stored_s
    elif isinstance(service, InterruptService) and fifo.trigger > 1 and fifo.idle_characters is None:
        where, entered_s, left_s = "the FIFO", result.arrived_s, result.fetched_s
    else:
        return
    waits_s = (left_s - entered_s)[np.isfinite(left_s - entered_s)]
    left = int(np.count_nonzero(np.isfinite(entered_s) & np.isnan(left_s) & (result.fate == Fate.LEFT)))
    longest_s = float(waits_s.max(initial=0.0))
    deaf_s = sum(item.for_s for item in result.path.deaf)
    held = service.block if isinstance(service, DmaService) else fifo.trigger
    usual_s = service.latency_s + service.jitter_s + deaf_s + (held + LONG) * line.character_time_s
    if longest_s > usual_s or left:
        longest = longest_s if longest_s > usual_s else None
        yield make_finding("waiting-tail", wire, stage=where, longest_s=longest, left=left or None)


def _judge_processor(wire: str, result: Replay) -> Iterator[Finding]:
    if result.busy_share > BUSY:
        yield make_finding("busy-processor", wire, share=result.busy_share, longest_s=result.longest_busy_s)
