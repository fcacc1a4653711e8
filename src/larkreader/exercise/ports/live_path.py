"""A receive path that characters run through as they come: what `replay` does, in step with a simulated line.

The replay runs in a thread of its own and stops wherever it would have to know what has not been sent yet. Only one of
the two threads ever runs, so that the result is that of a replay of the whole.
"""

from __future__ import annotations

from collections.abc import Sequence
from threading import Semaphore, Thread

from larkreader.declare.link.line import LineSettings
from larkreader.declare.paths.receive_path import ReceivePath, SoftwareReceiver
from larkreader.errors import RequestError
from larkreader.simulate.receive_replay import ReceiveRun
from larkreader.simulate.replayed import Fate
from larkreader.simulate.senders import MISSING, NEVER, PausedSender, nanoseconds


class _Closed(BaseException):
    """Ends the thread."""


class _LiveSender(PausedSender):
    """A sender of which nobody knows what it is going to send."""

    def __init__(self, path: ReceivePath, line: LineSettings) -> None:
        self.sure_until = MISSING  # no other character begins before
        self._may_run, self._has_run = Semaphore(0), Semaphore(0)
        self.is_closed, self.hears = False, path.pause is not None and line.flow_control != "none"
        pause = path.pause
        holds = NEVER if pause is None or pause.sender_holds is None else pause.sender_holds
        reaction = 0 if pause is None else pause.reaction_characters
        complete = round((line.stop_position + 0.5) * 1e9 / line.baud)
        super().__init__([], complete, nanoseconds(line.character_time_s), reaction=reaction, holds=holds)

    def signal(self, at: int, *, pause: bool) -> None:
        if self.hears:
            super().signal(at, pause=pause)

    def _plan(self) -> None:
        super()._plan()
        if self.number < 0:
            self.next_begin = max(self.sure_until, self._free_at)
            self.arrive_at = self.next_begin + self._complete
        self._note_what_is_sure()

    def _note_what_is_sure(self) -> None:
        """Note whether a character that nobody knows of yet could still change what comes next.

        It could if none is known. Where the sender has room for few, it could also be refused before the next begins.
        """
        self.is_unsure = self.number < 0 or (self._holds < NEVER and self.sure_until < self.next_begin < NEVER)

    def extend(self, wanted: Sequence[int], sure_until: int) -> None:
        """Take in characters that are to be sent; no other begins before a time."""
        self._wanted += wanted
        self.begin += [MISSING] * len(wanted)
        self.sure_until = max(self.sure_until, sure_until)
        if self.number < 0:
            self._plan()
        self._note_what_is_sure()

    def wait(self) -> None:
        """Let the other thread go on, until it knows more."""
        self.give_way()
        self.begin_when_let()

    def begin_when_let(self) -> None:
        """Wait until the replay may run."""
        self._may_run.acquire()
        if self.is_closed:
            raise _Closed

    def give_way(self) -> None:
        """Let the other thread go on."""
        self._has_run.release()

    def release(self) -> None:
        """Let the replay go on."""
        self._may_run.release()

    def resume(self) -> None:
        """Let the replay go on, until it has to wait."""
        self.release()
        self._has_run.acquire()


class _LiveRun(ReceiveRun):
    """A replay that stops as soon as the application has something."""

    def __init__(self, path: ReceivePath, sender: _LiveSender, values: list[int], line: LineSettings) -> None:
        signal = nanoseconds(line.character_time_s) if line.flow_control == "xon-xoff" else 0
        self.live = sender
        self.given: list[tuple[int, int]] = []  # when the application got a character, and which
        super().__init__(path, sender, values, line.character_time_s * 1e9, signal)
        self._has_ring = path.ring is not None

    def extend(self, count: int) -> None:
        for column in (self.fetched, self.stored, self.taken, self.lost):
            column += [MISSING] * count
        self.fate += bytes([Fate.LEFT]) * count

    def _keep(self, number: int, at: int, is_kept: bool) -> None:
        super()._keep(number, at, is_kept)
        if is_kept:
            self.given.append((at, number))

    def _store(self, number: int, at: int) -> None:
        super()._store(number, at)
        if not self._has_ring:
            self.given.append((at, number))

    def _serve(self) -> None:
        super()._serve()
        if self.given and not self._has_ring:  # with the handler's end
            self.given = [(self._busy_until, number) for _, number in self.given]
            self.live.wait()

    def _has_taken(self, at: int) -> None:
        super()._has_taken(at)
        if self.given:
            self.live.wait()


class LivePath:
    """A receive path at the far end of a simulated line.

    Parameters
    ----------
    path : ReceivePath
        What was declared.
    line : LineSettings
        The settings of the wire.

    Attributes
    ----------
    fates : dict of str to int
        What has become of the characters so far, by the names of `Fate`.

    Raises
    ------
    RequestError
        If it is that of a receiver in software, which needs levels.
    """

    def __init__(self, path: ReceivePath, line: LineSettings) -> None:
        if isinstance(path.service, SoftwareReceiver):
            found = "has a receiver in software"
            raise RequestError(f"receive.{path.key}", found, "must be one in hardware on a simulated line")
        self.values: list[int] = []
        self._sender = _LiveSender(path, line)
        self._run = _LiveRun(path, self._sender, self.values, line)
        self._has_ended = False
        self._thread = Thread(target=self._work, daemon=True)
        self._thread.start()

    @property
    def fates(self) -> dict[str, int]:
        """How many characters had each fate."""
        names = {int(fate): fate.name.lower().replace("_", "-") for fate in Fate}
        counts = {names[fate]: self._run.fate.count(fate) for fate in names}
        held = len(self._sender.refused)
        counts["held-back"] += held
        counts["left"] -= held
        return {name: count for name, count in counts.items() if count}

    @property
    def is_paced(self) -> bool:
        """Whether the sender is held back by pauses."""
        return self._sender.hears

    def begun(self, number: int) -> float | None:
        """Return when a character began, in seconds; None if it has not."""
        at = self._sender.begin[number]
        return None if at == MISSING else at * 1e-9

    def feed(self, begins: Sequence[int], values: Sequence[int], until: int) -> None:
        """Let characters come; no other begins before a time, all in nanoseconds."""
        self.values += values
        self._run.extend(len(values))
        self._sender.extend(begins, until)

    def advance(self, until: int) -> tuple[int, bytes] | None:
        """Let time pass until the application gets something; None if it gets nothing up to a time."""
        self._sender.extend((), until)
        given = self._run.given
        if not given and not self._has_ended:
            self._sender.resume()
            given = self._run.given
        if not given or given[0][0] > until:
            return None
        at = given[0][0]
        self._sender.sure_until = at  # what is sent from now on is not known yet
        self._sender.extend((), at)
        now = [number for when, number in given if when == at]
        del given[: len(now)]
        return at, bytes(self.values[number] & 0xFF for number in now)

    def close(self) -> None:
        """End it."""
        if not self._has_ended:
            self._sender.is_closed = True
            self._sender.release()
            self._thread.join()

    def _work(self) -> None:
        try:
            self._sender.begin_when_let()
            self._run.run()
        except _Closed:
            pass
        finally:
            self._has_ended = True
            self._sender.give_way()
