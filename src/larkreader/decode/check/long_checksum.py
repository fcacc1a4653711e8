"""The checksum of one long buffer, such as a firmware image or a recording.

Most of it is folded away first, with nothing but exclusive or. A CRC is the remainder of a polynomial; let y stand for
moving on by a byte. If y^a = 1, what lies a bytes apart adds up. If y^a = y^b + 1, a stretch of a - b bytes may be
added a - b bytes and a bytes further on instead. Polynomials of 16 bits have the first, most of 32 bits the second,
found among the first powers of y by sorting them.

What is left is taken for rows of 16 bytes, whose registers come from tables as those of many short messages do, from a
register of nothing. Then rows are joined pairwise: the register of the first is moved on by the length of the second,
which is a linear map of its bits, and combined with that of the second by exclusive or. What the register holds at the
start is moved on by the whole length in the same way.
"""

from __future__ import annotations

from functools import lru_cache
from typing import Any

import numpy as np
import numpy.typing as npt

from larkreader.declare.checks.checksum import ALGORITHMS, Algorithm
from larkreader.declare.checks.crc import CrcAlgorithm, finish, start_register
from larkreader.declare.checks.sums import SumAlgorithm
from larkreader.errors import RequestError, nearest

from .checksums import advance, checksums_of_rows, registers_of_rows, table_of

ROW = 16  # bytes
PIECE = 1 << 22  # bytes worked on at once
POWERS = 1 << 17  # of y that are looked at
WORTH_IT = 4  # times the length of a fold from which a piece is folded

Registers = npt.NDArray[Any]


def calculate_checksum(data: bytes | npt.NDArray[np.uint8], algorithm: str | Algorithm) -> int:
    """Compute the checksum of a buffer of any length.

    Parameters
    ----------
    data : bytes or ndarray of uint8, shape (n_bytes,)
        The buffer.
    algorithm : str, CrcAlgorithm or SumAlgorithm
        A name, such as ``"CRC-32/ISO-HDLC"``, or the parameters.

    Returns
    -------
    int
        The checksum, as a number.

    Raises
    ------
    RequestError
        If no algorithm has the name.

    Examples
    --------
    >>> hex(lr.calculate_checksum(b"123456789", "CRC-16/MODBUS"))
    '0x4b37'
    >>> hex(lr.calculate_checksum(b"Wikipedia", "adler-32"))
    '0x11e60398'
    """
    if isinstance(algorithm, str):
        by_upper = {name.upper(): name for name in ALGORITHMS}
        if algorithm.upper() not in by_upper:
            advice = nearest(algorithm, list(ALGORITHMS))
            raise RequestError("algorithm", f'"{algorithm}" is not in the catalogue', advice=advice)
        algorithm = ALGORITHMS[by_upper[algorithm.upper()]]
    values = np.frombuffer(data, np.uint8) if isinstance(data, (bytes, bytearray)) else np.asarray(data, np.uint8)
    return _sum_of(values, algorithm) if isinstance(algorithm, SumAlgorithm) else _crc_of(values, algorithm)


def _crc_of(values: npt.NDArray[np.uint8], crc: CrcAlgorithm) -> int:
    register = start_register(crc)
    for low in range(0, len(values), PIECE):
        piece = values[low : low + PIECE]
        register = _moved_on(register, crc, len(piece)) ^ _linear(_folded(piece, crc), crc)
    return finish(crc, register)


def _folded(piece: npt.NDArray[np.uint8], crc: CrcAlgorithm) -> npt.NDArray[np.uint8]:
    """Return fewer bytes that leave the same register."""
    if len(piece) < POWERS:
        return piece
    fold = _fold_of(crc)
    if fold is None or len(piece) < WORTH_IT * fold[0]:
        return piece
    far, near = fold
    if not near:
        whole = len(piece) // far * far
        rest = len(piece) - whole
        once = np.zeros(far, dtype=np.uint8)
        np.bitwise_xor.reduce(piece[rest:].reshape(-1, far), axis=0, out=once)
        once[far - rest :] ^= piece[:rest]
        return once
    left, step = piece.copy(), far - near
    done = 0
    while len(left) - done > far + step:
        stretch = left[done : done + step]
        left[done + step : done + 2 * step] ^= stretch
        left[done + far : done + far + step] ^= stretch
        done += step
    return left[done:]


