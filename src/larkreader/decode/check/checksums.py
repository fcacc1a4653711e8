"""Checksums of many messages of one length at once.

A CRC is linear: what a byte contributes to the register depends only on its value and on how many bytes follow.
So the contribution of each place is tabulated, two neighbouring bytes to a table, and the CRC is the exclusive or
of one look-up a pair. Sums are added up along the rows.
"""

from __future__ import annotations

from functools import lru_cache
from typing import Any

import numpy as np
import numpy.typing as npt

from larkreader.declare.checks.checksum import Algorithm
from larkreader.declare.checks.crc import CrcAlgorithm, crc_table, finish, reflect, start_register
from larkreader.declare.checks.sums import SumAlgorithm

Registers = npt.NDArray[Any]  # unsigned, as wide as the register needs
MOST_TABULATED = 64  # bytes a message; longer messages go through the register byte by byte
BLOCK = 1 << 15  # messages worked on at once


def checksums_of_rows(
    data: npt.NDArray[np.uint8], algorithm: Algorithm, begin: int = 0, end: int | None = None
) -> npt.NDArray[np.uint64]:
    """Compute the checksum of some columns of each row.

    Parameters
    ----------
    data : ndarray of uint8, shape (n_messages, n_bytes)
        One message a row.
    algorithm : CrcAlgorithm or SumAlgorithm
        The algorithm.
    begin, end : int
        First column, and the column behind the last; all of them by default.

    Returns
    -------
    ndarray of uint64, shape (n_messages,)
        The checksum of each message.
    """
    if isinstance(algorithm, SumAlgorithm):
        return _sums(data[:, begin:end], algorithm)
    return crc_of_rows(data, algorithm, begin, end)


def crc_of_rows(
    data: npt.NDArray[np.uint8], crc: CrcAlgorithm, begin: int = 0, end: int | None = None
) -> npt.NDArray[np.uint64]:
    """Compute the CRC of some columns of each row.

    Parameters
    ----------
    data : ndarray of uint8, shape (n_messages, n_bytes)
        One message a row.
    crc : CrcAlgorithm
        The algorithm.
    begin, end : int
        First column, and the column behind the last; all of them by default.

    Returns
    -------
    ndarray of uint64, shape (n_messages,)
        The CRC of each message.
    """
    end = data.shape[1] if end is None else end
    registers = np.empty(len(data), dtype=_register_type(crc))
    for low in range(0, len(data), BLOCK):
        rows = data[low : low + BLOCK]
        if end - begin <= MOST_TABULATED:
            registers[low : low + BLOCK] = _tabulated(rows, crc, begin, end)
        else:
            registers[low : low + BLOCK] = _byte_by_byte(rows[:, begin:end], crc)
    return _finish(registers, crc).astype(np.uint64)


def registers_of_rows(rows: npt.NDArray[np.uint8], crc: CrcAlgorithm) -> Registers:
    """Return the register behind each row of 64 bytes or fewer, with nothing in it before."""
    registers = np.empty(len(rows), dtype=_register_type(crc))
    for low in range(0, len(rows), BLOCK):
        registers[low : low + BLOCK] = _tabulated(rows[low : low + BLOCK], crc, 0, rows.shape[1])
    registers ^= registers.dtype.type(_tables(crc, rows.shape[1])[0])
    return registers


def finished_registers(registers: Registers, crc: CrcAlgorithm) -> npt.NDArray[np.uint64]:
    """Turn registers into results."""
    return _finish(registers, crc).astype(np.uint64)


def finished_sums(sums: npt.NDArray[np.uint64], algorithm: SumAlgorithm) -> npt.NDArray[np.uint64]:
    """Turn whole sums into results, but for sums of sums."""
    top = np.uint64((1 << algorithm.width) - 1)
    if algorithm.combine == "carry":
        sums = np.where(sums > 0, (sums - np.uint64(1)) % top + np.uint64(1), sums)
    if algorithm.complement == "ones":
        sums = ~sums
    elif algorithm.complement == "twos":
        sums = ~sums + np.uint64(1)
    finished: npt.NDArray[np.uint64] = sums & top
    return finished


@lru_cache(maxsize=256)
def table_of(crc: CrcAlgorithm) -> Registers:
    """Return what each byte value adds to the register: unsigned, shape (256,), not to be written into."""
    table = np.array(crc_table(crc.width, crc.poly, crc.reflect_in), dtype=_register_type(crc))
    table.flags.writeable = False
    return table


def advance(registers: Registers, crc: CrcAlgorithm, entering: npt.NDArray[np.uint8]) -> Registers:
    """Let one byte enter each register."""
    return _advance(registers, crc, table_of(crc), entering)


