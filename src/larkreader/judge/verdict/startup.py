"""What a wire does before its first idle time, if that is not a message: it floats, or its pin is set up too early.

A line that is pulled to idle level late reads as low from the beginning of the capture, as breaks, or as characters of
some zeros and then ones; short pulses read as false starts. Other characters are spurious where nothing but the end of
the capture's first idle time makes them part of a message: they stand alone, belong to no good frame and are not text,
and what follows the idle time is a good frame or text.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters, Fault
from larkreader.capture.median import median_of
from larkreader.capture.trace import Trace
from larkreader.declare.frame.layout import FrameLayout
from larkreader.declare.link.line import LineSettings
from larkreader.decode.columns.frame_columns import UNTRUSTED, Frames, Skip, Spans
from larkreader.decode.cut.frames import read_layouts
from larkreader.judge.findings.finding import NOWHERE, Finding, Places, make_finding
from larkreader.judge.wire.text_checks import LETTERS, is_text

PAUSE = 2.0  # character times of idle behind what stands alone
MOST = 3  # characters together that are not a message
MOST_RUNS = 8  # of them, each with an idle time behind it
COMPARED = 1 << 12  # characters that are cut into frames to see what the first of them are
GAPS = 64  # between characters, of which most are shorter than the idle time
# A line that is pulled to idle level late, somewhere in a character, lowest bit first: some zeros, then ones.
SHAPES = frozenset((0xFF << zeros) & 0xFF for zeros in range(9))
SHOWN = 8  # values


@dataclass(frozen=True)
class Startup:
    """What a wire did before its first idle time, where that is not a message.

    Parameters
    ----------
    count : int
        How many characters were read of it: the first of the wire.
    pulses_s : ndarray of float64, shape (n_pulses,)
        When there were pulses that are too short for a start bit.
    begin_s : float
        When it began, in seconds.
    low_s : float or None
        For how long the wire was at start level from the beginning of the capture, if longer than a character.
    """

    count: int
    pulses_s: npt.NDArray[np.float64]
    begin_s: float
    low_s: float | None = None

    def left_out(self, characters: Characters) -> Characters:
        """Return characters without the faults that belong to it, for their number and places stay the same."""
        faults = characters.faults.copy()
        faults[: self.count] = 0
        later = ~np.isin(characters.false_starts_s, self.pulses_s)
        return replace(
            characters,
            faults=faults,
            false_starts_s=characters.false_starts_s[later],
            starts_mid_character=characters.starts_mid_character and self.low_s is None,
        )

    def finding(self, wire: str, characters: Characters) -> Finding:
        """Return the finding on it. That characters mean nothing is concluded from what stands around them."""
        times = [*([] if self.low_s is None else [self.begin_s]), *self.pulses_s]
        offsets = np.concatenate([np.full(len(times), NOWHERE), np.arange(self.count)])
        at_s = np.concatenate([times, characters.begin_s[: self.count]])
        order = np.argsort(at_s, kind="stable")
        values = [f"0x{value:02X}" for value in characters.value[: min(self.count, SHOWN)].tolist()]
        return make_finding(
            "startup-character",
            wire,
            Places.at(offsets[order], at_s[order]),
            certainty="likely" if self.count else "proven",
            values=values or None,
            pulses=len(self.pulses_s) or None,
            low_s=self.low_s,
        )


def find_startup(
    characters: Characters,
    line: LineSettings,
    layouts: Sequence[FrameLayout] = (),
    beginning: Trace | None = None,
    *,
    slack_s: float = 0.0,
) -> Startup | None:
    """Find what a wire did before its first idle time, if that is not a message.

    Parameters
    ----------
    characters : Characters
        As the wire reads.
    line : LineSettings
        Its settings.
    layouts : sequence of FrameLayout
        The frames that it may carry.
    beginning : Trace, optional
        How its level changes begin.
    slack_s : float
        By how much the times of the characters may be off, in seconds.

    Returns
    -------
    Startup or None
    """
    low_s = _low_from_begin(beginning, line)
    if len(characters) and not characters.has_times:
        return None
    pause_s = PAUSE * line.character_time_s + slack_s
    count = _count_spurious(characters, layouts, pause_s, _idle_before(characters, beginning) / line.character_time_s)
    false_starts = characters.false_starts_s
    first_s = characters.begin_s[count] if count < len(characters) else np.inf
    pulses = false_starts[false_starts < first_s - pause_s]
    if not count and low_s is None and len(pulses) < len(false_starts):
        pulses = pulses[:0]  # a line with pulses all along is noisy
    if not count and low_s is None and not len(pulses):
        return None
    begins = [*pulses[:1], *characters.begin_s[: min(count, 1)]]
    if beginning is not None and low_s is not None:
        begins.append(beginning.in_seconds(beginning.begin))
    return Startup(count, pulses, float(min(begins)), low_s)


def read_after(startup: Startup | None, characters: Characters, layouts: Sequence[FrameLayout]) -> dict[str, Frames]:
    """Cut characters into frames, those before the first idle time left out; see `read_layouts`."""
    count = 0 if startup is None else startup.count
    if not count:
        return dict(read_layouts(characters, layouts))
    found = read_layouts(characters[count:], layouts)
    spans = next(iter(found.values())).skipped
    skipped = Spans(
        np.concatenate([[0], spans.offset + count]),
        np.concatenate([[count], spans.length]),
        np.concatenate([[Skip.STARTUP], spans.reason]).astype(np.uint8),
    )
    return {name: replace(frames, offset=frames.offset + count, skipped=skipped) for name, frames in found.items()}


def _low_from_begin(beginning: Trace | None, line: LineSettings) -> float | None:
    """Return how long a wire was at start level from the beginning, in seconds; None unless that is not a character."""
    if beginning is None or not len(beginning) or beginning.first_level == (line.idle == "high"):
        return None
    low_s = float(beginning.edges[0] - beginning.begin) * beginning.tick_s
    return low_s if low_s > line.character_time_s else None


def _idle_before(characters: Characters, beginning: Trace | None) -> float:
    """Return for how long the wire was captured before its first character, in seconds; 0 where that is unknown."""
    if beginning is None or not len(characters):
        return 0.0
    return float(characters.begin_s[0]) - beginning.in_seconds(beginning.begin)


def _count_spurious(characters: Characters, layouts: Sequence[FrameLayout], pause_s: float, idle: float) -> int:
    """Return how many of the first characters are not a message; `idle` is what lies before, in character times."""
    characters = characters[:COMPARED]
    if not len(characters) or (characters.value > 0xFF).any():
        return 0
    broken = characters.has_fault(Fault.BREAK)
    if any(layout.boundary.opened_by == "break" for layout in layouts) and broken[0]:
        return 0
    gaps = characters.begin_s[1:] - characters.end_s[:-1]
    rests = np.flatnonzero(gaps > pause_s)[:MOST_RUNS] + 1
    shaped = np.isin(characters.value, list(SHAPES)) | characters.has_fault(Fault.FRAMING | Fault.BREAK)
    context = _Context(characters, layouts)
    if len(characters) == 1:
        return int(shaped[0] and not context.is_message(1))
    count = 0
    for begin, end in zip([0, *rests.tolist()], rests.tolist(), strict=False):
        if end - begin > MOST or not _is_rare(gaps[end : end + GAPS], pause_s) or context.is_message(end):
            break
        is_alone = begin == 0 and end == 1
        if shaped[begin:end].all():
            is_spurious = is_alone or (context.is_known if begin == 0 else context.begins_message(end))
        else:
            is_spurious = begin == 0 and context.is_foreign(end, idle) and context.begins_message(end)
        if not is_spurious:
            break
        count = end
    breaks = int(np.argmin(np.append(broken, False)))
    if not count and 0 < breaks < len(characters) and context.begins_message(breaks):
        return breaks
    return count


def _is_rare(gaps: npt.NDArray[np.float64], pause_s: float) -> bool:
    """Return whether gaps as long as a pause are rare in what follows: else each character stands alone."""
    return len(gaps) < 4 or median_of(gaps) <= pause_s


class _Context:
    """What the first characters of a wire are by what follows them: frames, where they are declared, or text."""

    def __init__(self, characters: Characters, layouts: Sequence[FrameLayout]) -> None:
        self._some = characters
        self._layouts = layouts

    @property
    def is_known(self) -> bool:
        """Whether it shows at all what is a message."""
        return bool(self._layouts) or is_text(self._data(0))

    @cached_property
    def good(self) -> list[tuple[int, int]]:
        """Where good frames begin and end."""
        return self._good_frames(0)

    def is_message(self, count: int) -> bool:
        """Return whether a good frame lies within the first characters, or reaches from them into what is else none."""
        if not self._layouts:
            return False
        reaching = [end for begin, end in self.good if begin < count]
        return any(end <= count for end in reaching) or (bool(reaching) and not self.begins_message(count))

    def begins_message(self, count: int) -> bool:
        """Return whether a good frame, or text, begins behind the first characters."""
        if self._layouts:
            return any(begin == 0 for begin, _ in self._good_frames(count))
        return is_text(self._data(count))

    def is_foreign(self, count: int, idle: float) -> bool:
        """Return whether the first characters are nothing that messages are made of, nor the end of one."""
        if self._layouts:
            return idle >= 1 and not any(begin < count for begin, _ in self.good)
        first = self._data(0)[:count]
        return first.translate(None, LETTERS) == first

    def _good_frames(self, count: int) -> list[tuple[int, int]]:
        found: list[tuple[int, int]] = []
        for frames in read_layouts(self._some[count:], self._layouts).values():
            good = frames[~frames.has_fault(UNTRUSTED)]
            found += zip(good.offset.tolist(), (good.offset + good.length).tolist(), strict=True)
        return found

    def _data(self, count: int) -> bytes:
        return self._some.value[count:].astype(np.uint8).tobytes()
