"""A device's receiver among every kind of damage: which frames it should have kept, and which it should have refused.

The device answers each frame that it takes, either with a reply that holds the same in some fields, as ``[pair.NAME]``
declares, or by sending the frame back. Sound frames surround each damage. What the receiver must keep are the sound
frames that our own reader finds in the same bytes; what it must not take is anything else.
"""

from __future__ import annotations

import random
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Literal

from larkreader.declare.document.sheet import Sheet
from larkreader.declare.frame.layout import FrameLayout
from larkreader.declare.run.pairing import Pairing
from larkreader.decode.columns.frame_columns import Frames
from larkreader.decode.cut.frames import read_layouts
from larkreader.decode.cut.streaming import LayoutsReader
from larkreader.errors import PortError, RequestError, nearest
from larkreader.exercise.ports.port import Port

from .damage import DAMAGES, FrameMaker, Piece

BEFORE = 2  # sound frames before each damage
LEAST_BEHIND, MOST_BEHIND = 6, 40  # sound frames behind it
MOST_SWALLOWED = 8192  # bytes of sound frames, of which a device that takes none is stuck
TRIALS = 20
UNDAMAGED = "none"
QUIET_S = 0.3  # without a new answer, after which none is expected
READ = 4096
WRITE_LIMIT_S = 10.0

Outcome = Literal["pass", "fail", "stuck", "gone", "not tried"]
Identity = tuple[str, ...]


@dataclass(frozen=True)
class TortureRow:
    """What became of the frames around one kind of damage.

    Parameters
    ----------
    damage : str
        What was done.
    outcome : {"pass", "fail", "stuck", "gone", "not tried"}
        ``"stuck"``: the device took nothing more, not even after a rest; ``"gone"``: the port failed.
    trials : int
        How often it was done.
    sound : int
        Sound frames that the device had to keep.
    lost : int
        Those of them that it did not.
    wrong : int
        Frames that it took and should not have: damaged, or never sent.
    longest_loss : int
        The most sound frames in a row that it lost behind one damage.
    needs_rest : int
        How often it took frames again only when the line had rested.
    example : bytes
        What was sent between sound frames in the first trial that failed.
    why : str
        Why the port failed.
    """

    damage: str
    outcome: Outcome
    trials: int = 0
    sound: int = 0
    lost: int = 0
    wrong: int = 0
    longest_loss: int = 0
    needs_rest: int = 0
    example: bytes = b""
    why: str = ""

    def to_dict(self) -> dict[str, Any]:
        """Return it as JSON has it."""
        return {**vars(self), "example": self.example.hex(" ").upper()}


@dataclass(frozen=True)
class TortureResult:
    """What a device's receiver made of damage.

    Parameters
    ----------
    layout : str
        The frame that was sent.
    answered_by : str
        The pair by which its answers are known; nothing where it sends frames back.
    rows : tuple of TortureRow
        A row for each kind of damage, the first for none.
    duration_s : float
        How long it took, in seconds on the port's clock.
    """

    layout: str
    answered_by: str
    rows: tuple[TortureRow, ...]
    duration_s: float

    @property
    def verdict(self) -> Literal["pass", "fail"]:
        """``"pass"`` if no sound frame was lost, and no other taken."""
        return "pass" if all(row.outcome == "pass" for row in self.rows) else "fail"

    def to_dict(self) -> dict[str, Any]:
        """Return it as JSON has it."""
        return {
            "frame": self.layout,
            "answered_by": self.answered_by,
            "verdict": self.verdict,
            "duration_s": self.duration_s,
            "damages": [row.to_dict() for row in self.rows],
        }