@lru_cache(maxsize=64)
def _fold_of(crc: CrcAlgorithm) -> tuple[int, int] | None:
    """Return `a` and `b` with y^a = y^b + 1, or a multiple of the `a` with y^a = 1, and 0; None if neither is found."""
    kind = table_of(crc).dtype
    powers = np.array([1 << crc.width - 1 if crc.reflect_in else 1 << max(8 - crc.width, 0)], dtype=kind)
    unit = powers[0]
    while len(powers) < POWERS:
        powers = np.concatenate([powers, moved(powers, crc, len(powers))])
    again = np.flatnonzero(powers[1:] == unit) + 1
    if again.size:
        return int(again[0]) * max(1, (POWERS // 2) // int(again[0])), 0
    order = np.argsort(powers, kind="stable")
    wanted = powers ^ unit
    found = order[np.minimum(np.searchsorted(powers, wanted, sorter=order), len(powers) - 1)]
    near = np.flatnonzero((powers[found] == wanted) & (found > np.arange(len(powers))))
    near = near[near > 0]
    if not near.size:
        return None
    best = near[np.argmin(found[near])]
    return int(found[best]), int(best)


def _linear(piece: npt.NDArray[np.uint8], crc: CrcAlgorithm) -> int:
    """Return the register behind a piece if nothing was in it before; nothing before the piece changes nothing."""
    rows = np.zeros((1 << (-(-len(piece) // ROW) - 1).bit_length(), ROW), dtype=np.uint8)
    rows.reshape(-1)[rows.size - len(piece) :] = piece
    registers = registers_of_rows(rows, crc)
    length = ROW
    while len(registers) > 1:
        registers = moved(registers[::2], crc, length) ^ registers[1::2]
        length *= 2
    return int(registers[0])


def moved(registers: Registers, crc: CrcAlgorithm, length: int) -> Registers:
    """Return registers after `length` bytes of nothing, a power of two."""
    tables, digit = _tables(crc, length), _digit(crc)
    if len(tables) == 1:
        return tables[0].take(registers)
    mask = registers.dtype.type((1 << digit) - 1)
    moved: Registers = tables[0].take((registers & mask).astype(np.intp))  # NumPy 2.0 takes no uint64 for a place
    for place, table in enumerate(tables[1:], 1):
        moved ^= table.take((registers >> digit * place & mask).astype(np.intp))
    return moved


def _moved_on(register: int, crc: CrcAlgorithm, length: int) -> int:
    """Return a register after any number of bytes of nothing."""
    state = np.array([register], dtype=table_of(crc).dtype)
    for power in range(length.bit_length()):
        if length >> power & 1:
            state = moved(state, crc, 1 << power)
    return int(state[0])


@lru_cache(maxsize=512)
def _tables(crc: CrcAlgorithm, length: int) -> list[Registers]:
    """Return what each value of each digit of a register becomes after `length` bytes of nothing, a power of two."""
    kind, digit = table_of(crc).dtype, _digit(crc)
    values = np.arange(1 << digit).astype(kind)
    each = [values << digit * place for place in range(8 * kind.itemsize // digit)]
    if length == 1:
        return [advance(item, crc, np.zeros(len(item), np.uint8)) for item in each]
    return [moved(moved(item, crc, length // 2), crc, length // 2) for item in each]


def _digit(crc: CrcAlgorithm) -> int:
    """Return how many bits of a register one table takes: few enough for the tables to stay in the cache."""
    return 16 if 8 < crc.width <= 32 else 8


def _sum_of(values: npt.NDArray[np.uint8], algorithm: SumAlgorithm) -> int:
    """Add up pieces; sums of sums are joined by how much follows."""
    first, second = algorithm.start, 0
    for low in range(0, len(values), PIECE):
        piece = values[low : low + PIECE]
        if algorithm.combine == "weigh":
            count = -(-len(piece) // algorithm.item)
            result = int(checksums_of_rows(piece[None], algorithm)[0])
            half = algorithm.width // 2
            second += first * count + (result >> half) - algorithm.start * count
            first += (result & (1 << half) - 1) - algorithm.start
            first, second = first % algorithm.modulus, second % algorithm.modulus
            continue
        if algorithm.item == 2:
            piece = np.append(piece, np.zeros(len(piece) % 2, np.uint8)).view("<u2" if algorithm.little else ">u2")
        if algorithm.combine == "xor":
            first ^= int(np.bitwise_xor.reduce(piece)) if len(piece) else 0
        else:
            first += int(piece.sum(dtype=np.uint64))
    return algorithm.finished(first, second)
