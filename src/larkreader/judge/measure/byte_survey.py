"""What each byte and bit of some frames does, before its meaning is known.

A byte that never changes, one that counts, one that moves within a range: that is what a person looks for in frames
without fields, and whether it changes when a control is moved.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np
import numpy.typing as npt

from larkreader.capture.columns import Columns
from larkreader.capture.ragged import Ragged
from larkreader.decode.columns.frame_columns import FrameFault, Frames

MOST_PLACES = 1024  # bytes of a frame that are looked at
COUNTS = 0.8  # of the steps from frame to frame; if so many are alike, and hardly any is 0, the byte counts
FEWEST_STEPS = 4
MOST_STILL = 0.05  # of the steps, in which a byte that counts stands still
SURE = 1.95  # of Kolmogorov and Smirnov's two-sample test, at a chance of one in a thousand

Numbers = npt.NDArray[np.int64]


@dataclass(frozen=True, eq=False, repr=False)
class ByteSurvey(Columns):
    """What each byte of some frames does, a row each; all columns have shape (n_places,) but those of bits.

    Parameters
    ----------
    place : ndarray of int64
        Which byte, counted from 0.
    frames : ndarray of int64
        How many frames have it.
    low, high : ndarray of int64
        Its least and greatest value.
    values : ndarray of int64
        How many different values it has.
    changes : ndarray of int64
        How often it differs from the same byte of the frame before.
    step : ndarray of int64
        By how much it rises from frame to frame if it counts, modulo 256; else 0.
    ones : ndarray of float64, shape (n_places, 8)
        In what part of the frames each bit is set, bit 0 first.
    bit_changes : ndarray of int64, shape (n_places, 8)
        How often each bit differs from the same of the frame before.
    shares : ndarray of float64, shape (n_places, 256)
        In what part of the frames it has each value.
    """

    COLUMNS: ClassVar[tuple[str, ...]] = (
        "place",
        "frames",
        "low",
        "high",
        "values",
        "changes",
        "step",
        "ones",
        "bit_changes",
        "shares",
    )

    place: Numbers
    frames: Numbers
    low: Numbers
    high: Numbers
    values: Numbers
    changes: Numbers
    step: Numbers
    ones: npt.NDArray[np.float64]
    bit_changes: Numbers
    shares: npt.NDArray[np.float64]

    def looks(self, row: int) -> str:
        """Say in a few words what a byte looks like.

        Parameters
        ----------
        row : int
            The place of the byte.
        """
        low, high, step = int(self.low[row]), int(self.high[row]), int(self.step[row])
        if low == high:
            return "constant"
        if step:
            return f"counts by {step if step < 128 else step - 256}"
        if self.changes[row] * 20 < self.frames[row]:
            return "changes seldom"
        return "moves"

    def bits(self, row: int) -> str:
        """Write the bits of a byte, the most significant first: 0 or 1 for one that never changes, x for another.

        Parameters
        ----------
        row : int
            The place of the byte.
        """
        return "".join("x" if 0 < item < 1 else f"{item:.0f}" for item in self.ones[row, ::-1].tolist())

    def shown(self) -> dict[str, npt.NDArray[np.object_]]:
        """Return what a repr shows."""
        head = range(min(len(self), 6))
        result = {
            "place": [str(self.place[row]) for row in head],
            "range": [f"{self.low[row]:02X}-{self.high[row]:02X}" for row in head],
            "bits": [self.bits(row) for row in head],
            "looks": [self.looks(row) for row in head],
        }
        return {name: np.array(texts, dtype=object) for name, texts in result.items()}


@dataclass(frozen=True)
class ByteDifference:
    """How a byte differs between two stretches.

    Parameters
    ----------
    place : int
        Which byte.
    distance : float
        In what part of the frames it has another value than before: 0 for none, 1 where no value is in both.
    before, after : str
        What it looks like in each, with its range.
    bits : tuple of int
        The bits that are set in another part of the frames, 0 for the least significant.
    """

    place: int
    distance: float
    before: str
    after: str
    bits: tuple[int, ...]


def measure_bytes(frames: Frames | Ragged | npt.NDArray[np.uint8]) -> ByteSurvey:
    """Look at what each byte of some frames does.

    Parameters
    ----------
    frames : Frames, Ragged of uint8, or ndarray of uint8 of shape (n_frames, n_bytes)
        The frames in order. Of `Frames` those with a wrong checksum are left out.

    Returns
    -------
    ByteSurvey
        A row for each byte of a frame.

    Examples
    --------
    >>> rows = np.array([[0xD7, 1, 40], [0xD7, 2, 45], [0xD7, 3, 44], [0xD7, 4, 9], [0xD7, 5, 9]], dtype=np.uint8)
    >>> survey = lr.measure_bytes(rows)
    >>> [survey.looks(row) for row in range(3)], survey.bits(2)
    (['constant', 'counts by 1', 'moves'], '00x01x0x')
    """
    rows = frames
    if isinstance(rows, Frames):
        rows = rows[~rows.has_fault(FrameFault.CHECKSUM_MISMATCH)].data
    longest = rows.shape[1] if isinstance(rows, np.ndarray) else int(max(rows.length, default=0))
    columns = [_column(rows, place) for place in range(min(longest, MOST_PLACES))]
    count = len(columns)
    bits = [np.unpackbits(column[:, None], axis=1, bitorder="little") for column in columns]
    shares = [np.bincount(column, minlength=256) / len(column) for column in columns]
    return ByteSurvey(
        place=np.arange(count),
        frames=np.array([len(column) for column in columns], dtype=np.int64),
        low=np.array([column.min() for column in columns], dtype=np.int64),
        high=np.array([column.max() for column in columns], dtype=np.int64),
        values=np.array([np.count_nonzero(share) for share in shares], dtype=np.int64),
        changes=np.array([np.count_nonzero(np.diff(column)) for column in columns], dtype=np.int64),
        step=np.array([_step_of(column) for column in columns], dtype=np.int64),
        ones=np.array([bit.mean(axis=0) for bit in bits], dtype=np.float64).reshape(count, 8),
        bit_changes=np.array([np.count_nonzero(np.diff(bit, axis=0), axis=0) for bit in bits], dtype=np.int64).reshape(
            count, 8
        ),
        shares=np.array(shares, dtype=np.float64).reshape(count, 256),
    )


def compare_bytes(before: ByteSurvey, after: ByteSurvey) -> list[ByteDifference]:
    """Compare two stretches of frames byte by byte, such as before and after a control was moved.

    Parameters
    ----------
    before, after : ByteSurvey
        What the bytes did in each.

    Returns
    -------
    list of ByteDifference
        Of bytes that hold other values than before or count in one of the two, most different first. Bytes that count
        in both are left out, and those that differ by no more than chance makes two samples of one source differ, by
        the test of Kolmogorov and Smirnov.
    """
    found = []
    for place in range(min(len(before), len(after))):
        if before.step[place] and before.step[place] == after.step[place]:
            continue
        distance = float(np.abs(before.shares[place] - after.shares[place]).sum() / 2)
        counts = int(before.frames[place]), int(after.frames[place])
        gap = float(np.abs(np.cumsum(before.shares[place] - after.shares[place])).max())
        if gap <= SURE * np.sqrt(sum(counts) / (counts[0] * counts[1])):
            continue
        fewer = min(counts)
        apart = np.abs(before.ones[place] - after.ones[place])
        bits = tuple(int(bit) for bit in np.flatnonzero(apart > max(0.05, 2 / np.sqrt(fewer))))
        found.append(ByteDifference(place, distance, _behaviour(before, place), _behaviour(after, place), bits))
    return sorted(found, key=lambda item: (-round(item.distance, 3), item.place))


def _behaviour(survey: ByteSurvey, place: int) -> str:
    low, high = int(survey.low[place]), int(survey.high[place])
    return f"constant {low:02X}" if low == high else f"{survey.looks(place)}, {low:02X} to {high:02X}"


def _column(frames: Ragged | npt.NDArray[np.uint8], place: int) -> npt.NDArray[np.uint8]:
    if isinstance(frames, Ragged):
        long_ones = frames.length > place
        column: npt.NDArray[np.uint8] = frames.items[frames.begin[long_ones] + place]
        return column
    return np.ascontiguousarray(frames[:, place])


def _step_of(column: npt.NDArray[np.uint8]) -> int:
    """Return by how much a byte rises from frame to frame if it counts; else 0."""
    steps = np.diff(column)  # modulo 256
    if len(steps) < FEWEST_STEPS:
        return 0
    counts = np.bincount(steps, minlength=256)
    best = int(np.argmax(counts))
    return best if best and counts[best] >= COUNTS * len(steps) and counts[0] <= MOST_STILL * len(steps) else 0
