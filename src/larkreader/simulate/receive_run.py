"""Characters that run through a receive path, all at once or a stretch at a time."""

from __future__ import annotations

from collections.abc import Collection

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters
from larkreader.declare.link.line import LineSettings
from larkreader.declare.paths.receive_path import LineApplication, ReceivePath
from larkreader.errors import RequestError

from .paused_sender import PausedSender
from .receive_engine import ReceiveEngine
from .replayed import Fate, Reads, Replay
from .senders import MISSING, NEVER, FreeSender, nanoseconds

Seconds = npt.NDArray[np.float64]


class ReceiveRun:
    """Runs characters through a receive path; in bounded memory if they are taken a stretch at a time.

    However they are cut, the rows that `take` returns are together those of one replay of all.

    Parameters
    ----------
    path : ReceivePath
        What was declared.
    line : LineSettings
        The wire's settings.
    back : LineSettings, optional
        Those of the wire on which pause characters travel; the same by default.
    stop_at : collection of Fate
        At the first character with such a fate the run is over.

    Examples
    --------
    >>> line = lr.LineSettings.parse("115200 8N1")
    >>> path = lr.ReceivePath(fifo={"size": 16, "trigger": 8}, service={"kind": "interrupt", "latency_s": 1.5e-3})
    >>> run = lr.simulate.ReceiveRun(path, line)
    >>> lost = 0
    >>> for part in range(10):
    ...     run.feed(lr.simulate.make_burst(100, line, begin_s=part * 100 * line.character_time_s))
    ...     lost += run.take().lost
    >>> run.close()
    >>> lost + run.take().lost
    360
    """

    def __init__(
        self,
        path: ReceivePath,
        line: LineSettings,
        *,
        back: LineSettings | None = None,
        stop_at: Collection[Fate] = (),
    ) -> None:
        self._path, self._stop_at = path, stop_at
        self._complete = round((line.stop_position + 0.5) * 1e9 / line.baud)
        character, signal, pause = line.character_time_s * 1e9, 0, path.pause
        self._sender: FreeSender | PausedSender
        if pause is not None and line.flow_control != "none":
            if line.flow_control == "xon-xoff":
                signal = nanoseconds((back or line).character_time_s)
            holds = NEVER if pause.sender_holds is None else pause.sender_holds
            self._sender = PausedSender(
                [],
                self._complete,
                round(character),
                reaction=pause.reaction_characters,
                holds=holds,
                sure_until=MISSING,
                waits_for_due=True,
            )
        else:
            self._sender = FreeSender((), self._complete, sure_until=MISSING)
        self._values: list[int] = []
        self._needs_values = isinstance(path.application, LineApplication)
        self._engine = ReceiveEngine(path, self._sender, self._values, character, signal, stop_at)
        self._begin_s, self._value = np.empty(0), np.empty(0, np.uint16)
        self._began: int | None = None
        self._is_closed = False

    def feed(self, characters: Characters) -> None:
        """Take in the characters that follow.

        Parameters
        ----------
        characters : Characters
            With the times at which they were on the wire, ascending.

        Raises
        ------
        RequestError
            If it is unknown when they were on the wire.
        """
        if not len(characters):
            return
        if not characters.has_times:
            raise RequestError("replay", "is of characters without times", "needs a capture with times")
        if len(characters) > 1 and float(characters.end_s[0]) == float(characters.begin_s[0]):
            found = "is of characters that software received together"
            raise RequestError("replay", found, "needs the times at which they were on the wire")
        begin = np.rint(characters.begin_s * 1e9).astype(np.int64)
        if self._needs_values:
            self._values += characters.value.tolist()
        self._begin_s = np.concatenate([self._begin_s, characters.begin_s])
        self._value = np.concatenate([self._value, characters.value])
        self._engine.feed(begin, int(begin[-1]))

    def close(self) -> None:
        """Let everything happen that still does, now that nothing follows. Closing once more changes nothing."""
        if not self._is_closed:
            self._engine.feed((), NEVER)
            self._engine.run()
            self._engine.close()
            self._is_closed = True

    @property
    def has_stopped(self) -> bool:
        """Whether a character had one of the fates that end the run."""
        is_refused = Fate.HELD_BACK in self._stop_at and bool(self._sender.refused)
        return self._engine.outcomes.is_over or is_refused

    def take(self) -> Replay:
        """Return what became of the characters that nothing more happens to, and give them up.

        Returns
        -------
        Replay
            Characters and reads since the call before, `Reads.first` counted from the first of them; of a closed run
            all that are left. What is not a column is of the whole run so far.
        """
        if not self._is_closed:
            self._engine.run()
        count = len(self._begin_s) if self._is_closed else self._engine.settled
        result = self._replay_of(count)
        self._engine.give_up(count)
        self._begin_s, self._value = self._begin_s[count:].copy(), self._value[count:].copy()
        del self._values[:count]
        return result

    def _replay_of(self, count: int) -> Replay:
        """Return what became of the first characters."""
        engine, sender, found = self._engine, self._sender, self._engine.outcomes
        begin, begin_s = np.array(sender.begin[:count], dtype=np.int64), self._begin_s[:count]
        if isinstance(sender, PausedSender):
            for number in sender.refused:
                if number < count:
                    found.lost[number] = round(float(begin_s[number]) * 1e9)
                    found.fate[number] = Fate.HELD_BACK
            begin_s = seconds_of(begin)
            arrived_s = begin_s + self._complete * 1e-9
        else:
            arrived_s = seconds_of(begin + self._complete)
        fetched_s, stored_s, taken_s, lost_s = (seconds_of(column[:count]) for column in found.columns())
        reads = engine.application.reads if engine.application is not None else None
        rows = np.array(reads.rows if reads is not None else [], dtype=np.int64).reshape(-1, 5)
        begun = np.flatnonzero(begin > MISSING)
        if self._began is None and len(begun):
            self._began = int(begin[begun[0]])
        busy, costs, last = engine.service.busy, engine.service.costs, engine.last_at
        first = last if self._began is None else self._began
        looks = max(busy.services, (last - first) // costs.every if costs.every else 0)
        return Replay(
            path=self._path,
            begin_s=begin_s,
            arrived_s=arrived_s,
            fetched_s=fetched_s,
            stored_s=stored_s,
            taken_s=taken_s,
            lost_s=lost_s,
            value=self._value[:count],
            fate=np.frombuffer(bytes(found.fate[:count]), np.uint8),
            reads=Reads(
                begin_s=seconds_of(rows[:, 0]),
                end_s=seconds_of(rows[:, 1]),
                first=rows[:, 2],
                count=rows[:, 3],
                by_time=rows[:, 4] != 0,
            ),
            empty_reads=reads.empty if reads is not None else 0,
            unfinished=reads.unfinished if reads is not None else 0,
            pauses_s=np.array(
                [(begin * 1e-9, end * 1e-9 if end < NEVER else np.inf) for begin, end in self._pauses()]
            ).reshape(-1, 2),
            services=busy.services,
            looks=looks,
            busy_s=(busy.total + (looks - busy.services) * costs.look) * 1e-9,
            longest_busy_s=max(busy.longest, costs.look if looks else 0) * 1e-9,
            span_s=max(last - first, 0) * 1e-9,
            most_held=sender.most_held,
        )

    def _pauses(self) -> list[tuple[int, int]]:
        """Return the pauses that are over, or all that are left of a closed run, and give them up."""
        pauses = self._sender.pauses
        count = len(pauses) if self._is_closed else max(len(pauses) - 1, 0)
        taken = pauses[:count]
        del pauses[:count]
        return taken


def seconds_of(times: npt.ArrayLike) -> Seconds:
    """Return times in seconds, float64; NaN where there is none."""
    known = np.asarray(times, dtype=np.int64)
    seconds: Seconds = known * np.float64(1e-9)
    seconds[known == MISSING] = np.nan
    return seconds