def _sums(rows: npt.NDArray[np.uint8], algorithm: SumAlgorithm) -> npt.NDArray[np.uint64]:
    """Add up each row; a checksum that is a sum of sums is one of all values by how many follow."""
    items = rows
    if algorithm.item == 2:
        if rows.shape[1] % 2:
            rows = np.pad(rows, ((0, 0), (0, 1)))
        items = np.ascontiguousarray(rows).view("<u2" if algorithm.little else ">u2")
    first: npt.NDArray[np.uint64]
    if algorithm.combine == "xor":
        first = np.bitwise_xor.reduce(items, axis=1, dtype=np.uint64)
    else:
        first = items.sum(axis=1, dtype=np.uint64)
    if algorithm.combine == "weigh":
        modulus, count = np.uint64(algorithm.modulus), items.shape[1]
        follow = np.arange(count, 0, -1, dtype=np.uint64) % modulus  # in how many of the first sums an item is
        second = (items * follow).sum(axis=1, dtype=np.uint64) + np.uint64(algorithm.start * count)
        both: npt.NDArray[np.uint64] = second % modulus << np.uint64(algorithm.width // 2)
        both |= (first + np.uint64(algorithm.start)) % modulus
        return both
    return finished_sums(first, algorithm)


def _tabulated(rows: npt.NDArray[np.uint8], crc: CrcAlgorithm, begin: int, end: int) -> Registers:
    length = end - begin
    start, single, pairs = _tables(crc, length)
    registers = np.full(len(rows), start, dtype=_register_type(crc))
    if length % 2:
        registers ^= single[rows[:, begin]]
        begin += 1
    if begin % 2 or rows.shape[1] % 2 or not rows.flags.c_contiguous:
        rows, begin = np.ascontiguousarray(rows[:, begin:end]), 0
    words = rows.view("<u2")
    for place, table in enumerate(pairs, begin // 2):
        registers ^= table.take(words[:, place])
    return registers


def _byte_by_byte(rows: npt.NDArray[np.uint8], crc: CrcAlgorithm) -> Registers:
    table = table_of(crc)
    registers = np.full(len(rows), start_register(crc), dtype=table.dtype)
    for column in rows.T:
        registers = _advance(registers, crc, table, column)
    return registers


@lru_cache(maxsize=16)
def _tables(crc: CrcAlgorithm, length: int) -> tuple[int, Registers, list[Registers]]:
    """Return the register after zeros alone, the first byte's table of an odd length, and the pairs' tables."""
    table = table_of(crc)
    contributions = [table]
    zero = np.zeros(256, dtype=np.uint8)
    for _ in range(1, length):
        contributions.append(_advance(contributions[-1], crc, table, zero))
    contributions.reverse()
    start = np.array([start_register(crc)], dtype=table.dtype)
    for _ in range(length):
        start = _advance(start, crc, table, zero[:1])
    first = length % 2
    pairs = [
        (contributions[place + 1][:, None] ^ contributions[place][None, :]).reshape(-1)
        for place in range(first, length - 1, 2)
    ]
    return int(start[0]), contributions[0] if contributions else table, pairs


def _advance(registers: Registers, crc: CrcAlgorithm, table: Registers, entering: npt.NDArray[np.uint8]) -> Registers:
    """Let one byte enter each register."""
    advanced: Registers
    if crc.reflect_in:
        index = (registers & 0xFF).astype(np.uint8) ^ entering
        rest = registers >> 8 if crc.width > 8 else np.zeros_like(registers)
        advanced = rest ^ table[index]
        return advanced
    top = max(crc.width, 8)
    index = (registers >> top - 8).astype(np.uint8) ^ entering
    mask = np.array((1 << top) - 1, dtype=registers.dtype)
    advanced = table[index] if top == 8 else (registers << 8 & mask) ^ table[index]
    return advanced


def _finish(registers: Registers, crc: CrcAlgorithm) -> Registers:
    if crc.reflect_in == crc.reflect_out:
        shift = 0 if crc.reflect_in else max(8 - crc.width, 0)
        finished: Registers = registers >> shift ^ np.array(crc.final_xor, dtype=registers.dtype)
        return finished
    if crc.width > 16:  # mirrored a byte at a time
        mirrored = np.zeros(len(registers), dtype=np.uint64)
        table = np.array([reflect(byte, 8) for byte in range(256)], dtype=np.uint64)
        wide = registers.astype(np.uint64)
        for place in range(8):
            mirrored |= table[wide >> np.uint64(8 * place) & np.uint64(0xFF)] << np.uint64(56 - 8 * place)
        return mirrored >> np.uint64(64 - crc.width) ^ np.uint64(crc.final_xor)
    return _results(crc)[registers]


@lru_cache(maxsize=16)
def _results(crc: CrcAlgorithm) -> Registers:
    """Return what each register of up to 16 bits is turned into."""
    every = [finish(crc, register) for register in range(1 << max(crc.width, 8))]
    return np.array(every, dtype=_register_type(crc))


def _register_type(crc: CrcAlgorithm) -> type[np.unsignedinteger[Any]]:
    return next(kind for bits, kind in _TYPES if crc.width <= bits)


_TYPES: list[tuple[int, type[np.unsignedinteger[Any]]]] = [
    (8, np.uint8),
    (16, np.uint16),
    (32, np.uint32),
    (64, np.uint64),
]
