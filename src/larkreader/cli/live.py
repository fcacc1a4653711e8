"""What the commands on a live port share: showing, recording and judging what passes, both ways."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import click

from .common import note, note_waiting, say_what_is_worth_knowing
from .live_stages import Stages

if TYPE_CHECKING:
    from larkreader.declare.document.sheet import Sheet
    from larkreader.declare.link.line import LineSettings
    from larkreader.exercise.ports.port import Port, Received
    from larkreader.present.text.views import View

    from .live_findings import LiveFindings
    from .live_recording import Writer
    from .screen import Screen


TOGETHER_S = 0.02  # what arrives from one side within this time is shown together
LONGEST_GROUP_S = 0.1  # but not for longer than this
CERTAIN_S = 0.001  # looks at two sides so close together leave no doubt about their order
RATE_S = 1.0  # over which rates are taken
MOST_EXCHANGES = 1000  # of which the answers are judged
KEPT = 1 << 16  # characters of a wire that are judged at the end

DRIVER_COUNTS = {"overruns": "overrun", "buffer overflows": "overflow"}  # as a recording names them


@dataclass
class _Wire:
    """What is known of one wire."""

    port: Port
    began_s: float
    line: LineSettings | None = None
    count: int = 0
    faulty: int = 0
    looked_s: float = 0.0
    finest_s: float = 0.0
    is_sent: bool = False
    recent: deque[tuple[float, int]] = field(default_factory=lambda: deque([(0.0, 0)], maxlen=64))
    pieces: list[tuple[float, bytes, bytes]] = field(default_factory=list)

    def rate(self, now_s: float) -> float:
        """Return characters a second, over the last second or so."""
        while len(self.recent) > 1 and self.recent[1][0] <= now_s - RATE_S:
            self.recent.popleft()
        since_s, count = self.recent[0]
        return (self.count - count) / (now_s - since_s) if now_s > since_s else 0.0


@dataclass
class _Group:
    """What has come from one side together."""

    wire: str
    at_s: float
    offset: int
    is_uncertain: bool = False
    is_left_out: bool = False
    data: bytes = b""
    faults: bytes = b""
    last_s: float = 0.0


class Timeline:
    """Shows what is sent and received, on one clock; counts it, records it if asked, and judges it at the end.

    Parameters
    ----------
    ports : dict of str to Port
        Which wires there are, and the port of each.
    writers : sequence of RecordingWriter or RolledRecording
        Where to record.
    view : View, optional
        How to show what passes; it is not shown unless given.
    show : callable
        Takes the rows of a wire.
    judge : LiveFindings, optional
        What judges what arrives, as it arrives.
    """

    def __init__(
        self,
        ports: dict[str, Port],
        writers: Sequence[Writer],
        view: View | None,
        show: Callable[[str, Iterator[str]], None],
        judge: LiveFindings | None = None,
    ) -> None:
        self._judge = judge
        self.failures: list[str] = []
        self._wires = {wire: _Wire(port, port.now_s(), port.line) for wire, port in ports.items()}
        self._writers = list(writers)
        is_counted = bool(writers) or judge is not None
        self._counted = {wire: _counted_by(port) for wire, port in ports.items()} if is_counted else {}
        self._view = view
        self._show = show
        self._group: _Group | None = None
        self._last: tuple[str, float] | None = None
        self._floor_s = 0.0
        self.stages = Stages()
        self.taken_until_s: float | None = None  # by when all that arrived is taken in, where a thread reads
        self.exchanges: list[tuple[bytes, bytes]] = []
        self._is_answer_kept = False

    def now_s(self, wire: str) -> float:
        """Return the seconds since the timeline began."""
        state = self._wires[wire]
        return state.port.now_s() - state.began_s

    def sent(self, wire: str, data: bytes, at_s: float) -> None:
        """Take in what was sent at a time."""
        self._wires[wire].is_sent = True
        self._add(wire, at_s, at_s, data, b"")

    def begin_exchange(self, message: bytes) -> None:
        """Take what arrives from now on for the answer to a message."""
        self._is_answer_kept = len(self.exchanges) < MOST_EXCHANGES
        if self._is_answer_kept:
            self.exchanges.append((message, b""))

    def earlier(self, wire: str, arrivals: Sequence[tuple[float, float, Received]]) -> None:
        """Take in what arrived on a wire before its name was known: each from when to when, on the port's clock."""
        state = self._wires[wire]
        if arrivals:
            state.began_s = arrivals[0][0]
        for since_s, now_s, received in arrivals:
            state.looked_s = now_s - state.began_s
            if received.data:
                state.finest_s = max(state.finest_s, now_s - since_s)
                self._add(wire, state.looked_s, since_s - state.began_s, received.data, received.faults)

    def look(self, wire: str, received: Received) -> None:
        """Take in what a look at a wire brought, even if it was nothing."""
        from larkreader.exercise.ports.replayed import ReplayPort

        state, now_s = self._wires[wire], self.now_s(wire)
        since_s, state.looked_s = state.looked_s, now_s
        if received.data:
            if not isinstance(state.port, ReplayPort):
                state.finest_s = max(state.finest_s, now_s - since_s)
            self._add(wire, now_s, since_s, received.data, received.faults)
            if self._is_answer_kept:
                message, answer = self.exchanges[-1]
                self.exchanges[-1] = (message, (answer + received.data)[:KEPT])

    def arrived(self, wire: str, since_s: float, at_s: float, received: Received) -> None:
        """Take in what arrived on a wire from one time to another, on the port's clock, however late it is taken in."""
        state = self._wires[wire]
        state.finest_s = max(state.finest_s, at_s - since_s)
        behind_s = state.port.now_s() - at_s
        is_thinned = self._view is not None and self._view.is_thinned
        is_shown = self.stages.is_shown(behind_s, len(received.data) if is_thinned else 0)
        self._add(wire, at_s - state.began_s, since_s - state.began_s, *received[::2], is_shown=is_shown)

    def _add(
        self, wire: str, at_s: float, since_s: float, data: bytes, faults: bytes, *, is_shown: bool = True
    ) -> None:
        from larkreader.capture.characters import Fault
        from larkreader.present.text.views import CharacterView

        state = self._wires[wire]
        at_s = self._floor_s = max(at_s, self._floor_s)  # of two ports one may be taken in after the other
        counted = self._newly_counted(wire) if self._counted else {}
        with self.stages.stage("record"):
            self._record(at_s, wire, data, faults, counted)
        if self._judge is not None:
            with self.stages.stage("judge"):
                self._judge.feed(wire, data, at_s, faults, counted)
        is_uncertain = self._last is not None and self._last[0] != wire and self._last[1] - since_s > CERTAIN_S
        self._last = (wire, at_s)
        group = self._group
        if group is None or group.wire != wire or at_s - group.last_s > TOGETHER_S:
            self.show()
            group = self._group = _Group(wire, at_s, state.count, is_uncertain)
        group.data, group.last_s = group.data + data, at_s
        group.faults += faults or bytes(len(data))
        state.count += len(data)
        state.faulty += sum(1 for fault in faults if fault and not fault & Fault.BY_BLOCK)
        state.recent.append((at_s, state.count))
        if state.count <= KEPT:
            state.pieces.append((at_s, data, faults))
        group.is_left_out |= not is_shown
        if at_s - group.at_s > LONGEST_GROUP_S or not isinstance(self._view, CharacterView) or not is_shown:
            self.show()

    def _record(self, at_s: float, wire: str, data: bytes, faults: bytes, counted: dict[str, int]) -> None:
        for writer in list(self._writers):
            try:
                writer.add(at_s, wire, data, faults, counted)
            except OSError as error:
                if isinstance(error, BrokenPipeError):
                    raise
                self._writers.remove(writer)  # what arrives is still shown and judged
                self.failures.append(f"the recording ends at {at_s:.3f} s: {error.strerror or error}")
                note(f"error: {self.failures[-1]}")

    def show(self) -> None:
        """Show what has come together: when nothing more has come for a moment, or the other side speaks."""
        from larkreader.present.text.views import Arrival

        group, self._group = self._group, None
        if group is None or self._view is None:
            return
        where = (group.wire, group.at_s, group.offset)
        arrival = Arrival(*where, group.data, group.faults, is_uncertain=group.is_uncertain)
        with self.stages.stage("show"):
            rows = self._view.leave_out(arrival) if group.is_left_out else self._view.take(arrival)
            self._show(group.wire, rows)

    def _newly_counted(self, wire: str) -> dict[str, int]:
        """Return what the driver of a wire's port has counted as lost since it was last asked."""
        if self._wires[wire].is_sent:
            return {}
        now = _counted_by(self._wires[wire].port)
        before, self._counted[wire] = self._counted[wire], now
        return {name: risen for name, count in now.items() if (risen := count - before.get(name, count)) > 0}

    def idle(self) -> None:
        """Show what should wait no longer, now that nothing arrived."""
        self.show()
        if self._view is not None:
            now_s = max(self.now_s(wire) for wire in self._wires)
            for wire, row in self._view.idle(now_s):
                self._show(wire, iter([row]))

    def judge(self) -> bool:
        """Show what was found since, if it is time; return whether what was waited for has happened."""
        if self._judge is None:
            return False
        now_s = max(self.now_s(wire) for wire in self._wires) if self.taken_until_s is None else self.taken_until_s
        self._floor_s = max(self._floor_s, now_s)
        with self.stages.stage("judge"):
            self._judge.look(self._floor_s)
        with self.stages.stage("draw"):
            self.stages.count_drawn(self._judge.draw(self._floor_s))
        return self._judge.is_over

    def status(self) -> list[str]:
        """Return of each wire in a few words what passes on it, and what was found."""
        parts = [] if self._judge is None else [self._judge.status()]
        parts += [f"{self.stages.not_shown:,} characters not shown, for want of time"] if self.stages.not_shown else []
        for wire, item in self._wires.items():
            rate = item.rate(self.now_s(wire))
            share = f", {100 * rate / item.line.characters_per_second:.0f} % of the line" if item.line and rate else ""
            result = self._view.summary(wire) if self._view else ""
            asserted = [name for name, is_on in item.port.modem_lines().items() if is_on]
            parts.append(
                f"{wire} {item.count:,} ({rate:,.0f}/s{share}){_faulty(item)}{'; ' + result if result else ''}"
                f"{'; asserted ' + ' '.join(asserted) if asserted else ''}"
            )
        return parts

    def close(self) -> Iterator[str]:
        """Show what is left, and yield what there is to say about the whole."""
        self.show()
        if self._view is not None:
            for wire, row in self._view.rest():
                self._show(wire, iter([row]))
        for wire, item in self._wires.items():
            result = self._view.summary(wire) if self._view else ""
            result = f"; {result}" if result and item.count else ""
            yield f"{wire} {item.count:,} character{'' if item.count == 1 else 's'}{_faulty(item)}{result}"
        if self.stages.not_shown:
            yield f"{self.stages.not_shown:,} characters were not shown, for want of time; all of them are judged"
        from larkreader.judge.findings.wording import duration

        for wire, item in self._wires.items():
            if item.count and not item.is_sent and item.finest_s:
                yield f"times of {wire} are those of arrival, known to {duration(item.finest_s)}"

    def findings(self, framed: Sequence[str], ending: str | None) -> Iterator[Any]:
        """Yield what strikes the eye in what was received; `framed` are the wires that carry frames."""
        from larkreader.capture.characters import Characters
        from larkreader.judge.verdict.arrivals import judge_arrivals
        from larkreader.present.text.views import LineView

        nothing_sent = not any(item.is_sent and item.count for item in self._wires.values())
        for wire, item in self._wires.items():
            if not item.pieces or item.is_sent:
                continue
            yield from judge_arrivals(
                wire,
                Characters.from_groups(item.pieces),
                line=item.line,
                slack_s=TOGETHER_S if nothing_sent else None,
                framed=wire in framed,
                ending=ending,
                as_text=isinstance(self._view, LineView),
                exchanges=self.exchanges,
            )


