"""What is judged while a command listens: findings between the rows, the verdict at the end."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping, Sequence
from typing import TYPE_CHECKING, Any, NamedTuple

from .common import note
from .judge_options import Around, JudgeOptions, parse_kinds

if TYPE_CHECKING:
    from larkreader.answers.live_reading import LiveReading
    from larkreader.judge.findings.finding import Finding

    from .live_messages import LiveMessages
    from .live_plot import LivePlot

LOOK_S = 0.5  # between looks at what was found, on the clock of the link
LOOK_AT_MESSAGES_S = 0.1  # the same where messages are shown
LEISURE = 4.0  # times as long as a look takes, before the next
GROWN = 2  # times as often as it was shown, from which a finding is shown again


class _Look(NamedTuple):
    """The last look at what was found: when, on the clock of the link and in real time, and how long it took."""

    link_s: float
    at_s: float
    took_s: float


class LiveFindings:
    """Judges what arrives while a command listens, and shows findings as they turn up.

    Parameters
    ----------
    reading : LiveReading
        What judges.
    show : callable
        Takes rows.
    options : JudgeOptions
        What ends listening, and what fails it.
    messages : LiveMessages, optional
        Shows messages too.
    around : Around, optional
        Records what stands around findings.
    plot : LivePlot, optional
        Draws fields.
    is_patient : bool
        Whether what arrives waits for each look, as a recording does; else a look is left out where there is no time.
    """

    def __init__(
        self,
        reading: LiveReading,
        show: Callable[[Sequence[str]], None],
        options: JudgeOptions,
        messages: LiveMessages | None = None,
        around: Around | None = None,
        plot: LivePlot | None = None,
        *,
        is_patient: bool = False,
    ) -> None:
        self.reading, self._around, self._plot = reading, around, plot
        self._messages, self._every_s = messages, LOOK_S if messages is None else LOOK_AT_MESSAGES_S
        self._show, self._options = show, options
        self._end, self._is_end = options.end(), parse_kinds("--until", options.end().kind or "nothing")
        self._shown: dict[tuple[str, ...], int] = {}
        self._looked = _Look(-LOOK_S, float("-inf"), 0.0)
        self._count, self._status = 0, "so far nothing wrong"
        self._skips_looks = not (is_patient or around is not None or options.end().kind)
        self.is_over = False

    def feed(self, wire: str, data: bytes, at_s: float, faults: bytes, counted: Mapping[str, int]) -> None:
        """Take in what arrived."""
        # a recording has microseconds; so what is judged here is what a reading of the recording judges
        self.reading.feed(wire, data, max(round(at_s, 6), self.reading.now_s), faults=faults, counted=counted)
        if self._around is not None:
            self._around.add(at_s, wire, data, faults, counted)
        if self._plot is not None:
            self._plot.feed(wire, data, at_s, faults)
        self._count += len(data)
        self.is_over |= self._end.characters is not None and self._count >= self._end.characters

    def draw(self, now_s: float) -> int:
        """Draw fields anew, if that is wanted and it is time; return how often a window was drawn."""
        if self._plot is None:
            return 0
        self._plot.look(now_s)
        return self._plot.drawn

    def look(self, now_s: float) -> None:
        """Show what was found since, if it is time."""
        if self._end.seconds is not None and now_s >= self._end.seconds:
            self.is_over = True
        began = time.perf_counter()
        if now_s - self._looked.link_s < self._every_s:
            return
        if self._skips_looks and began - self._looked.at_s < LEISURE * self._looked.took_s:
            return
        self.reading.tick(now_s)
        if self._messages is not None:
            self._messages.look(now_s)
        self._show_changes(now_s)
        ended = time.perf_counter()
        self._looked = _Look(now_s, ended, ended - began)

    def _show_changes(self, now_s: float) -> None:
        from larkreader.judge.findings.merging import key_of

        rows = []
        for finding in self.reading.changed():
            before = self._shown.get(key_of(finding), 0)
            if not before or finding.count >= GROWN * before:
                rows.append(_styled(finding, row_of(finding, is_new=not before)))
                self._shown[key_of(finding)] = finding.count
            self.is_over |= self._is_end(finding)
            if self._around is not None:
                self._around.notice(finding, now_s)
        if rows:
            self._show(rows)
        if self._around is not None:
            self._around.look(now_s)
        self._status = summary_of(self.reading)

    def status(self) -> str:
        """Return in a few words what was found at the last look, and how long replies take."""
        return self._status

    def close(self) -> int:
        """Judge the rest, write what was asked for, and return the exit status."""
        self.reading.close()
        if self._plot is not None:
            self._plot.look(self.reading.now_s, is_over=True)
        if self._messages is not None:
            self._messages.look(self.reading.now_s, is_over=True)
        if self._around is not None:
            for finding in self.reading.changed():
                self._around.notice(finding, self.reading.now_s)
            self._around.look(self.reading.now_s, is_over=True)
            if self._around.failures:
                return 2
        fails = self._options.failing()
        failed = self.reading.verdict == "nothing-read" or any(map(fails, self.reading.findings))
        return 1 if failed and self._options.fail_on != "nothing" else 0

    def write(self, what: str, sheet: str, source: str, timing: Mapping[str, Any] | None) -> None:
        """Write the files that were asked for."""
        if self._options.junit is not None:
            from larkreader.present.documents.annotations import Remark
            from larkreader.present.documents.cases import remark_cases
            from larkreader.present.documents.junit import write_junit

            remarks = [Remark.of(finding) for finding in self.reading.findings]
            write_junit(self._options.junit, what, remark_cases(remarks, self.reading.checked))
            note(f"findings written to {self._options.junit}")
        if self._options.reading is not None:
            import json

            from larkreader.present.documents.schemas import document_of
            from larkreader.sources import write_whole

            content = self.reading.to_dict() | {"sheet": sheet, "capture": source}
            document = document_of("reading", content | ({"timing": timing} if timing is not None else {}))
            text = json.dumps(document, indent=2)
            write_whole(self._options.reading, text + "\n")
            note(f"reading written to {self._options.reading}")


def row_of(finding: Finding, *, is_new: bool) -> str:
    """Return a row on a finding that turned up, or occurs much more often than when it was shown."""
    from larkreader.judge.findings.finding import place

    frame = f", frame {finding.frame}" if finding.frame else ""
    head = f"{finding.severity}: {finding.kind} on {finding.wire}{frame}"
    if not is_new:
        return f"{head}: {finding.count:,} by now"
    where = place(finding.first_s, finding.offset if finding.first_s is None else None)
    return f"{head}{', ' + where if where else ''}"


def _styled(finding: Finding, row: str) -> str:
    """Return a row with its severity in colour, where standard output has colours."""
    from rich.text import Text

    from larkreader.present.tables.finding_views import SEVERITY_STYLES
    from larkreader.present.text.terminal import make_console

    console = make_console()
    if not console.is_terminal:
        return row
    head = f" {finding.severity} "
    text = Text.assemble((head, SEVERITY_STYLES[finding.severity]), row.removeprefix(f"{finding.severity}:"))
    with console.capture() as captured:
        console.print(text, soft_wrap=True, end="")
    return captured.get()


def summary_of(reading: LiveReading) -> str:
    """Return the verdict so far in a few words, with the times of replies where requests are paired with them."""
    findings = reading.findings
    counts = {
        severity: sum(item.count for item in findings if item.severity == severity) for severity in ("error", "warning")
    }
    parts = [f"{count:,} {name}{'' if count == 1 else 's'}" for name, count in counts.items() if count]
    text = f"so far {' and '.join(parts) if parts else 'nothing wrong'}"
    for key, figures in reading.latencies().items():
        if figures["count"]:
            from larkreader.judge.findings.wording import duration

            median, most = duration(figures["median_s"]), duration(figures["nearly_all_s"])
            text += f"; {key} answered within {median} (median), {most} (99 %)"
    return text
