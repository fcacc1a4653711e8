"""Which checksum some frames carry, when the declared checksum never fits: every algorithm, span and byte order tried.

The register of a CRC over bytes `begin` to `end` is the exclusive or of what each byte contributes, by its distance to
the end, and of what is left of the start. So all beginnings are tried with one look-up a byte, from the end backwards.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from larkreader.capture.ragged import Ragged
from larkreader.declare.checks.checksum import ALGORITHMS, Algorithm
from larkreader.declare.checks.crc import CrcAlgorithm, start_register
from larkreader.declare.common.byte_order import ByteOrder
from larkreader.declare.frame.layout import FrameLayout
from larkreader.decode.check.checksums import advance, checksums_of_rows, finished_registers, table_of

Bytes = npt.NDArray[np.uint8]

LOOKED_AT = 64  # frames
FEWEST = 3  # different frames from which anything is concluded
MOST_WRONG = 0.05  # share of frames that may be damaged
SURE = 20.0  # bits by which chance must be ruled out: a million to one
ENDS = 3  # how many bytes before the check value the span may end


@dataclass(frozen=True)
class ChecksumFit:
    """A checksum that fits.

    Parameters
    ----------
    algorithm : str
        Its name.
    begin, end : int
        First byte covered, and the byte behind the last.
    place, size : int
        First byte of the stored value, and how many it has.
    order : {"little", "big"}
        In which its bytes are stored.
    frames : int
        How many of the frames fit.
    of : int
        How many there are.
    """

    algorithm: str
    begin: int
    end: int
    place: int
    size: int
    order: ByteOrder
    frames: int
    of: int


def find_checksums(rows: Bytes, place: int, size: int) -> list[ChecksumFit]:
    """Find which checksums some frames of one length may carry at a place.

    Parameters
    ----------
    rows : ndarray of uint8, shape (n_frames, n_bytes)
        One frame a row, not all alike.
    place, size : int
        First byte of the check value, and how many bytes it has, 1 to 8.

    Returns
    -------
    list of ChecksumFit
        The longest span first; none where the frames are too few to rule out chance, or nothing fits.

    Examples
    --------
    >>> layout = lr.FrameLayout(
    ...     boundary={"kind": "marker", "marker": "D7"},
    ...     fields=[{"name": "flow", "type": "uint16"}, {"name": "crc", "type": "checksum"}],
    ...     checksum={"algorithm": "CRC-16/MODBUS"},
    ... )
    >>> rows = np.array([list(layout.encode({"flow": 37 * n})) for n in range(20)], dtype=np.uint8)
    >>> fit = lr.find_checksums(rows, place=3, size=2)[0]
    >>> fit.algorithm, fit.begin, fit.end, fit.order
    ('CRC-16/MODBUS', 0, 3, 'little')
    """
    rows = np.unique(np.asarray(rows, dtype=np.uint8)[: 4 * LOOKED_AT], axis=0)[:LOOKED_AT]
    names = [name for name, item in ALGORITHMS.items() if -(-item.width // 8) == size]
    count, tries = len(rows), max(1, len(names) * rows.shape[1] * (1 if size == 1 else 2) * ENDS)
    needed = max(FEWEST, int(np.ceil((1 - MOST_WRONG) * count)))
    if count < FEWEST or not names:
        return []
    stored = {order: _stored(rows, place, size, order) for order in _orders(size)}
    found = []
    for name in names:
        algorithm = ALGORITHMS[name]
        if algorithm.width * needed < SURE + np.log2(tries):
            continue
        for end in _ends(place, size, rows.shape[1]):
            for begin, value in _from_every_beginning(rows, algorithm, end, place, size):
                for order, wanted in stored.items():
                    fits = int(np.count_nonzero(value == wanted))
                    if fits >= needed and _is_no_chance(rows[:, begin:end], algorithm.width, tries):
                        found.append(ChecksumFit(name, begin, end, place, size, order, fits, count))
    return sorted(found, key=lambda item: (-item.frames, item.begin - item.end, names.index(item.algorithm)))


def explain_mismatches(frames: Bytes | Ragged, layout: FrameLayout) -> dict[str, Any]:
    """Return as evidence which checksum makes frames right whose declared checksum fails; nothing if none does.

    Of frames that differ those of the commonest length are looked at.
    """
    rows, shape = frames, layout.nominal
    if isinstance(rows, Ragged):
        lengths, counts = np.unique(rows.length, return_counts=True)
        chosen = rows[rows.length == lengths[np.argmax(counts)]]
        rows = chosen.flat.reshape(len(chosen), -1)
        shape = layout.shape_of(rows[0].tobytes())
    slot = shape.checksum_slot
    if slot is None or layout.checksum is None or slot.first_bit % 8 or slot.bits % 8:
        return {}
    fits = find_checksums(rows, slot.first_bit // 8, slot.bits // 8)
    names = {item.first_bit // 8: name for name, item in shape.slot.items() if item.first_bit % 8 == 0}
    names[0] = "marker" if layout.marker else names.get(0, "")
    last = {item.end_bit // 8: name for name, item in shape.slot.items() if item.end_bit % 8 == 0}
    declarable = [fit for fit in fits if fit.begin in names and (fit.end == fit.place or fit.end in last)]
    if not declarable:
        return {}
    best = declarable[0]
    until = "" if best.end == best.place else f', to = "{last[best.end]}"'
    order = f', order = "{best.order}"' if best.size > 1 else ""
    declared = f'{{ algorithm = "{best.algorithm}", from = "{names[best.begin]}"{until}{order} }}'
    return {
        "fit": declared,
        "fit_algorithm": best.algorithm,
        "fit_first": best.begin,
        "fit_last": best.end - 1,
        "fit_order": None if best.size == 1 else "low" if best.order == "little" else "high",
        "fit_frames": best.frames,
        "fit_of": best.of,
    }


def _is_no_chance(covered: Bytes, width: int, tries: int) -> bool:
    """Return whether what is covered differs often enough for a fit to mean something."""
    different = len(np.unique(covered, axis=0))
    return different >= FEWEST and width * (1 - MOST_WRONG) * different >= SURE + np.log2(tries)


def _from_every_beginning(
    rows: Bytes, algorithm: Algorithm, end: int, place: int, size: int
) -> Iterator[tuple[int, npt.NDArray[np.uint64]]]:
    """Yield the checksum of bytes `begin` to `end` of each row, for every `begin` that leaves the check value out."""
    lowest = 0 if end <= place else place + size
    if not isinstance(algorithm, CrcAlgorithm):
        for begin in range(end - 1, lowest - 1, -1):
            yield begin, checksums_of_rows(rows, algorithm, begin, end)
        return
    zero = np.zeros(256, dtype=np.uint8)
    contribution = table_of(algorithm)
    start = np.array([start_register(algorithm)], dtype=contribution.dtype)
    registers = np.zeros(len(rows), dtype=contribution.dtype)
    for begin in range(end - 1, lowest - 1, -1):
        registers = registers ^ contribution[rows[:, begin]]
        start = advance(start, algorithm, zero[:1])
        yield begin, finished_registers(registers ^ start, algorithm)
        contribution = advance(contribution, algorithm, zero)


def _stored(rows: Bytes, place: int, size: int, order: ByteOrder) -> npt.NDArray[np.uint64]:
    columns = range(place, place + size) if order == "big" else range(place + size - 1, place - 1, -1)
    value = np.zeros(len(rows), dtype=np.uint64)
    for column in columns:
        value = value << np.uint64(8) | rows[:, column].astype(np.uint64)
    return value


def _orders(size: int) -> tuple[ByteOrder, ...]:
    return ("big",) if size == 1 else ("little", "big")


def _ends(place: int, size: int, length: int) -> list[int]:
    """Return where a span may end: at the check value or a little before it, or at the end of the frame behind it."""
    behind = [length] if length > place + size else []
    return [*range(place, max(place - ENDS, 0), -1), *behind]
