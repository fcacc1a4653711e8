"""What arrives on live wires, judged as it arrives."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import Any

import numpy as np

from larkreader.capture.characters import Characters
from larkreader.declare.document.sheet import Sheet
from larkreader.declare.document.sheet_file import open_sheet
from larkreader.decode.columns.frame_columns import Frames, Spans
from larkreader.errors import RequestError
from larkreader.harmless import harmless
from larkreader.judge.findings.finding import Finding, Findings, Verdict
from larkreader.judge.findings.merging import key_of
from larkreader.judge.live.stretches import MOST, STRETCH, StretchJudge
from larkreader.judge.live.sums import Sum, wires_judged_together
from larkreader.judge.measure.pair_columns import Pairs
from larkreader.judge.verdict.checked import Checked
from larkreader.judge.verdict.judged import pairs_that_speak
from larkreader.judge.verdict.wire_findings import Beginning
from larkreader.shown import Shown
from larkreader.sources import Source, path_of

from .reading import Reading
from .summed_reading import SummedReading
from .timeline_part import Passed

TOGETHER = 1 << 12  # groups, or characters, that are taken in at once

Group = tuple[float, bytes, bytes]


class LiveReading(Shown):
    r"""Judges what arrives on some wires while it arrives: what `read` concludes of a recording of it.

    There is no port and no clock in it: characters and times are fed in. Memory is bounded however long it runs.

    Parameters
    ----------
    sheet : Sheet, str, path or binary file
        What was declared, or the file that holds it.
    wires : iterable of str, optional
        The wires that are read; all on the sheet unless given. `checked` lists the others as not captured.
    together : bool
        Whether all wires are judged together although the sheet has nothing that concerns several of them, so that
        `recent` has a timeline of them all.
    stretch : int
        So many of the latest characters of wires that concern each other are kept at least.
    most : int
        So many are kept at most. Where the traffic has no place at which the part before can be given up without a
        trace, as in noise, it is cut somewhere after so many; see `cuts`.

    Raises
    ------
    SheetError
        If the sheet cannot be used.
    RequestError
        If a wire is not on the sheet.

    Examples
    --------
    >>> layout = lr.FrameLayout(
    ...     boundary={"kind": "marker", "marker": "D7"},
    ...     fields=[{"name": "number", "type": "uint8", "counter": True}, {"name": "sum", "type": "checksum"}],
    ...     checksum={"algorithm": "sum-8"},
    ... )
    >>> live = lr.LiveReading(lr.Sheet(wire={"pump": {}}, frame={"flow": layout}))
    >>> for number in (1, 2, 3, 5, 6):
    ...     live.feed("pump", layout.encode({"number": number}), time_s=0.01 * number)
    >>> [finding.kind for finding in live.changed()]
    ['overflow']
    >>> live.close().verdict
    'faults'
    """

    def __init__(
        self,
        sheet: Sheet | Source,
        *,
        wires: Iterable[str] | None = None,
        together: bool = False,
        stretch: int = STRETCH,
        most: int = MOST,
    ) -> None:
        path: Path | None = None if isinstance(sheet, Sheet) else path_of(sheet)
        declared = sheet if isinstance(sheet, Sheet) else open_sheet(path_of(sheet))
        self._sheet, self._sheet_name = declared, "" if path is None else harmless(str(path), is_name=True)
        chosen = set(
            declared.wire if wires is None else (name for wire in wires for name in declared.wires_named(wire))
        )
        self._wires = tuple(wire for wire in declared.wire if wire in chosen)
        groups = wires_judged_together(declared, self._wires, together=together)
        self._judges = [StretchJudge(declared, some, stretch=stretch, most=most) for some in groups]
        self._judge_of = {wire: judge for judge, some in zip(self._judges, groups, strict=True) for wire in some}
        self._arrived: dict[str, list[Group]] = {wire: [] for wire in self._wires}
        self._counted: dict[str, list[tuple[int, str, int]]] = {wire: [] for wire in self._wires}
        self._fed = 0  # since characters were taken in
        self._now_s: float | None = None
        self._known: dict[tuple[str, ...], Finding] = {}
        self._result: _Result | None = None
        self._is_closed = False

    @property
    def sheet(self) -> Sheet:
        """What was declared."""
        return self._sheet

    @property
    def now_s(self) -> float:
        """The time of what was fed last, or of the last `tick`, in seconds; minus infinity at first."""
        return -np.inf if self._now_s is None else self._now_s

    def feed(
        self,
        wire: str,
        data: bytes,
        time_s: float,
        *,
        faults: bytes = b"",
        counted: Mapping[str, int] | None = None,
    ) -> None:
        """Take in what arrived together on a wire.

        Parameters
        ----------
        wire : str
            The wire.
        data : bytes
            The characters, nothing too.
        time_s : float
            When they arrived, in seconds; never before those that were fed before.
        faults : bytes
            Flags of `Fault`, one of each character; nothing where none has a fault.
        counted : mapping of str to int, optional
            What the driver of the port has counted since the characters before: ``"overrun"``, ``"overflow"``,
            ``"parity"``, ``"framing"`` or ``"break"``.

        Raises
        ------
        RequestError
            If the reading is closed, the wire is not read, the time goes back, or `faults` has another length than
            `data`.
        """
        if self._is_closed:
            raise RequestError("reading", "is closed", "takes nothing more", "Make a new LiveReading")
        if wire not in self._judge_of:
            raise RequestError(f'wire "{wire}"', "is not read", f"must be one of {', '.join(self._wires)}")
        if not self.now_s <= time_s < np.inf:
            raise RequestError("time_s", f"is {time_s:.6f}", f"must not be before {self.now_s:.6f}")
        if faults and len(faults) != len(data):
            raise RequestError("faults", f"has {len(faults)} bytes", f"must have {len(data)}, one of each character")
        groups = self._arrived[wire]
        for name, count in (counted or {}).items():
            self._counted[wire].append((len(groups), name, count))
        groups.append((time_s, bytes(data), bytes(faults)))
        self._now_s, self._result = time_s, None
        self._fed += 1 + len(data)
        if self._fed >= TOGETHER:
            self._settle()

    def tick(self, time_s: float) -> None:
        """Take note of the time, though nothing arrived: what is due by then is late.

        Parameters
        ----------
        time_s : float
            What time it is, in seconds on the clock of `feed`.
        """
        if not self._is_closed and time_s > self.now_s:
            self._now_s, self._result = time_s, None

    def close(self) -> LiveReading:
        """Judge the rest, now that nothing follows, and return the reading. Closing once more changes nothing."""
        if not self._is_closed:
            for wire in self._wires:
                self._take_in(wire)
            self._is_closed, self._result = True, None
        return self

    @property
    def findings(self) -> Findings:
        """What is wrong or worth knowing, errors first, then in order of place.

        While the reading is open, what is proven stays, and can only become more. What may look different once more
        has arrived is at most likely meanwhile: that a request was not answered, that a pause never ends, or that bytes
        without a frame were not lost by a buffer.
        """
        return self._judged.findings

    def changed(self) -> list[Finding]:
        """Return the findings that are new since the last call, or of which there is more; in order of place."""
        found = {key_of(finding): finding for finding in self.findings}
        new = [finding for key, finding in found.items() if _differs(self._known.get(key), finding)]
        self._known = found
        return new

    @property
    def checked(self) -> Checked:
        """What the reading proves, and what it could not check."""
        return self._judged.checked

    @property
    def verdict(self) -> Verdict:
        """What the reading is worth, as `Reading.verdict`."""
        return self.checked.verdict_with(self.findings)

    @property
    def cuts(self) -> int:
        """How often a stretch was cut where it was not quiet; findings there may be missing, or counted twice."""
        return sum(judge.cuts for judge in self._judges)

    def latencies(self) -> dict[str, dict[str, Any]]:
        """Return how long the replies to the latest requests took, by pairing: see `Pairs.to_dict`."""
        return {
            key: counts.times.to_dict()["latency"]
            for key, counts in self._judged.total.pairs_on(self._sheet).items()
            if counts.times is not None
        }

    def recent(self) -> Reading:
        """Return a reading of the latest characters, with their columns; they count from the first that is kept.

        `passed` has how many lie before them. Their findings are those of the whole.
        """
        judged = self._judged
        frames: dict[str, Frames] = {}
        skipped: dict[str, Spans] = {}
        pairs: dict[str, Pairs] = {}
        held: dict[str, Characters] = {}
        for judge in self._judges:
            frames |= judge.latest.frames
            skipped |= judge.latest.skipped
            pairs |= pairs_that_speak(self._sheet, judge.latest.pairs, judged.total.counts)
            held |= judge.held
        characters = {wire: held[wire] for wire in self._wires}
        return Reading(
            self._sheet,
            "",
            characters,
            frames,
            skipped,
            judged.findings,
            self._sheet_name,
            pairs=pairs,
            checked=judged.checked,
        )

    @property
    def passed(self) -> Passed:
        """How much lies before what `recent` has."""
        rows: dict[str, int] = {}
        for judge in self._judges:
            rows |= judge.rows_dropped
        characters = {wire: count for judge in self._judges for wire, count in judge.dropped.items()}
        return Passed.of(self._sheet, characters, rows, is_together=len(self._judges) == 1)

    def bytes_of(self, wire: str) -> dict[str, int]:
        """Account for every byte of a wire, as `Reading.bytes_of`.

        Parameters
        ----------
        wire : str
            The wire.
        """
        return self.summed().bytes_of(wire)

    def summed(self) -> SummedReading:
        """Return what was found so far: counts, findings and verdict."""
        judged = self._judged
        return SummedReading(self._sheet, "", judged.total, judged.findings, judged.checked, self._sheet_name)

    def to_dict(self) -> dict[str, Any]:
        """Return the reading as the JSON document has it."""
        return self.summed().to_dict()

    def __repr__(self) -> str:
        counts = {wire: item.counts.characters for wire, item in self._judged.total.wires.items()}
        wires = ", ".join(f"{wire}: {count:,}" for wire, count in counts.items())
        state = "closed" if self._is_closed else "open"
        return f"<LiveReading, {state}: {self.verdict}; characters {wires}; {len(self.findings)} findings>"

    def _take_in(self, wire: str) -> None:
        """Hand what arrived to the judge of a wire."""
        if groups := self._arrived[wire]:
            self._judge_of[wire].add(wire, Characters.from_groups(groups, self._counted[wire]))
            self._arrived[wire], self._counted[wire] = [], []

    def _settle(self) -> None:
        """Hand all that arrived to the judges, which give up what is settled."""
        for wire in self._wires:
            self._take_in(wire)
        for judge in self._judges:
            judge.settle()
        self._fed = 0

    @property
    def _judged(self) -> _Result:
        """What is found so far."""
        if self._result is None:
            if not self._is_closed:
                self._settle()
            self._result = _Result(self._sheet, self._wires, self._judges, self._now_s, is_closed=self._is_closed)
        return self._result


class _Result:
    """What several judges found, as one."""

    def __init__(
        self, sheet: Sheet, wires: tuple[str, ...], judges: list[StretchJudge], now_s: float | None, *, is_closed: bool
    ) -> None:
        self.total = Sum()
        beginnings: dict[str, Beginning] = {}
        for judge in judges:
            total, some = judge.close() if is_closed else judge.so_far(now_s)
            beginnings |= some
            self.total.take(total)
            self.total.cuts += judge.cuts
        self.total.wires = {wire: self.total.wires[wire] for wire in wires}
        self.findings = self.total.conclude(sheet, beginnings, is_open=not is_closed)
        self.checked = self.total.check(sheet, self.findings, tuple(sheet.wire))


def _differs(before: Finding | None, now: Finding) -> bool:
    return before is None or before.count != now.count or before.severity != now.severity