def run_torture(
    port: Port,
    sheet: Sheet,
    frame: str | None = None,
    *,
    pair: str | None = None,
    trials: int = TRIALS,
    quiet_s: float = QUIET_S,
    seed: int = 1,
    reopen: Callable[[], Port] | None = None,
    progress: Callable[[int, int], None] | None = None,
) -> TortureResult:
    """Send sound frames among every kind of damage to a device, and compare what it takes with what it should.

    Parameters
    ----------
    port : Port
        Where the device is.
    sheet : Sheet
        Declares the frames, and by ``[pair.NAME]`` with `match` how the device answers.
    frame : str, optional
        The frame that is sent; the request of the pair, or the only frame.
    pair : str, optional
        The pair by which answers are known; the first that has `match` and the frame as its request. Without any, the
        device sends each frame that it takes back as it is.
    trials : int
        How often each kind of damage is tried.
    quiet_s : float
        How long to wait for answers, in seconds.
    seed : int
        Of the random damage and the values.
    reopen : callable, optional
        Opens the port again, which restarts the device, where it is stuck or gone; the rest is not tried without it.
    progress : callable, optional
        Called with how many kinds of damage are done, and how many there are.

    Returns
    -------
    TortureResult
        A row for each kind of damage; its verdict is ``"pass"`` if the device lost no sound frame, and took no other.

    Raises
    ------
    RequestError
        If the frame cannot be sent so, or it is not known how the device answers.
    """
    torture = _Torture(port, sheet, frame, pair, trials, quiet_s, seed)
    try:
        return torture.run(reopen, progress)
    finally:
        if torture.port is not port:
            torture.port.close()


