"""The messages of all wires in order of time, with what answers what, while a command listens."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

import numpy as np

from larkreader.judge.measure.pair_columns import PairState
from larkreader.present.tables.timeline_rows import TimelineRows
from larkreader.present.tables.timeline_views import timeline_table
from larkreader.present.text import terminal

from .common import console_form

if TYPE_CHECKING:
    from larkreader.answers.live_reading import LiveReading
    from larkreader.answers.reading import Reading

HOLD_S = 1.0  # for which a message waits for its reply, or for the rest of an earlier message, before it is shown


class LiveMessages:
    """Shows messages once it is known what became of them.

    Parameters
    ----------
    reading : LiveReading
        What judges them, with all wires together.
    show : callable
        Takes rows.
    """

    def __init__(self, reading: LiveReading, show: Callable[[Sequence[str]], None]) -> None:
        self._reading, self._show = reading, show
        self._shown: dict[str, int] = {}  # by wire, up to which character
        self._is_headed = False

    def look(self, now_s: float, *, is_over: bool = False) -> None:
        """Show the messages that are certain now; all that are left once it `is_over`."""
        recent, passed = self._reading.recent(), self._reading.passed
        rows = TimelineRows(recent, console_form()[1], passed, goes_on=True)
        timeline = rows.timeline
        if not len(timeline):
            return
        until_s = np.inf if is_over else _certain_until(recent, now_s)
        before = np.array([self._shown.get(wire, 0) - passed.characters[wire] for wire in timeline.wires])
        new = np.flatnonzero((timeline.offset >= before[timeline.wire]) & (timeline.begin_s < until_s))
        if not len(new):
            return
        for number, wire in enumerate(timeline.wires):
            own = new[timeline.wire[new] == number]
            if len(own):
                self._shown[wire] = int(timeline.offset[own[-1]]) + 1 + passed.characters[wire]
        console = terminal.make_console()
        wires, pairings = tuple(recent.sheet.wire), len(recent.pairs)
        table = timeline_table(rows.entries(new), wires, pairings=pairings, width=console.width, goes_on=True)
        table.show_header, self._is_headed = not self._is_headed, True
        with console.capture() as captured:
            console.print(table)
        self._show(captured.get().rstrip("\n").split("\n"))


def _certain_until(recent: Reading, now_s: float) -> float:
    """Return the time before which nothing can change any more: all messages are whole, requests are answered."""
    waiting = [now_s]
    timeline = recent.timeline
    for pairs in recent.pairs.values():
        waiting += timeline.begin_s[pairs.request[pairs.state == PairState.OPEN]].tolist()
    for number, wire in enumerate(timeline.wires):
        rows = timeline.wire == number
        end = int((timeline.offset[rows] + timeline.length[rows]).max(initial=0))
        if end < len(recent.characters[wire]):
            waiting.append(float(recent.characters[wire].begin_s[end]))
    return min(at_s for at_s in waiting if at_s > now_s - HOLD_S)
