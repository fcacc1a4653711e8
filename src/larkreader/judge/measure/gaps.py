"""How long a wire rests between the characters of a message, and between messages."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters
from larkreader.decode.timeline import Timeline
from larkreader.errors import RequestError, nearest

Seconds = npt.NDArray[np.float64]


@dataclass(frozen=True, eq=False)
class Gaps:
    """The rests of one wire.

    Parameters
    ----------
    wire : str
        Its name.
    within_s : ndarray of float64, shape (n_rests,)
        From the end of a character to the beginning of the next message of the same message, in seconds; 0 where one
        follows the other without a rest.
    between_s : ndarray of float64, shape (n_messages - 1,)
        From the end of a message to the beginning of the next message, in seconds.
    """

    wire: str
    within_s: Seconds
    between_s: Seconds

    def __repr__(self) -> str:
        return f"<Gaps of {self.wire}: {len(self.within_s):,} within messages, {len(self.between_s):,} between them>"


def measure_gaps(timeline: Timeline, characters: Characters, wire: str) -> Gaps:
    """Find how long a wire rests.

    Parameters
    ----------
    timeline : Timeline
        The messages of all wires.
    characters : Characters
        Those of the wire.
    wire : str
        Its name.

    Returns
    -------
    Gaps
        How long the wire rests within and between messages, but for times in which nothing was recorded.

    Raises
    ------
    RequestError
        If the timeline has no such wire.

    Examples
    --------
    Two messages of two characters, a millisecond from the end of the first to the begin of the second:

    >>> line = lr.LineSettings(baud=10_000)
    >>> layout = lr.FrameLayout(boundary={"kind": "fixed", "length": 2}, fields=[{"name": "flow", "type": "uint16"}])
    >>> sheet = lr.Sheet(line=line, wire={"pump": {}}, frame={"flow": layout})
    >>> reading = lr.read(sheet, {"pump": lr.transmit(bytes(4), line, gaps=[0, 0, 10, 0])})
    >>> gaps = lr.judge.measure_gaps(reading.timeline, reading.characters["pump"], "pump")
    >>> gaps.between_s.round(6).tolist()
    [0.001]
    """
    if wire not in timeline.wires:
        advice = nearest(wire, list(timeline.wires))
        raise RequestError(f'wire "{wire}"', "is not on the timeline", "must be a wire with times", advice)
    begins = timeline.offset[timeline.wire == timeline.wires.index(wire)]
    rests_s = np.maximum(characters.begin_s[1:] - characters.end_s[:-1], 0.0)
    is_between = np.zeros(len(characters), np.bool_)
    is_between[begins] = True
    is_recorded = np.ones(len(rests_s), np.bool_)
    is_recorded[[place - 1 for place in characters.resumed if 0 < place < len(characters)]] = False
    between = is_between[1:] & is_recorded
    return Gaps(wire, rests_s[~is_between[1:] & is_recorded], rests_s[between])
