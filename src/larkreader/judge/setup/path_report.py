"""Whether a receive path keeps up with what arrives."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters, Fault
from larkreader.declare.document.sheet import Sheet
from larkreader.declare.link.line import LineSettings
from larkreader.declare.paths.receive_path import BlockingApplication, LineApplication, ReceivePath
from larkreader.declare.paths.receive_services import DmaService, InterruptService, PollingService, SoftwareReceiver
from larkreader.judge.findings.finding import Finding, Places, make_finding
from larkreader.simulate.buffers import replay
from larkreader.simulate.path_limits import PathLimits, find_limits
from larkreader.simulate.replayed import BUFFERS, HARDWARE, Fate, Replay, ReplayCounts
from larkreader.simulate.software_receiver import SoftwareReception, compare_reception, receive_in_software, trace_of

from .messages import Messages
from .path_facts import Lost, PathFacts

ROOM = 0.8  # of what there is, that may be taken: the rest is for what the sheet does not say
BUSY = 0.5  # of the processor's time
SEARCHED = 20_000  # characters up to which plan and decode search what a path could stand
LONG = 20.0  # character times beyond those until it is served, from which on a character waits for long
Offsets = npt.NDArray[np.int64]


@dataclass(frozen=True)
class PathSum:
    """What the receive path of a wire makes of what arrives, in counts.

    Parameters
    ----------
    wire : str
        The wire.
    line : LineSettings
        Its settings.
    replay : ReplayCounts
        What became of its characters.
    limits : PathLimits
        What the path could stand, if that was looked for.
    findings : tuple of Finding
        What is wrong or worth knowing.
    reception : SoftwareReception, optional
        What a receiver in software made of the wire; `replay` is of what it received.
    """

    wire: str
    line: LineSettings
    replay: ReplayCounts
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


@dataclass(frozen=True)
class PathReport(PathSum):
    """What the receive path of a wire makes of what arrives, character by character.

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

    replay: Replay


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
    back = other_line(sheet, wire)
    reception = None
    if isinstance(path.service, SoftwareReceiver):
        trace = trace_of(characters, line)
        reception = compare_reception(
            characters, receive_in_software(trace, line, path.deaf, start=path.service.start), line
        )
        characters, messages = reception.characters, None  # whose messages begin elsewhere
        path = path.model_copy(update={"deaf": tuple(item for item in path.deaf if item.stops == "everything")})
    if messages is None or isinstance(messages, np.ndarray):
        messages = Messages(np.empty(0, np.int64) if messages is None else messages)
    result = replay(characters, path, line, back=back)
    limits = find_limits(characters, path, line, back=back) if search else PathLimits()
    facts = PathFacts(path)
    facts.add(result)
    reads = facts.by_rests if messages.by_rests else facts.by_frames
    reads.add_messages(messages.starts)
    reads.close(len(result))
    findings = [
        *([] if reception is None else _judge_blackouts(wire, reception)),
        *conclude_path(wire, line, result, facts, limits, is_whole=messages.is_whole, by_rests=messages.by_rests),
    ]
    return PathReport(wire, line, result, limits, tuple(findings), reception)


def other_line(sheet: Sheet, wire: str) -> LineSettings | None:
    """Return the settings of the only other wire, on which pause characters travel; None if there is not one."""
    others = [item.line for key, item in sheet.wire.items() if key != wire]
    return others[0] if len(others) == 1 else None


def conclude_path(
    wire: str,
    line: LineSettings,
    result: ReplayCounts,
    facts: PathFacts,
    limits: PathLimits,
    *,
    is_whole: bool | None,
    by_rests: bool,
) -> Iterator[Finding]:
    """Yield what is wrong with a receive path, from what became of its characters.

    Parameters
    ----------
    wire : str
        The wire.
    line : LineSettings
        Its settings.
    result : ReplayCounts
        How many characters had which fate, and so on.
    facts : PathFacts
        What else the findings are concluded from.
    limits : PathLimits
        What the path could stand, if that was looked for.
    is_whole, by_rests
        As of `Messages`.
    """
    yield from _judge_losses(
        wire, result, facts, limits, is_paused=result.path.pause is not None and line.flow_control != "none"
    )
    yield from _judge_reads(wire, result, facts, is_whole=is_whole, by_rests=by_rests)
    if not any(result.count(fate) for fate in (Fate.OVERRUN, *BUFFERS)):
        yield from _judge_room(wire, result, limits)
    if result.busy_share > BUSY:
        yield make_finding("busy-processor", wire, share=result.busy_share, longest_s=result.longest_busy_s)
    yield from _judge_waits(wire, result, facts, line)


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


