"""A loopback: send a known pattern, and compare what returns with it."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from larkreader.declare.link.line import LineSettings
from larkreader.declare.run.loopback import LoopbackPlan
from larkreader.exercise.ports.borrowed import as_port
from larkreader.exercise.ports.port import Port

from .one_way import Change, OneWay
from .result import LoopbackResult

TURN_S = 0.002  # for which one way is waited for, before it is the other's turn

Progress = Callable[[int, int], None]


def run_loopback(
    port: Port | Any,
    plan: LoopbackPlan | None = None,
    *,
    line: LineSettings | None = None,
    into: Port | Any = None,
    change: Change | None = None,
    progress: Progress | None = None,
) -> LoopbackResult:
    """Send a pattern into a port and compare what returns.

    Parameters
    ----------
    port : Port, or any object with ``read`` and ``write``
        Where to send; see `BorrowedPort` for what its methods must do.
    plan : LoopbackPlan, optional
        What to send, and what to expect.
    line : LineSettings, optional
        The settings whose rate the measured one is compared with; default those of the port, where it knows them.
    into : Port, or any object with ``read`` and ``write``, optional
        Where to receive; default `port` itself.
    change : callable, optional
        Takes each block as it was written and returns what to expect of it, instead of what the plan expects.
    progress : callable, optional
        Called with the characters sent and those to be sent, after each block.

    Returns
    -------
    LoopbackResult
        A dead or lossy port never raises; it is a result. Ctrl-C ends the run early and is not an exception either: the
        result is what was measured until then, and `stopped` is ``"interrupted"``.

    Raises
    ------
    PortError
        If the port fails to send or receive.
    RequestError
        If `port` lacks ``read`` or ``write``.

    Examples
    --------
    >>> result = lr.run_loopback(lr.open_port("stand-in:echo"), lr.LoopbackPlan(characters=1000))
    >>> result.verdict, result.received, result.lost
    ('pass', 1000, 0)
    """
    out = as_port(port)
    way = OneWay(out, out if into is None else as_port(into), plan or LoopbackPlan(), line, change)
    try:
        while way.step():
            if progress:
                progress(*way.progress)
    except KeyboardInterrupt:
        way.stopped = "interrupted"
    return way.result()


def run_both_ways(
    first: Port | Any,
    second: Port | Any,
    plan: LoopbackPlan | None = None,
    back: LoopbackPlan | None = None,
    *,
    progress: Progress | None = None,
) -> tuple[LoopbackResult, LoopbackResult]:
    """Send a pattern out at each of two ports at once, and compare what arrives at the other.

    Parameters
    ----------
    first, second : Port, or any object with ``read`` and ``write``
        The two ends, each with its own settings.
    plan, back : LoopbackPlan, optional
        What goes from the first to the second, and back. By default the same goes back mirrored, so that a port that
        echoes what it sends itself cannot pass.
    progress : callable, optional
        Called with the characters sent and those to be sent, both ways.

    Returns
    -------
    tuple of LoopbackResult
        What was received at the second, and what at the first. After Ctrl-C they are what was measured until then, and
        `stopped` is ``"interrupted"``.

    Raises
    ------
    PortError
        If a port fails to send or receive.

    Examples
    --------
    >>> near, far = lr.exercise.simulated_pair(lr.LineSettings(baud=57_600))
    >>> [result.verdict for result in lr.run_both_ways(near, far, lr.LoopbackPlan(characters=256))]
    ['pass', 'pass']
    """
    ends, plan = (as_port(first), as_port(second)), plan or LoopbackPlan()
    back = back or plan.model_copy(update={"mirrored": True})
    ways = [OneWay(*ends, plan, None, None), OneWay(*ends[::-1], back, None, None)]
    try:
        while sum(way.step(patience_s=TURN_S) for way in ways):
            if progress:
                progress(*(sum(item) for item in zip(*(way.progress for way in ways), strict=True)))
    except KeyboardInterrupt:
        for way in ways:
            way.stopped = "interrupted"
    return ways[0].result(), ways[1].result()
