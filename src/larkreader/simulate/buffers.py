"""What a receive path makes of characters: which the application gets, which are lost, and where."""

from __future__ import annotations

from collections.abc import Collection

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters
from larkreader.declare.link.line import LineSettings
from larkreader.declare.paths.receive_path import LineApplication, ReceivePath
from larkreader.errors import RequestError

from .receive_engine import ReceiveEngine
from .replayed import Fate, Reads, Replay
from .senders import MISSING, NEVER, FreeSender, PausedSender, nanoseconds

Times = npt.NDArray[np.int64]
Seconds = npt.NDArray[np.float64]


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
    engine, complete = _start(characters, path, line, back)
    engine.run()
    engine.close()
    return _replay_of(engine, path, characters, complete)


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
    engine, _ = _start(characters, path, line, back, fates)
    engine.run()
    engine.close()
    return engine.outcomes.is_over or (Fate.HELD_BACK in fates and bool(engine.sender.refused))


def _start(
    characters: Characters,
    path: ReceivePath,
    line: LineSettings,
    back: LineSettings | None,
    stop_at: Collection[Fate] = (),
) -> tuple[ReceiveEngine, int]:
    """Return a run that has not begun, and how many nanoseconds a character takes until it is complete."""
    if len(characters) and not characters.has_times:
        raise RequestError("replay", "is of characters without times", "needs a capture with times")
    complete = round((line.stop_position + 0.5) * 1e9 / line.baud)
    if len(characters) > 1 and float(characters.end_s[0]) == float(characters.begin_s[0]):
        found = "is of characters that software received together"
        raise RequestError("replay", found, "needs the times at which they were on the wire")
    begin = np.rint(characters.begin_s * 1e9).astype(np.int64)
    character = line.character_time_s * 1e9
    sender: FreeSender | PausedSender = FreeSender(begin, complete)
    signal = 0
    pause = path.pause
    if pause is not None and line.flow_control != "none":
        if line.flow_control == "xon-xoff":
            signal = nanoseconds((back or line).character_time_s)
        holds = NEVER if pause.sender_holds is None else pause.sender_holds
        reaction = pause.reaction_characters
        sender = PausedSender(begin.tolist(), complete, round(character), reaction=reaction, holds=holds)
    values = characters.value.tolist() if isinstance(path.application, LineApplication) else ()
    return ReceiveEngine(path, sender, values, character, signal, stop_at), complete


def _replay_of(engine: ReceiveEngine, path: ReceivePath, characters: Characters, complete: int) -> Replay:
    sender = engine.sender
    found, busy, costs = engine.outcomes, engine.service.busy, engine.service.costs
    begin, application = np.array(sender.begin, dtype=np.int64), engine.application
    if isinstance(sender, PausedSender):
        for number in sender.refused:
            found.lost[number] = round(float(characters.begin_s[number]) * 1e9)
            found.fate[number] = Fate.HELD_BACK
        begin_s = seconds_of(begin)
        arrived_s = begin_s + complete * 1e-9
    else:
        begin_s = characters.begin_s
        arrived_s = seconds_of(begin + complete)
    fetched_s, stored_s, taken_s, lost_s = map(seconds_of, found.columns())
    taken = application.reads if application is not None else None
    rows = np.array(taken.rows if taken is not None else [], dtype=np.int64).reshape(-1, 5)
    begun, last = np.flatnonzero(begin > MISSING), engine.last_at
    first = int(begin[begun[0]]) if len(begun) else 0
    looks = max(busy.services, (last - first) // costs.every if costs.every and last > MISSING else 0)
    return Replay(
        path=path,
        begin_s=begin_s,
        arrived_s=arrived_s,
        fetched_s=fetched_s,
        stored_s=stored_s,
        taken_s=taken_s,
        lost_s=lost_s,
        value=characters.value,
        fate=np.frombuffer(bytes(found.fate), np.uint8),
        reads=Reads(
            begin_s=seconds_of(rows[:, 0]),
            end_s=seconds_of(rows[:, 1]),
            first=rows[:, 2],
            count=rows[:, 3],
            by_time=rows[:, 4] != 0,
        ),
        empty_reads=taken.empty if taken is not None else 0,
        unfinished=taken.unfinished if taken is not None else 0,
        pauses_s=np.array(
            [(begin * 1e-9, end * 1e-9 if end < NEVER else np.inf) for begin, end in sender.pauses]
        ).reshape(-1, 2),
        services=busy.services,
        looks=looks,
        busy_s=(busy.total + (looks - busy.services) * costs.look) * 1e-9,
        longest_busy_s=max(busy.longest, costs.look if looks else 0) * 1e-9,
        span_s=max(last - first, 0) * 1e-9,
        most_held=sender.most_held,
    )


def seconds_of(times: npt.ArrayLike) -> Seconds:
    """Return times in seconds, float64; NaN where there is none."""
    known = np.asarray(times, dtype=np.int64)
    seconds: Seconds = known * np.float64(1e-9)
    seconds[known == MISSING] = np.nan
    return seconds
