"""Whether a receive path keeps up with what arrives, judged a stretch at a time in bounded memory."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters
from larkreader.declare.document.sheet import Sheet
from larkreader.declare.paths.receive_services import SoftwareReceiver
from larkreader.judge.findings.finding import MOST_PLACES
from larkreader.simulate.path_limits import PathLimits
from larkreader.simulate.receive_run import ReceiveRun
from larkreader.simulate.replay_sum import ReplaySum

from .messages import Messages, ends_whole, rests_behind, starts_after_rests
from .path_facts import PathFacts
from .path_report import SEARCHED, PathSum, conclude_path, judge_receive_path, other_line

Offsets = npt.NDArray[np.int64]
AT_ONCE = 1 << 14  # characters of which the columns of a replay are there at once


class PathJudge:
    """Judges the receive path of a wire whose characters arrive a stretch at a time.

    Few characters are kept, and judged as `judge_receive_path` judges them; so are those of a receiver in software,
    however many.

    Parameters
    ----------
    sheet : Sheet
        What was declared; its ``[receive]`` has a path for the wire.
    wire : str
        The wire.
    searched : int
        Up to how many characters it is searched what the path could stand.

    Attributes
    ----------
    count : int
        How many characters there are so far.
    """

    count: int = 0

    def __init__(self, sheet: Sheet, wire: str, *, searched: int = SEARCHED) -> None:
        self._sheet, self._wire, self._line, self._searched = sheet, wire, sheet.wire[wire].line, searched
        path = sheet.receive[wire]
        self._keeps_all = isinstance(path.service, SoftwareReceiver)
        self._kept: list[Characters] = []
        self._starts: list[Offsets] = []
        self._run = ReceiveRun(path, self._line, back=other_line(sheet, wire))
        self._sum, self._facts = ReplaySum(path), PathFacts(path, MOST_PLACES)
        self._last_s = -np.inf

    def add(self, characters: Characters, starts: Offsets) -> None:
        """Take in what follows.

        Parameters
        ----------
        characters : Characters
            With times.
        starts : ndarray of int64, shape (n_frames,)
            The numbers of those with which a frame begins, counted from the first of all characters.
        """
        self._kept.append(characters)
        self._starts.append(starts)
        self.count += len(characters)
        if not self._is_kept:
            self._replay_kept()

    @property
    def _is_kept(self) -> bool:
        """Whether all characters so far are kept."""
        return self._keeps_all or self.count <= self._searched

    def _replay_kept(self) -> None:
        """Run what was kept through the path."""
        characters, starts = Characters.joined(self._kept), np.concatenate(self._starts)
        self._kept, self._starts = [], []
        if not len(characters):
            return
        for first in range(0, len(characters), AT_ONCE):
            self._run.feed(characters[first : first + AT_ONCE])
            self._take()
        rests = starts_after_rests(characters, self._line, self._last_s)
        self._facts.by_frames.add_messages(starts)
        self._facts.by_rests.add_messages(rests + self.count - len(characters))
        self._last_s = float(characters.end_s[-1])

    def _take(self) -> None:
        part = self._run.take()
        self._sum.add(part)
        self._facts.add(part)

    def close(self, end_s: float | None, *, frame_ends: bool, is_unfinished: bool) -> PathSum:
        """Judge the path, now that nothing follows.

        Parameters
        ----------
        end_s : float, optional
            When the capture ends, in seconds; None where that is not known.
        frame_ends, is_unfinished
            As of `ends_whole`.
        """
        if self._is_kept:
            characters, starts = Characters.joined(self._kept), np.concatenate(self._starts)
            messages = Messages.between_rests(characters, self._line, end_s)
            messages = messages.or_frames(starts, frame_ends=frame_ends, is_unfinished=is_unfinished)
            is_searched = self.count <= self._searched
            return judge_receive_path(self._sheet, self._wire, characters, messages, search=is_searched)
        self._run.close()
        self._take()
        by_rests = not self._facts.by_frames.messages
        (self._facts.by_rests if by_rests else self._facts.by_frames).close(self.count)
        is_whole = rests_behind(self._last_s, self._line, end_s)
        if not by_rests:
            is_whole = ends_whole(is_whole, frame_ends=frame_ends, is_unfinished=is_unfinished)
        limits = PathLimits()
        findings = conclude_path(
            self._wire, self._line, self._sum, self._facts, limits, is_whole=is_whole, by_rests=by_rests
        )
        return PathSum(self._wire, self._line, self._sum, limits, tuple(findings))