def shower(
    screen: Screen, view: View, halves_of: Sequence[str] = (), width: int = 0, *, quiet: bool = False
) -> Callable[[str, Iterator[str]], None]:
    """Return what shows the rows of a wire: below each other, or each wire in its own half."""
    from larkreader.present.text.views import beside, halves

    headed: list[str] = []

    def show(wire: str, rows: Iterator[str]) -> None:
        found = list(rows)
        if quiet or not found:
            return
        if not headed and view.heading():
            headed.append(view.heading())
            screen.rows(halves(halves_of[0], halves_of[1], headed[0], width) if halves_of else headed)
        screen.rows([beside(halves_of[0], row, wire, width) for row in found] if halves_of else found)

    return show


def say_findings(found: Iterator[Any]) -> None:
    """Say findings on standard error."""
    for finding in found:
        note(f"{finding.severity} {finding.kind} on {finding.wire}: {finding.text}")
        note(f"Fix: {finding.advice}")
        if finding.kind == "undeclared-ending":
            note("By default lines may have any ending; --ending names the ending that is expected.")


@contextmanager
def open_named(
    name: str,
    declared: Sheet | None,
    line: LineSettings | None,
    *,
    far: LineSettings | None = None,
    quiet: bool = False,
) -> Iterator[Port]:
    """Open a port by its name, or by its name on the sheet, and start the session as the sheet says.

    `far` are the settings of the far end of a stand-in, `quiet` leaves out the notes about the port. Ends the
    command with status 1 if the device is never ready.
    """
    from larkreader.exercise.ports.open import open_by_name
    from larkreader.exercise.talk.session import start_session
    from larkreader.present.text.notation import visible

    known = declared.port.get(name) if declared else None
    if not quiet:
        note_waiting(name if known is None else known.at)
    with open_by_name(name, declared, line, far=far) as port:
        if not quiet:
            say_what_is_worth_knowing(port)
        given = len(port.notes)
        before = port.error_counters()
        try:
            if known is not None:
                started = start_session(port, known)
                for item in started.notes:
                    note(f"note: {item}")
                if started.before:
                    text = visible(started.before[-60:])
                    note(f"before it was ready, {len(started.before):,} characters: {text}")
                say_findings(iter(started.findings))
                if started.findings:
                    raise click.exceptions.Exit(1)
            yield port
        finally:
            _say_what_the_driver_counted(port, before)
            port.close()
            for item in port.notes[given:]:  # what closing could not restore
                note(f"note: {item}")


def _counted_by(port: Port) -> dict[str, int]:
    """Return what a port's driver has counted as lost, as a recording names it."""
    return {DRIVER_COUNTS[name]: count for name, count in port.error_counters().items() if name in DRIVER_COUNTS}


def _say_what_the_driver_counted(port: Port, before: Mapping[str, int]) -> None:
    """Say how many errors the port's driver has counted while it was open."""
    after = port.error_counters()
    risen = {name: after[name] - before[name] for name in after if name in before and after[name] > before[name]}
    if fates := port.path_fates():
        result = ", ".join(f"{count:,} {fate}" for fate, count in fates.items())
        note(f"in the receive path of the far end: {result}")
    if risen:
        note(f"the driver of {port.name} counted " + ", ".join(f"{count:,} {name}" for name, count in risen.items()))


def _faulty(wire: _Wire) -> str:
    return f", {wire.faulty:,} of them faulty" if wire.faulty else ""