def _judge_losses(
    wire: str, result: ReplayCounts, facts: PathFacts, limits: PathLimits, *, is_paused: bool
) -> Iterator[Finding]:
    ring, service = result.path.ring, result.path.service
    slowest_s = limits.slowest_s if limits.slowest_s is not None and np.isfinite(limits.slowest_s) else None
    if (lost := facts.lost[HARDWARE]).count:
        size = result.path.fifo.size
        yield _loss(
            "predicted-overrun",
            wire,
            lost,
            result,
            **_how_many(lost, "the FIFO" if size > 1 else "the data register", size),
            delay="period" if isinstance(service, PollingService) else "latency",
            slowest_s=slowest_s,
        )
    if (lost := facts.lost[BUFFERS]).count:
        in_block = result.count(Fate.BLOCK)
        what, size = ("the ring", ring.capacity) if ring is not None and not in_block else ("the block of DMA", 0)
        if isinstance(service, DmaService) and in_block:
            size = service.block
        needed = None if in_block else limits.ring_needed
        yield _loss(
            "predicted-overflow",
            wire,
            lost,
            result,
            **_how_many(lost, what, size),
            ring_needed=needed,
            ring_bound=None if needed is None else limits.ring_bound,
            slowest_s=slowest_s if in_block and needed is None else None,
            remedy=needed is not None or bool(in_block and slowest_s is not None),
            paused=is_paused,
        )
    for fate, kind in ((Fate.DISCARDED, "discarded-characters"), (Fate.HELD_BACK, "sender-overflow")):
        if (lost := facts.lost[fate,]).count:
            yield _loss(kind, wire, lost, result)


def _loss(kind: str, wire: str, lost: Lost, result: ReplayCounts, **evidence: Any) -> Finding:
    """Make a finding on lost characters, of which only the first places may be kept."""
    finding = make_finding(kind, wire, lost.places, total=len(result), **evidence)
    return replace(finding, more=lost.count - len(lost.places))


def _how_many(lost: Lost, stage: str, size: int) -> dict[str, Any]:
    """Return in how many stretches characters were lost, and for want of room where."""
    return {"stretches": lost.stretches, "longest": lost.longest, "stage": stage, "size": size}


def _judge_reads(
    wire: str, result: ReplayCounts, facts: PathFacts, *, is_whole: bool | None, by_rests: bool
) -> Iterator[Finding]:
    """Yield the reads that are out of step with the messages, and the read that does not return."""
    application = result.path.application
    reads = facts.by_rests if by_rests else facts.by_frames
    if isinstance(application, BlockingApplication) and reads.messages:
        if is_whole is None and reads.is_usual and reads.last == reads.usual:
            is_whole = True
        if application.length == reads.usual and reads.is_usual and reads.wrong:
            finding = make_finding(
                "misaligned-read",
                wire,
                reads.places,
                certainty="likely" if by_rests else "proven",
                total=reads.total,
                inside=reads.inside,
                usual=reads.usual,
                short=reads.odd or None,
                by_rests=by_rests,
            )
            yield replace(finding, more=reads.wrong - len(reads.places))
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
            last_s=facts.last_read_s,
        )


def _judge_room(wire: str, result: ReplayCounts, limits: PathLimits) -> Iterator[Finding]:
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


def _judge_waits(wire: str, result: ReplayCounts, facts: PathFacts, line: LineSettings) -> Iterator[Finding]:
    """Yield that the end of a message waits in the hardware for the next, where nothing reports an idle line."""
    service, fifo, where = result.path.service, result.path.fifo, facts.waits_in
    if where is None or not isinstance(service, (DmaService, InterruptService)):
        return
    deaf_s = sum(item.for_s for item in result.path.deaf)
    held = service.block if isinstance(service, DmaService) else fifo.trigger
    usual_s = service.latency_s + service.jitter_s + deaf_s + (held + LONG) * line.character_time_s
    longest_s = facts.longest_wait_s if facts.longest_wait_s > usual_s else None
    if longest_s is not None or facts.waiting:
        yield make_finding("waiting-tail", wire, stage=where, longest_s=longest_s, left=facts.waiting or None)