class _Torture:
    """A run under way."""

    def __init__(
        self, port: Port, sheet: Sheet, frame: str | None, pair: str | None, trials: int, quiet_s: float, seed: int
    ) -> None:
        self.port, self.trials, self.quiet_s = port, trials, quiet_s
        self.pair = _pair_of(sheet, frame, pair)
        self.layout = _layout_of(sheet, frame, self.pair)
        self.asked = [layout for layout in sheet.frame.values() if layout.wire == self.layout.wire]
        replies = [sheet.frame[name] for name in self.pair.reply] if self.pair else [self.layout]
        self.answering = [layout for layout in sheet.frame.values() if layout.wire == replies[0].wire]
        self.reader = LayoutsReader(self.answering)
        self.answers = {layout.key for layout in replies}
        self.maker = FrameMaker(self.layout, random.Random(seed), self._identity)
        self.taken: set[Identity] = set()
        self.old: set[Identity] = set()  # what was taken in the trial before, and may be reported once more

    def run(self, reopen: Callable[[], Port] | None, progress: Callable[[int, int], None] | None) -> TortureResult:
        """Try every kind of damage that can happen to the frame."""
        began_s = self.port.now_s()
        self._collect(set(), self.quiet_s)  # what the device sends of itself answers nothing
        kinds: dict[str, Callable[[FrameMaker], Sequence[Piece]]] = {UNDAMAGED: lambda maker: []}
        kinds |= {name: make for name, (make, can_be) in DAMAGES.items() if can_be(self.layout)}
        rows: list[TortureRow] = []
        is_over = False
        for number, (name, make) in enumerate(kinds.items()):
            if progress is not None:
                progress(number, len(kinds))
            rows.append(TortureRow(name, "not tried") if is_over else self._row(name, make))
            if not is_over and rows[-1].outcome in ("stuck", "gone"):  # without damage: it does not answer at all
                is_over = name == UNDAMAGED or not self._restarted(reopen)
        answered_by = self.pair.key if self.pair else ""
        return TortureResult(self.layout.key, answered_by, tuple(rows), self.port.now_s() - began_s)

    def _restarted(self, reopen: Callable[[], Port] | None) -> bool:
        """Open the port again where that is possible; return whether the device can be tried further."""
        if reopen is None:
            return False
        self.port.close()
        try:
            self.port = reopen()
        except PortError:
            return False
        self.reader = LayoutsReader(self.answering)
        self.taken = set()
        self._collect(set(), self.quiet_s)
        return True

    def _row(self, name: str, make: Callable[[FrameMaker], Sequence[Piece]]) -> TortureRow:
        counts = {"trials": 0, "sound": 0, "lost": 0, "wrong": 0, "longest_loss": 0, "needs_rest": 0}
        example, outcome, why = b"", "pass", ""
        for _ in range(self.trials):
            damage = make(self.maker)
            pieces = [*self._sound(BEFORE), *damage, *self._sound(self._behind())]
            counts["trials"] += 1
            try:
                found = self._trial(pieces)
            except PortError as error:
                outcome, why = "gone", str(error)
                example = example or _sent(damage)
                break
            for key in ("sound", "lost", "wrong", "needs_rest"):
                counts[key] += found[key]
            counts["longest_loss"] = max(counts["longest_loss"], found["longest_loss"])
            if found["lost"] or found["wrong"]:
                outcome, example = "fail", example or _sent(damage)
            if found["is_stuck"]:
                outcome = "stuck"
                break
        if outcome == "pass" and not counts["sound"]:  # nothing was proven
            outcome = "not tried"
        return TortureRow(name, outcome, example=example, why=why, **counts)  # type: ignore[arg-type]

    def _sound(self, count: int) -> Iterator[Piece]:
        return (Piece(self.maker.sound(), is_sound=True) for _ in range(count))

    def _behind(self) -> int:
        """Return how many sound frames follow: as many as a frame of the greatest length could swallow, and some."""
        longest = min(self.layout.longest, 1024)
        return max(LEAST_BEHIND, min(2 * longest // max(self.layout.shortest, 1) + 2, MOST_BEHIND))

    def _trial(self, pieces: Sequence[Piece]) -> dict[str, int]:
        """Send some pieces, and count what became of their frames."""
        sound = list(self._identities(read_layouts(_sent([item for item in pieces if item.is_sound]), self.asked)))
        kept = list(self._identities(read_layouts(_sent(pieces), self.asked)))
        wanted = [item for item in sound if item in set(kept)]
        self.old, self.taken = self.taken, set()
        self._send(pieces)
        self._collect(set(wanted), self.quiet_s)
        taken = self.taken - self.old
        lost = [item not in self.taken for item in wanted]
        wrong = len(taken - set(sound) - set(kept))
        needs_rest, is_stuck = 0, False
        if wanted and lost[-1]:  # it may wait for something that never follows, or for a rest of the line
            swallowed = self._swallowed()
            is_stuck = swallowed is None
            needs_rest = int(swallowed == 0 and all(lost[-LEAST_BEHIND:]))
            lost += [True] * (swallowed or 0)
        return {
            "sound": len(wanted) + max(len(lost) - len(wanted), 0), "lost": sum(lost), "wrong": wrong,
            "longest_loss": _longest_run(lost), "needs_rest": needs_rest, "is_stuck": int(is_stuck),
        }  # fmt: skip

    def _swallowed(self) -> int | None:
        """Return how many more sound frames the device loses behind a rest before it takes any; None if none."""
        lost, data, many = 0, 0, LEAST_BEHIND
        while data < MOST_SWALLOWED:
            more = list(self._sound(many))
            wanted = list(self._identities(read_layouts(_sent(more), self.asked)))
            self._send([Piece(more[0].data, rest_s=self.quiet_s if not data else 0.0), *more[1:]])
            self._collect(set(wanted), self.quiet_s)
            found = [item in self.taken for item in wanted]
            if any(found):
                return lost + found.index(True)
            lost, data, many = lost + len(wanted), data + len(_sent(more)), 2 * many
        return None

    def _send(self, pieces: Sequence[Piece]) -> None:
        data = b""
        for piece in pieces:
            if piece.rest_s:
                self.port.write(data, WRITE_LIMIT_S)
                data = b""
                self._collect(set(), piece.rest_s)
            data += piece.data
        self.port.write(data, WRITE_LIMIT_S)

    def _collect(self, wanted: set[Identity], limit_s: float) -> None:
        """Take in answers until all that are wanted are there, or nothing new arrives for some time."""
        deadline_s = self.port.now_s() + limit_s
        while (remaining_s := deadline_s - self.port.now_s()) > 0 and not (wanted and wanted <= self.taken):
            received = self.port.read_some(READ, remaining_s)
            if not received.data:
                continue
            found = set(self._answers(self.reader.feed(received.data)))
            if found - self.taken:
                deadline_s = max(deadline_s, self.port.now_s() + self.quiet_s)
            self.taken |= found

    def _identity(self, content: bytes) -> Identity:
        """Return what a frame holds by which its answer is known; of its content."""
        if not self.pair:
            return (content.hex(),)
        return tuple(str(self.layout.peek(content, name)[0]) for name in self.pair.match)

    def _identities(self, read: Mapping[str, Frames]) -> Iterator[Identity]:
        """Yield what sound frames of the layout hold by which their answers are known."""
        names = list(self.pair.match) if self.pair else None
        yield from _held(read[self.layout.key], names)

    def _answers(self, read: Mapping[str, Frames]) -> Iterator[Identity]:
        names = list(self.pair.match.values()) if self.pair else None
        for key in self.answers:
            yield from _held(read[key], names)


def _held(frames: Frames, names: Sequence[str] | None) -> Iterator[Identity]:
    """Yield what good frames hold in some fields, or their bytes, in the order in which they were sent."""
    columns = [frames.raw(name) for name in names or ()]
    for row in range(len(frames)):
        if frames.faults[row]:
            continue
        if names is None:
            yield (bytes(frames.data[row]).hex(),)
        else:
            yield tuple(
                str(column[row].tolist() if hasattr(column[row], "tolist") else column[row]) for column in columns
            )


def _sent(pieces: Sequence[Piece]) -> bytes:
    return b"".join(piece.data for piece in pieces)


def _longest_run(lost: Sequence[bool]) -> int:
    longest = here = 0
    for item in lost:
        here = here + 1 if item else 0
        longest = max(longest, here)
    return longest


def _pair_of(sheet: Sheet, frame: str | None, pair: str | None) -> Pairing | None:
    """Return the pair by which answers are known; None where the device sends frames back."""
    if pair is not None:
        if pair not in sheet.pair:
            raise RequestError(f'pair "{pair}"', "is not on the sheet", advice=nearest(pair, list(sheet.pair)))
        if not sheet.pair[pair].match:
            raise RequestError(f"pair.{pair}", "has no match", "needs fields that a request and its reply hold alike")
        return sheet.pair[pair]
    for declared in sheet.pair.values():
        is_of_frames = all(name in sheet.frame for name in (*declared.request, *declared.reply))
        if declared.match and is_of_frames and (frame is None or frame in declared.request):
            return declared
    return None


def _layout_of(sheet: Sheet, frame: str | None, pair: Pairing | None) -> FrameLayout:
    """Return the layout of the frame that is sent."""
    known = list(sheet.frame)
    if frame is not None and frame not in known:
        raise RequestError(f'frame "{frame}"', "is not on the sheet", advice=nearest(frame, known))
    if frame is None and pair is None and len(known) != 1:
        raise RequestError(
            "the sheet",
            f"has {len(known)} frames and no [pair.NAME] with match",
            "needs a pair that shows how the device answers, or the name of a frame that it sends back",
        )
    layout = sheet.frame[frame or (pair.request[0] if pair else known[0])]
    boundary = layout.boundary
    if boundary.opened_by or boundary.is_back_to_back or layout.pattern is not None:
        found = "is a line of text" if layout.pattern is not None else f"has the boundary {boundary.kind}"
        raise RequestError(
            f"frame.{layout.key}", found, "must have a boundary of bytes, so that damage can be sent as bytes alone"
        )
    return layout
