"""Findings about what is sent: cut off, written over, dropped, or let go too late."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np

from larkreader.declare.link.line import LineSettings
from larkreader.judge.findings.finding import Finding, Places, make_finding
from larkreader.simulate.send_path import SendFate, SendReplay


def judge_send_path(wire: str, replay: SendReplay, line: LineSettings) -> Iterator[Finding]:
    """Yield what is wrong with a send path.

    Parameters
    ----------
    wire : str
        The wire.
    replay : SendReplay
        Messages that ran through it.
    line : LineSettings
        The wire's settings.

    Yields
    ------
    Finding
    """
    call, direction = replay.path.call, replay.path.direction
    for fate, kind in ((SendFate.OVERWRITTEN, "overwritten-value"), (SendFate.DROPPED, "send-overflow")):
        lost = np.flatnonzero(replay.fate == fate)
        if lost.size:
            called_s = replay.called_s[np.searchsorted(replay.first, lost, side="right") - 1]
            yield make_finding(kind, wire, Places.at(lost, called_s), total=len(replay.fate))
    cut = np.flatnonzero((replay.fate == SendFate.CUT) | (replay.fate == SendFate.BROKEN))
    owners, firsts = np.unique(np.searchsorted(replay.first, cut, side="right") - 1, return_index=True)
    if owners.size:
        message = int(owners[0])
        evidence: dict[str, Any] = {}
        if call.length is not None and call.length < replay.count[message]:
            evidence = {"sent": call.length, "length": int(replay.count[message])}
        elif replay.count_of(SendFate.BROKEN) and direction is not None:
            evidence = {"short_s": float(replay.done_s[message] - replay.released_s[message])}
        places = Places.at(cut[firsts], replay.called_s[owners], owners)
        yield make_finding("cut-tail", wire, places, total=len(replay), lost=len(cut), **evidence)
    if call.limit_s is not None and len(replay):
        longest = int(replay.count.max())
        waits = longest if call.returns == "sent" else max(longest - 1 - replay.path.fifo - replay.path.buffer, 0)
        needed_s = waits * line.character_time_s
        if needed_s > call.limit_s:
            done = "sent" if call.returns == "sent" else "handed on"
            times = {"needed_s": needed_s, "limit_s": call.limit_s}
            yield make_finding("short-limit", wire, length=longest, done=done, **times)
    if call.counts_nul:
        yield make_finding("sent-nul", wire)
    if direction is not None and direction.reply_after_s is not None:
        held_s = replay.released_s + direction.latency_s - replay.done_s
        late = np.flatnonzero(held_s > direction.reply_after_s)
        if late.size:
            places = Places.at(None, replay.done_s[late], late)
            times = {"late_s": float(held_s[late].max()), "reply_s": direction.reply_after_s}
            yield make_finding("late-release", wire, places, total=len(replay), **times)
