"""Finding the settings of a device that is there: bauds and formats stepped through on a live port."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any, Literal

import numpy as np

from larkreader.capture.characters import Fault
from larkreader.declare.frame.layout import FrameLayout
from larkreader.declare.link.line import LineSettings
from larkreader.decode.cut.frames import read_layouts
from larkreader.exercise.ports.port import Port, Received

BAUDS = (9600, 115_200, 57_600, 38_400, 19_200, 4800, 230_400, 460_800, 921_600, 2400, 1200, 300, 250_000, 1_000_000)
LENGTHS = ("8N1", "8E1", "8O1")  # one format of ten bits and two of eleven, by which the bauds are ranked
FORMATS = ("8N1", "8E1", "7E1", "8O1", "7O1", "8N2")  # the usual formats first
PROMISING = 3  # bauds at which all formats are tried
FEWEST = 20  # characters from which anything is concluded
TOLERABLE = 0.05  # share of faulty characters under the right settings, on a wire that is not at its best
LEAD = 0.1  # of the score by which the best must be ahead of another baud
SETTLE_S = 0.02  # what arrives so soon after the settings were changed was cut by that

XON, XOFF = b"\x11", b"\x13"
FlowProbe = Literal["passes", "swallows", "stops", "no-echo"]


@dataclass(frozen=True)
class Trial:
    """What arrived under some settings.

    Parameters
    ----------
    line : LineSettings
        The settings.
    characters : int
        How many arrived.
    faulty : int
        How many of them had a fault of the line.
    sense : float
        Share of them that is text or lies in good frames, 0 to 1.
    sample : bytes
        The first of them.
    rank : int
        How unusual the settings are among those that were tried; 0 is the most usual.
    """

    line: LineSettings
    characters: int
    faulty: int
    sense: float
    sample: bytes = b""
    rank: int = 0

    @property
    def fault_share(self) -> float:
        """Share of the characters that are faulty; 1 if none arrived."""
        return self.faulty / self.characters if self.characters else 1.0

    @property
    def score(self) -> float:
        """How well the settings fit, 0 to 1, by few faults and much sense."""
        return (1 - self.fault_share) ** 2 * (0.5 + 0.5 * self.sense)

    def to_dict(self) -> dict[str, Any]:
        """Return the trial as JSON has it."""
        return {
            "line": str(self.line),
            "characters": self.characters,
            "faulty": self.faulty,
            "sense": round(self.sense, 3),
            "score": round(self.score, 3),
        }


@dataclass
class Stepping:
    """Steps through bauds and formats.

    Parameters
    ----------
    open_at : callable
        Opens the port with some settings.
    seconds : float
        How long to listen under each.
    ask : bytes
        What to send first each time, so that the device answers; nothing by default.
    bauds : sequence of float
        Which to try, the most usual first.
    formats : sequence of str
        Which to try at the bauds that look best.
    layouts : sequence of FrameLayout
        Frames that would make sense.
    trials : list of Trial
        Those so far.
    """

    open_at: Callable[[LineSettings], Port]
    seconds: float = 0.4
    ask: bytes = b""
    bauds: Sequence[float] = BAUDS
    formats: Sequence[str] = FORMATS
    layouts: Sequence[FrameLayout] = ()
    trials: list[Trial] = field(default_factory=list)

    def run(self) -> Iterator[Trial]:
        """Try the settings one after the other, and yield what was received; first all bauds, then formats at the best.

        Raises
        ------
        PortError
            If the port cannot be opened or is gone.
        """
        for baud in self.bauds:
            for form in LENGTHS:
                yield self._try(baud, form)
        by_baud = sorted(self.bauds, key=lambda baud: -max(item.score for item in self._at(baud)))
        for baud in by_baud[:PROMISING]:
            if max(item.characters for item in self._at(baud)):
                for form in self.formats:
                    if form not in LENGTHS:
                        yield self._try(baud, form)

    @property
    def ranked(self) -> list[Trial]:
        """The trials, the best first, those with enough characters before the others; of equals the more usual."""
        return sorted(self.trials, key=lambda trial: (trial.characters < FEWEST, -round(trial.score, 2), trial.rank))

    @property
    def best(self) -> Trial | None:
        """The trial whose settings are almost certain, None if there is none."""
        if not self.trials:
            return None
        first, *others = self.ranked
        if first.characters < FEWEST or first.fault_share > TOLERABLE:
            return None
        rival = next(
            (other for other in others if other.line.baud != first.line.baud and other.characters >= FEWEST), None
        )
        return None if rival is not None and rival.score > first.score - LEAD else first

    def _at(self, baud: float) -> list[Trial]:
        return [trial for trial in self.trials if trial.line.baud == baud]

    def _try(self, baud: float, form: str) -> Trial:
        line = LineSettings(baud=baud, format=form)
        with self.open_at(line) as port:
            port.read_some(1 << 16, SETTLE_S + 2 * line.character_time_s)
            before = port.error_counters()
            if self.ask:
                port.write(self.ask)
            received = port.read(1 << 24, self.seconds)
            counted = sum(count - before.get(name, count) for name, count in port.error_counters().items())
        rank = 100 * list(self.bauds).index(baud) + [*self.formats, *LENGTHS].index(form)
        trial = _trial_of(line, received, counted, self.layouts, rank)
        self.trials.append(trial)
        return trial


def probe_flow_control(port: Port, limit_s: float = 1.0) -> FlowProbe:
    """Find out whether a port, or what lies behind it, swallows XON and XOFF.

    Parameters
    ----------
    port : Port
        With an echo or a wire from its output to its input behind it.
    limit_s : float
        How long to wait for what returns, in seconds.

    Returns
    -------
    {"passes", "swallows", "stops", "no-echo"}
        Whether both returned among other characters, were taken out, stopped the line for good, or nothing returned.
    """
    message = b"a" + XOFF + b"b" + XON + b"c"
    port.write(message)
    received = port.read(len(message), limit_s).data
    if received == message:
        return "passes"
    if b"c" in received:
        return "swallows"
    port.write(XON)
    return "stops" if received else "no-echo"


def _trial_of(line: LineSettings, received: Received, counted: int, layouts: Sequence[FrameLayout], rank: int) -> Trial:
    values = np.frombuffer(received.data, np.uint8)
    faults = np.frombuffer(received.faults, np.uint8) if received.faults else np.zeros(len(values), np.uint8)
    bad = int(np.count_nonzero(faults & (Fault.PARITY | Fault.FRAMING | Fault.BREAK)))
    return Trial(
        line, len(values), min(len(values), max(bad, counted)), _sense(values, layouts), received.data[:200], rank
    )


def _sense(values: np.ndarray, layouts: Sequence[FrameLayout]) -> float:
    """Return which share of the characters is text, or lies in good frames."""
    if not len(values):
        return 0.0
    is_text = (values >= 0x20) & (values < 0x7F) | (values == 0x0A) | (values == 0x0D) | (values == 0x09)
    framed = 0
    if layouts:
        for frames in read_layouts(values, layouts).values():
            framed += int(frames.length[frames.faults == 0].sum())
    return max(float(is_text.mean()), framed / len(values))
