"""What a receive path makes of characters: which the application gets, which are lost, and where."""

from __future__ import annotations

from collections.abc import Collection

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters
from larkreader.declare.link.line import LineSettings
from larkreader.declare.paths.receive_path import ReceivePath

from .receive_run import ReceiveRun
from .replayed import Fate, Replay


def make_burst(count: int, line: LineSettings, *, begin_s: float = 0.0, value: int | None = None) -> Characters:
    """Make characters that follow one another without a gap.

    Parameters
    ----------
    count : int
        How many.
    line : LineSettings
        The line's settings.
    begin_s : float
        When the first begins, in seconds.
    value : int, optional
        What each holds; they count up from 0 by default.

    Returns
    -------
    Characters
        The characters with their times.
    """
    values = np.arange(count) % (1 << line.data_bits) if value is None else np.full(count, value)
    return characters_at(begin_s + np.arange(count) * line.character_time_s, values, line)


def characters_at(begins_s: npt.NDArray[np.floating], values: npt.ArrayLike, line: LineSettings) -> Characters:
    """Make characters of the times at which they begin."""
    begin_s = begins_s.astype(np.float64)
    return Characters(
        begin_s=begin_s,
        end_s=begin_s + line.character_time_s,
        value=np.asarray(values).astype(np.uint16),
        faults=np.zeros(len(begin_s), np.uint8),
        false_starts_s=np.empty(0),
    )


def replay(
    characters: Characters, path: ReceivePath, line: LineSettings, *, back: LineSettings | None = None
) -> Replay:
    """Run characters through a receive path.

    Parameters
    ----------
    characters : Characters
        What was, or is to be, on the wire. Where the line has flow control and the path pauses, the times at which they
        begin are taken for those at which the sender wants to send them.
    path : ReceivePath
        What was declared.
    line : LineSettings
        The wire's settings.
    back : LineSettings, optional
        Those of the wire on which pause characters travel; the same by default.

    Returns
    -------
    Replay
        The same for the same arguments, every time.

    Raises
    ------
    RequestError
        If it is unknown when the characters were on the wire.

    Examples
    --------
    A FIFO of 16 that asks at 8, and an interrupt that is served after 1.5 ms: of every 25 characters, 9 are lost.

    >>> line = lr.LineSettings.parse("115200 8N1")
    >>> path = lr.ReceivePath(fifo={"size": 16, "trigger": 8}, service={"kind": "interrupt", "latency_s": 1.5e-3})
    >>> result = lr.replay(lr.simulate.make_burst(1000, line), path, line)
    >>> result.high_water("fifo"), result.lost
    (16, 360)
    """
    run = ReceiveRun(path, line, back=back)
    run.feed(characters)
    run.close()
    return run.take()


def loses(
    characters: Characters,
    path: ReceivePath,
    line: LineSettings,
    fates: Collection[Fate],
    *,
    back: LineSettings | None = None,
) -> bool:
    """Return whether any of some characters has one of some fates on a receive path, looking no further than the first.

    Parameters
    ----------
    characters, path, line, back
        As for `replay`.
    fates : collection of Fate
        Which.

    Returns
    -------
    bool

    Raises
    ------
    RequestError
        As for `replay`.
    """
    run = ReceiveRun(path, line, back=back, stop_at=fates)
    run.feed(characters)
    run.close()
    return run.has_stopped
