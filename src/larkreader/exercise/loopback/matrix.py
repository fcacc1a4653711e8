"""Loopbacks under one setting after the other: a matrix of them, the fastest baud, and how far a clock may be off."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass, field
from typing import Any, Literal

from larkreader.declare.link.line import LineSettings
from larkreader.declare.run.loopback import NOTHING, LoopbackMatrix, LoopbackPlan
from larkreader.exercise.ports.port import Port
from larkreader.shown import Shown

from .one_way import Change
from .result import LoopbackResult
from .run import run_both_ways, run_loopback

WIDEST_PPM = 100_000.0  # how far off a clock is tried; no receiver stands more
FINE_PPM = 250.0  # down to which the edge of what still works is looked for

OpenAt = Callable[[LineSettings], AbstractContextManager[Port | Sequence[Port]]]
OnRun = Callable[[LoopbackResult], None]
Progress = Callable[[int, int], None]


@dataclass(frozen=True)
class MatrixResult(Shown):
    """The result of the runs of a matrix.

    Parameters
    ----------
    runs : tuple of LoopbackResult
        One each, in their order; between two ports one each way.
    stopped : bool
        Whether it was interrupted before all had run.
    """

    runs: tuple[LoopbackResult, ...]
    stopped: bool = False

    @property
    def verdict(self) -> Literal["pass", "fail"]:
        """``"pass"`` if all runs passed, and all were run."""
        return "pass" if self.runs and not self.stopped and all(run.verdict == "pass" for run in self.runs) else "fail"

    @property
    def fastest(self) -> LineSettings | None:
        """The settings of the highest baud at which, and below which, all runs passed; None if there are none."""
        best: LineSettings | None = None
        for baud in sorted({run.line.baud for run in self.runs if run.line is not None}):
            there = [run for run in self.runs if run.line is not None and run.line.baud == baud]
            if any(item.verdict == "fail" for item in there):
                break
            best = there[0].line
        return best

    def to_dict(self) -> dict[str, Any]:
        """Return the result as JSON has it."""
        fastest = self.fastest
        return {
            "verdict": self.verdict,
            "interrupted": self.stopped,
            "fastest_baud": None if fastest is None else fastest.baud,
            "runs": [{"on": run.name, **run.to_dict()} for run in self.runs],
        }


def run_matrix(
    open_at: OpenAt,
    matrix: LoopbackMatrix,
    line: LineSettings,
    *,
    content: Mapping[str, bytes] = NOTHING,
    one_way: bool = False,
    change: Change | None = None,
    progress: Progress | None = None,
    on_run: OnRun | None = None,
) -> MatrixResult:
    """Run a loopback for each combination of a matrix.

    Parameters
    ----------
    open_at : callable
        Takes line settings and returns a context manager that gives one port, opened with them, or two, between which
        the patterns go.
    matrix : LoopbackMatrix
        What to run.
    line : LineSettings
        The settings where the matrix says nothing else.
    content : mapping of str to bytes
        What the patterns ``file`` and ``frames`` send, by pattern.
    one_way : bool
        Whether, between two ports, the patterns go from the first to the second alone, and not both ways at once.
    change : callable, optional
        As for `run_loopback`.
    progress : callable, optional
        Called with the characters sent and to be sent in all runs.
    on_run : callable, optional
        Called with each result.

    Returns
    -------
    MatrixResult
        The runs in the order in which they were made; after Ctrl-C those until then, and `stopped` is true.

    Raises
    ------
    PortError
        If a port cannot be opened, or fails.

    Examples
    --------
    >>> def opened(line):
    ...     return lr.SimulatedPort(line, lambda data: data)
    >>> matrix = lr.LoopbackMatrix(bauds=[9600, 57_600], characters=256)
    >>> [(run.line.baud, run.verdict) for run in lr.run_matrix(opened, matrix, lr.LineSettings()).runs]
    [(9600.0, 'pass'), (57600.0, 'pass')]
    """
    runs: list[LoopbackResult] = []
    planned = [(settings, tuple(matrix.plans(settings, content))) for settings in matrix.lines(line)]
    total = sum(plan.characters for _, plans in planned for plan in plans)
    done = 0
    for settings, plans in planned:
        with open_at(settings) as ports:
            for plan in plans:
                outcome = _in_share(progress, done, total)
                found = _run(_in_a_row(ports), plan, settings, one_way=one_way, change=change, progress=outcome)
                done += plan.characters
                runs += found
                for item in found:
                    if on_run is not None:
                        on_run(item)
                if any(item.stopped == "interrupted" for item in found):
                    return MatrixResult(tuple(runs), stopped=True)
    return MatrixResult(tuple(runs))


def _in_a_row(ports: Port | Sequence[Port]) -> Sequence[Port]:
    return (ports,) if isinstance(ports, Port) else ports


def _in_share(progress: Progress | None, done: int, total: int) -> Progress | None:
    if progress is None:
        return None
    return lambda now, _: progress(done + now, total)


def _run(
    ports: Sequence[Port],
    plan: LoopbackPlan,
    line: LineSettings,
    *,
    one_way: bool,
    change: Change | None,
    progress: Progress | None,
) -> tuple[LoopbackResult, ...]:
    if len(ports) == 1:
        return (run_loopback(ports[0], plan, line=line, change=change, progress=progress),)
    if one_way:
        return (run_loopback(ports[0], plan, into=ports[1], change=change, progress=progress),)
    return run_both_ways(ports[0], ports[1], plan, progress=progress)


@dataclass(frozen=True)
class Tolerance:
    """How far a clock may be off before a loopback fails.

    Parameters
    ----------
    line : LineSettings
        The settings that were varied.
    slow_ppm, fast_ppm : float
        The furthest below and above at which it still passed, in millionths; NaN where it does not even pass as
        declared.
    trials : tuple of tuple of float and str
        Every error that was tried, in millionths, and the result of it, in their order.
    """

    line: LineSettings
    slow_ppm: float
    fast_ppm: float
    trials: tuple[tuple[float, str], ...] = field(repr=False)

    def to_dict(self) -> dict[str, Any]:
        """Return the result as JSON has it."""
        known = self.slow_ppm == self.slow_ppm
        return {
            "line": str(self.line),
            "slow_ppm": self.slow_ppm if known else None,
            "fast_ppm": self.fast_ppm if known else None,
            "trials": [{"ppm": ppm, "verdict": verdict} for ppm, verdict in self.trials],
        }


def find_tolerance(open_at: OpenAt, plan: LoopbackPlan, line: LineSettings) -> Tolerance:
    """Find out how far this end's clock may be off before a loopback fails.

    Parameters
    ----------
    open_at : callable
        Takes line settings and returns a context manager that gives a port opened with them; the far end keeps its own.
    plan : LoopbackPlan
        What to run each time.
    line : LineSettings
        The settings as declared; their baud is varied.

    Returns
    -------
    Tolerance
        Each edge by halving, to 250 millionths: what works farther out, beyond an error that does not, is not found.

    Raises
    ------
    PortError
        If the port cannot be opened with such a baud, or fails.

    Examples
    --------
    An 8E1 receiver samples the stop bit 10.5 bits behind the start edge, and half a bit there is 4.8 %:

    >>> line = lr.LineSettings.parse("57600 8E1")
    >>> def opened(tried):
    ...     return lr.SimulatedPort(tried, lambda data: data, far=line)
    >>> found = lr.find_tolerance(opened, lr.LoopbackPlan(characters=64), line)
    >>> -48_000 < found.slow_ppm < -44_000 and 44_000 < found.fast_ppm < 48_000
    True
    """
    trials: list[tuple[float, str]] = []

    def passes(ppm: float) -> bool:
        with open_at(line.model_copy(update={"baud": line.baud * (1 + ppm * 1e-6)})) as ports:
            verdict = run_loopback(_in_a_row(ports)[0], plan).verdict
        trials.append((ppm, verdict))
        return verdict == "pass"

    if not passes(0.0):
        return Tolerance(line, float("nan"), float("nan"), tuple(trials))
    edges = []
    for sign in (-1.0, 1.0):
        good, bad = 0.0, sign * WIDEST_PPM
        if passes(bad):
            good = bad
        while abs(bad - good) > FINE_PPM:
            middle = (good + bad) / 2
            if passes(middle):
                good = middle
            else:
                bad = middle
        edges.append(good)
    return Tolerance(line, edges[0], edges[1], tuple(trials))
