"""What fields may lie in frames whose boundary alone is known: constants, a counter, a length, a checksum at the end.

Bytes that never change, that count, or that hold the frame's length are fields of their own; a checksum is searched
over all algorithms by name, every beginning near the frame's, and both byte orders. What is left is data.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from larkreader.capture.ragged import Ragged
from larkreader.declare.checks.checksum import ALGORITHMS
from larkreader.declare.frame.layout import FrameLayout
from larkreader.decode.check.running_checksums import checksums_of_stretches
from larkreader.decode.columns.frame_columns import Frames
from larkreader.judge.measure.byte_survey import ByteSurvey, measure_bytes

FEWEST = 8  # different frames; fewer say nothing
MOST = 2000  # frames that are looked at
RIGHT = 0.9  # of the frames at least have a right checksum
SURE = 40  # bits by which a checksum must be no chance
LOOKED_AT = 8  # frames at first, before all are
SIZES = (2, 4, 1, 3, 8)  # bytes of a checksum, the usual sizes first
BEGINS = 6  # bytes from the first on at which the covered span may begin

Numbers = npt.NDArray[np.int64]


@dataclass(frozen=True)
class _Check:
    """A checksum that fits: its name, its size, its byte order, and where the covered span begins."""

    algorithm: str
    size: int
    order: str
    begin: int
    share: float


def propose_fields(frames: Frames) -> FrameLayout | None:
    """Propose the fields of frames of which little more than the boundary is known.

    Parameters
    ----------
    frames : Frames
        Of one layout, whose boundary is kept and whose fields are looked past.

    Returns
    -------
    FrameLayout or None
        The boundary with the fields that the bytes suggest, to be named and joined by hand; None for fewer than eight
        different frames, and for lines of text.

    Examples
    --------
    >>> secret = lr.FrameLayout(
    ...     boundary={"kind": "cobs"},
    ...     fields=[{"name": "kind", "type": "uint8", "equals": 7}, {"name": "n", "type": "uint8", "counter": True},
    ...             {"name": "x", "type": "uint8", "repeat": "rest"}, {"name": "crc", "type": "checksum"}],
    ...     checksum={"algorithm": "CRC-16/MODBUS"},
    ... )
    >>> sent = secret.encode_all({"x": [[k * k % 251] * (k % 7 + 1) for k in range(40)]})
    >>> stream = b"".join(secret.as_sent(frame) for frame in sent)
    >>> print(lr.judge.propose_fields(lr.read_frames(stream, lr.FrameLayout(boundary={"kind": "cobs"}))))
    frame: 4 to 4096 bytes, between delimiters, by cobs
      byte.bit  field       type                   meaning
      0         constant_0  uint8                  must be 7
      1         count       uint8                  counts frames
      2         data        bytes x as many as fit
      3-4+      check       checksum 16
    """
    layout = frames.layout
    rows = _contents(frames)
    if layout.pattern is not None or len({row.tobytes() for row in rows}) < FEWEST:
        return None
    head, tail = len(layout.marker), layout.end_from_end
    least = int(rows.length.min())
    varies = bool((rows.length != least).any())
    check = _checksum(rows, head, tail)
    ends = least - tail - (check.size if check is not None else 0)
    survey, size = measure_bytes(rows), _length_place(rows, head, ends)
    fields = _head(survey, size, range(head, ends), rows, whole=not varies)
    if varies:
        fields.append({"name": "data", "type": "bytes", "repeat": "rest"})
    extra: dict[str, Any] = {}
    if check is not None:
        fields.append({"name": "check", "type": "checksum"})
        extra["checksum"] = {"algorithm": check.algorithm, "order": check.order}
        if check.begin:
            extra["checksum"]["from"] = _name_at(fields, check.begin - head)
    boundary = layout.boundary.model_dump(exclude_none=True)
    return FrameLayout(key=layout.key, wire=layout.wire, boundary=boundary, fields=fields, **extra)


def _contents(frames: Frames) -> Ragged:
    rows = frames.data
    if not isinstance(rows, Ragged):
        count, length = rows.shape
        flat = np.ascontiguousarray(rows).reshape(-1)
        rows = Ragged(flat, np.arange(count) * length, np.full(count, length, dtype=np.int64))
    return rows[:MOST]


def _head(survey: ByteSurvey, size: int, places: range, rows: Ragged, *, whole: bool) -> list[dict[str, Any]]:
    """Return the fields of single bytes: all of them, or as far as there are some that mean something."""
    known: list[dict[str, Any]] = []
    last = 0
    for place in places:
        if place == size:
            known.append({"name": "size", "type": "uint8", "note": _size_note(rows, place)})
        elif survey.low[place] == survey.high[place]:
            known.append({"name": f"constant_{place}", "type": "uint8", "equals": int(survey.low[place])})
        elif survey.step[place] == 1 and not any(item.get("counter") for item in known):
            known.append({"name": "count", "type": "uint8", "counter": True})
        else:
            known.append({"name": f"byte_{place}", "type": "uint8"})
            continue
        last = len(known)
    return known if whole else known[:last]


def _length_place(rows: Ragged, first: int, end: int) -> int:
    """Return which byte holds the length of the frame, or that less a constant; -1 if none does."""
    if len(np.unique(rows.length)) < 2:
        return -1
    for place in range(first, end):
        less = rows.length - rows.items[rows.begin + place]
        if (less == less[0]).all() and 0 <= less[0] <= place + 9:
            return place
    return -1


def _size_note(rows: Ragged, place: int) -> str:
    less = int(rows.length[0]) - int(rows.items[rows.begin[0] + place])
    return "bytes of the frame" + (f", less {less}" if less else "")


def _name_at(fields: list[dict[str, Any]], place: int) -> str:
    return str(fields[min(place, len(fields) - 2)]["name"])


def _checksum(rows: Ragged, head: int, tail: int) -> _Check | None:
    """Return the checksum at the end of the frames, of the longest span; None if nothing fits by more than chance."""
    end = rows.begin + rows.length - tail
    least = int(rows.length.min()) - tail
    for size in SIZES:
        if least - size <= 0:
            continue
        stored = {order: _stored(rows.items, end - size, size, order) for order in ("little", "big")[: 1 + (size > 1)]}
        names = [name for name, algorithm in ALGORITHMS.items() if algorithm.width == 8 * size]
        tries = len(names) * BEGINS * len(stored)
        found = []
        for name in names:
            for begin in range(min(BEGINS, least - size)):
                if begin > 0 and begin < head:
                    continue
                few = [row.tobytes()[begin : len(row) - tail - size] for row in rows[:LOOKED_AT]]
                if not any(_may_be(ALGORITHMS[name].of, few, held) for held in stored.values()):
                    continue
                wanted = checksums_of_stretches(rows.items, rows.begin + begin, end - size, ALGORITHMS[name])
                for order, held in stored.items():
                    share = float((held == wanted).mean())
                    different = len(np.unique(held[held == wanted]))
                    if share >= RIGHT and different * 8 * size > SURE + np.log2(tries):
                        found.append(_Check(name, size, order, begin, share))
        if found:
            return min(found, key=lambda item: (-item.share, item.begin))
    return None


def _may_be(compute: Callable[[bytes], int], few: list[bytes], held: npt.NDArray[np.uint64]) -> bool:
    """Return whether a checksum is right in most of the first frames."""
    wrong = 0
    for covered, stored in zip(few, held.tolist(), strict=False):
        wrong += compute(covered) != stored
        if wrong > len(few) // 4:
            return False
    return True


def _stored(items: npt.NDArray[np.uint8], begin: Numbers, size: int, order: str) -> npt.NDArray[np.uint64]:
    number = np.zeros(len(begin), dtype=np.uint64)
    for place in range(size):
        shift = 8 * (place if order == "little" else size - 1 - place)
        number |= items[begin + place].astype(np.uint64) << np.uint64(shift)
    return number
