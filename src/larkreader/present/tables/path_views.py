"""What receive and send paths make of their characters, as text for a terminal."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from rich.console import Group
from rich.table import Table

from larkreader.declare.common.percent import percent_text
from larkreader.declare.paths.receive_path import BlockingApplication, PeriodicApplication, ReceivePath
from larkreader.declare.paths.receive_services import DmaService, InterruptService, PollingService
from larkreader.judge.findings.wording import duration
from larkreader.judge.setup.path_report import PathSum
from larkreader.judge.wire.pauses import Pauses
from larkreader.present.text.terminal import kept_whole, new_table
from larkreader.simulate.path_limits import PathLimits
from larkreader.simulate.replayed import BUFFERS, Fate, ReplayCounts
from larkreader.simulate.send_path import SendFate, SendReplay

FATES = {
    Fate.TAKEN: "taken",
    Fate.OVERRUN: "lost by the hardware",
    Fate.BLOCK: "overwritten in the block",
    Fate.DROPPED: "dropped, the ring was full",
    Fate.OVERWRITTEN: "overwritten in the ring",
    Fate.DISCARDED: "thrown away by the application",
    Fate.HELD_BACK: "never sent",
    Fate.LEFT: "on their way at the end",
}


def receive_paths(paths: Mapping[str, PathSum]) -> Group:
    """Show stage by stage how full each was, what was lost there, and what would do."""
    parts: list[Any] = []
    for wire, item in paths.items():
        result, limits, path = item.replay, item.limits, item.replay.path
        table = new_table(wire, ">holds", ">at most", ">enough", ">by arithmetic", ">lost")
        for stage in result.stages:
            table.add_row(stage, *_stage(stage, result, limits))
        ends = ", ".join(f"{result.count(fate):,} {text}" for fate, text in FATES.items() if result.count(fate))
        parts += [*([""] if parts else []), table, "", f"{len(result):,} characters: {ends or 'none'}."]
        parts += [_service(path, result, limits), *_application(result), *_pauses(item)]
        if item.reception is not None:
            reception = item.reception
            parts.append(
                f"The software receiver reads {len(reception.characters):,}: {len(reception.missed):,} are missed, "
                f"{len(reception.misread):,} misread, {len(reception.spurious):,} begin on a data bit."
            )
    return Group(*parts)


def paths_in_short(paths: Mapping[str, PathSum]) -> Group:
    """Show in one row each the paths that lose nothing, and the others in full."""
    table = new_table("receive path", ">characters", "at most of what it holds", ">taken")
    troubled: dict[str, PathSum] = {}
    for wire, path in paths.items():
        result = path.replay
        fill = ", ".join(
            f"{stage} {_stage(stage, result, path.limits)[1]} of {holds_of(stage, result):,}" for stage in result.stages
        )
        table.add_row(wire, f"{len(result):,}", fill, f"{result.count(Fate.TAKEN):,}")
        if result.lost or path.findings:
            troubled[wire] = path
    rest: list[Any] = ["", receive_paths(troubled)] if troubled else []
    return Group(table, *rest)


def holds_of(stage: str, result: ReplayCounts) -> int:
    """Return how many characters a stage can hold."""
    path = result.path
    if stage == "ring" and path.ring is not None:
        return path.ring.capacity
    if stage == "block" and isinstance(path.service, DmaService):
        return path.service.block
    return path.fifo.size + path.fifo.shift_waits


def _stage(stage: str, result: ReplayCounts, limits: PathLimits) -> tuple[str, str, str, str, str]:
    """Return what a stage holds, held at most, needs, needs by arithmetic, and how many it lost."""
    path, most = result.path, f"{result.high_water(stage):,}"
    if stage == "ring" and path.ring is not None:
        lost = result.count(Fate.DROPPED) + result.count(Fate.OVERWRITTEN)
        return f"{path.ring.capacity:,}", most, _number(limits.ring_needed), _number(limits.ring_bound), f"{lost:,}"
    if stage == "block" and isinstance(path.service, DmaService):
        return f"{path.service.block:,}", most, "-", "-", f"{result.count(Fate.BLOCK):,}"
    waits = " + 1" if path.fifo.shift_waits else ""
    return f"{path.fifo.size:,}{waits}", most, "-", "-", f"{result.count(Fate.OVERRUN):,}"


def _service(path: ReceivePath, result: ReplayCounts, limits: PathLimits) -> str:
    service = path.service
    if isinstance(service, (InterruptService, DmaService)):
        what = "Interrupts" if isinstance(service, InterruptService) else "DMA's notices are served"
        when = f"{what} after {duration(service.latency_s)}"
    elif isinstance(service, PollingService):
        when = f"A look every {duration(service.every_s)}"
    else:
        return "The receiver is in software."
    when += f" and up to {duration(service.jitter_s)} more" if service.jitter_s else ""
    if limits.slowest:
        when += f"; {_slowest(limits)}"
    looks = f" in {result.looks:,} looks" if result.looks != result.services else ""
    busy = f"{result.services:,} times at work{looks}"
    if result.busy_s:
        longest = duration(result.longest_busy_s)
        busy += f", {percent_text(result.busy_share)} of the processor, {longest} at most without a rest"
    return f"{when}. {busy[0].upper()}{busy[1:]}."


def _slowest(limits: PathLimits) -> str:
    if limits.slowest_s is None:
        return "even if it followed at once, the hardware would lose some"
    if limits.slowest_s == float("inf"):
        return "the hardware loses nothing however late it is"
    bound_s = limits.slowest_bound_s
    result = f", by arithmetic {duration(bound_s)}" if bound_s is not None else ""
    return f"up to {duration(limits.slowest_s)} the hardware loses nothing{result}"


def _application(result: ReplayCounts) -> list[str]:
    application = result.path.application
    if application is None:
        return []
    if isinstance(application, BlockingApplication):
        limit = f" or {duration(application.limit_s)} are over" if application.limit_s is not None else ""
        text = (
            f"Reads wait until {application.length:,} are there{limit}: {result.reads_complete:,} returned whole, "
            f"{result.reads_by_time:,} in part, {result.empty_reads:,} empty."
        )
        return [text + (f" A read waits at the end, with {result.unfinished:,}." if result.unfinished else "")]
    what = "takes" if isinstance(application, PeriodicApplication) else "takes lines"
    reads = result.reads_complete + result.reads_by_time
    times = "once" if reads == 1 else f"{reads:,} times"
    return [f"The application looks every {duration(application.every_s)} and {what}: {times}."]


def _pauses(report: PathSum) -> list[str]:
    result, limits, pause = report.replay, report.limits, report.replay.path.pause
    if pause is None or report.line.flow_control == "none":
        return []
    times = "1 pause is" if result.pauses == 1 else f"{result.pauses:,} pauses are"
    held = f"; the sender holds back {result.most_held:,} at most" if result.pauses else ""
    text = f"{times} asked for at {pause.at:,} and over at {pause.resume_at:,}{held}."
    if limits.marks is not None:
        low, high = limits.marks
        text += f" Marks from {low:,} to {high:,} lose nothing"
        text += f", by arithmetic up to {limits.marks_bound:,}." if limits.marks_bound is not None else "."
    return [text]


def send_paths(sends: Mapping[str, SendReplay]) -> Group:
    """Show what becomes of the messages of each wire, and how long the code waits for it."""
    table = new_table("wire", ">messages", ">characters", ">sent", "not sent", ">blocked", ">longest")
    names = {SendFate.OVERWRITTEN: "overwritten", SendFate.CUT: "cut", SendFate.DROPPED: "dropped"}
    names[SendFate.BROKEN] = "broken off"
    for wire, result in sends.items():
        lost = ", ".join(f"{result.count_of(fate):,} {name}" for fate, name in names.items() if result.count_of(fate))
        blocked = result.to_dict()["blocked_s"]
        table.add_row(
            wire,
            f"{len(result):,}",
            f"{len(result.fate):,}",
            f"{result.count_of(SendFate.SENT):,}",
            lost or "none",
            percent_text(blocked["share"], ".1f"),
            duration(blocked["longest"]),
        )
    return Group(kept_whole(table, 1))


def lost_of(result: ReplayCounts) -> int:
    """Return how many characters hardware and buffers lost."""
    return result.count(Fate.OVERRUN) + sum(result.count(fate) for fate in BUFFERS)


def _number(count: int | None) -> str:
    return "-" if count is None else f"{count:,}"


def pauses_table(every: Mapping[str, Pauses]) -> Table:
    """Show how late senders stopped when a pause was requested: median and worst, in characters and in time."""
    heads = (">pauses", ">stopped late", ">chars after", ">worst", ">last after", ">worst", ">allowed")
    table = new_table("paused wire", *heads)
    for wire, pauses in every.items():
        held = pauses.to_dict()
        after, last = held["characters_after"], held["last_after_s"]
        counts = ["-" if item is None else f"{item:g}" for item in (after["median"], after["most"])]
        times = ["-" if item is None else duration(item) for item in (last["median"], last["most"])]
        numbers = (f"{len(pauses):,}", f"{held['stopped_late']:,}", *counts, *times, duration(pauses.allowed_s))
        table.add_row(wire, *numbers)
    return table
