"""Options of commands that judge while they listen: what ends them, what fails them, what is kept."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from .common import check_output, note
from .live_recording import SECONDS, began_now, quantity_of, size_of, wires_of
from .output_file import OutputFile

if TYPE_CHECKING:
    from larkreader.capture.files.rolled_recording import RecordingsAround
    from larkreader.exercise.ports.port import Port
    from larkreader.judge.findings.finding import Finding

MOST_SECONDS = 3600.0


@dataclass(frozen=True)
class JudgeOptions:
    """The options for what ends listening and what fails it, and where the reading is written."""

    until: str | None
    fail_on: str
    junit: Path | None
    reading: Path | None
    record_around: str | None
    before: float
    after: float
    into: Path
    most_recordings: int
    most_size: str

    def check(self, *, has_sheet: bool) -> None:
        """Raise `RequestError` before any port is opened if an option cannot be used."""
        from larkreader.errors import RequestError

        given = {
            "--until": self.until,
            "--junit": self.junit,
            "--reading": self.reading,
            "--record-around": self.record_around,
        }
        for name, value in given.items():
            if value is not None and not has_sheet and not (name == "--until" and self.end().kind == ""):
                raise RequestError(name, "has no sheet", "must go with --sheet", "Only a declared link is judged")
        self.end()
        self.failing()
        if self.record_around is not None:
            parse_kinds("--record-around", self.record_around)
            size_of("--most-size", self.most_size)
            if self.into.exists() and not self.into.is_dir():
                raise RequestError(f"--into {self.into}", "is a file", "must be a folder")
        check_output(self.junit)
        check_output(self.reading)

    def end(self) -> End:
        """Return what ends listening."""
        return End.parse(self.until)

    def around(self, ports: dict[str, Port]) -> Around | None:
        """Return what records what stands around findings, if that is wanted."""
        if self.record_around is None:
            return None
        from larkreader.capture.files.rolled_recording import RecordingsAround

        recordings = RecordingsAround(
            self.into,
            began_now(),
            wires_of(ports),
            before_s=self.before,
            after_s=self.after,
            most_files=self.most_recordings,
            most_bytes=size_of("--most-size", self.most_size),
        )
        return Around(recordings, parse_kinds("--record-around", self.record_around))

    def failing(self) -> Callable[[Finding], bool]:
        """Return whether a finding fails the run, as a function of it."""
        return parse_kinds("--fail-on", self.fail_on)


@dataclass(frozen=True)
class End:
    """What ends listening: a time in seconds, a number of characters, or a finding of a kind or severity."""

    seconds: float | None = None
    characters: int | None = None
    kind: str = ""

    @classmethod
    def parse(cls, text: str | None) -> End:
        """Read what ``--until`` has: ``30 s``, ``10 min``, ``5000``, ``checksum-mismatch`` or ``error``."""
        from larkreader.errors import RequestError

        if text is None:
            return cls()
        if (seconds := quantity_of(text, SECONDS)) is not None:
            return cls(seconds=seconds)
        if re.fullmatch(r"[0-9]{1,18}", text.strip()):
            return cls(characters=int(text))
        if text.strip()[:1].isdigit():
            raise RequestError(f'--until "{text}"', "is not a time", 'must be such as "30 s", "10 min" or "8 h"')
        parse_kinds("--until", text)
        return cls(kind=text.strip())


def parse_kinds(option: str, text: str) -> Callable[[Finding], bool]:
    """Return a function of findings: whether each is of one of some kinds, or as severe as named."""
    from larkreader.errors import RequestError, nearest
    from larkreader.judge.findings.finding import SEVERITIES
    from larkreader.judge.findings.kinds import KINDS

    names = [name.strip() for name in text.split(",") if name.strip()]
    for name in names:
        if name not in (*SEVERITIES, "nothing", *KINDS):
            advice = nearest(name, [*SEVERITIES, "nothing", *KINDS])
            raise RequestError(f'{option} "{name}"', "is neither a kind of finding nor a severity", "", advice)
    severities = SEVERITIES[: max((SEVERITIES.index(name) + 1 for name in names if name in SEVERITIES), default=0)]
    return lambda finding: finding.severity in severities or finding.kind in names


def judging_options(command: Callable[..., Any]) -> Callable[..., Any]:
    """Add the options to a command."""
    seconds = click.FloatRange(0, MOST_SECONDS)
    for option in (
        click.option(
            "--most-size",
            default="1 GB",
            show_default=True,
            metavar="SIZE",
            help="With --record-around: how large all recordings together are at most.",
        ),
        click.option(
            "--most-recordings",
            type=click.IntRange(1),
            default=100,
            show_default=True,
            metavar="N",
            help="With --record-around: how many recordings are written at most.",
        ),
        click.option(
            "--into",
            type=click.Path(path_type=Path, file_okay=True),
            default=Path("around"),
            show_default=True,
            metavar="FOLDER",
            help="With --record-around: where the recordings are written.",
        ),
        click.option(
            "--after",
            type=seconds,
            default=2.0,
            show_default=True,
            metavar="SECONDS",
            help="With --record-around: how much is recorded after a finding.",
        ),
        click.option(
            "--before",
            type=seconds,
            default=5.0,
            show_default=True,
            metavar="SECONDS",
            help="With --record-around: how much is recorded before a finding.",
        ),
        click.option(
            "--record-around",
            metavar="KIND,...",
            help="Record what stands around findings of these kinds or severities, a file for each.",
        ),
        click.option("--reading", type=OutputFile(".json"), metavar="FILE", help="Write the reading as JSON."),
        click.option("--junit", type=OutputFile(".xml"), metavar="FILE", help="Write findings as JUnit XML."),
        click.option(
            "--fail-on",
            default="error",
            show_default=True,
            metavar="KIND,...",
            help="What makes the exit status 1: kinds of findings, a severity with those above it, or nothing.",
        ),
        click.option(
            "--until",
            metavar="WHAT",
            help='Stop after a time such as "10 min", after so many characters, or at a finding of a kind or severity.',
        ),
    ):
        command = option(command)
    return command


class Around:
    """Records what stands around some findings.

    Parameters
    ----------
    recordings : RecordingsAround
        Writes the files.
    is_wanted : callable
        Whether a finding is to be recorded.
    """

    def __init__(self, recordings: RecordingsAround, is_wanted: Callable[[Finding], bool]) -> None:
        self._recordings: RecordingsAround | None = recordings
        self._is_wanted = is_wanted
        self._known: dict[tuple[str, ...], int] = {}
        self.failures: list[str] = []

    def add(self, *entry: Any) -> None:
        """Hold what arrived."""
        from larkreader.capture.files.rolled_recording import Entry

        if self._recordings is not None:
            self._recordings.add(Entry(*entry))

    def notice(self, finding: Finding, now_s: float) -> None:
        """Take note of the new places of a finding."""
        from larkreader.judge.findings.merging import key_of

        before, self._known[key_of(finding)] = self._known.get(key_of(finding), 0), finding.count
        if self._recordings is None or not self._is_wanted(finding):
            return
        times = finding.places.time_s[before:].tolist() or [now_s]  # of many places only the first are kept
        for at_s in times:
            known_s = now_s if at_s != at_s else at_s
            about = {"kind": finding.kind, "wire": finding.wire, "frame": finding.frame}
            self._recordings.notice(known_s, finding.kind, about)

    def look(self, now_s: float, *, is_over: bool = False) -> None:
        """Write what is complete; all that is left once it `is_over`."""
        if self._recordings is None:
            return
        written = len(self._recordings.written)
        try:
            self._recordings.look(now_s)
            if is_over:
                self._recordings.close()
        except OSError as error:
            self.failures.append(f"recordings around findings end at {now_s:.3f} s: {error.strerror or error}")
            note(f"error: {self.failures[-1]}")
            self._recordings = None
            return
        for path in self._recordings.written[written:]:
            note(f"recorded around it: {path}")
        if is_over and self._recordings.left_out:
            count = self._recordings.left_out
            limit = "--most-recordings or --most-size"
            note(f"{count:,} more finding{'' if count == 1 else 's'} not recorded: {limit} is reached")
