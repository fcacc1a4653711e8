"""CRCs of many messages of one length at once.

A CRC is linear: what a byte contributes to the register depends only on its value and on how many bytes follow.
So the contribution of each place is tabulated, two neighbouring bytes to a table, and the CRC is the exclusive or
of one look-up a pair.
"""

from __future__ import annotations

from functools import lru_cache
from typing import Any

import numpy as np
import numpy.typing as npt

from larkreader.declare.checksum import CrcAlgorithm, crc_table, finish, reflect, start_register

Registers = npt.NDArray[Any]  # unsigned, as wide as the register needs
MOST_TABULATED = 64  # bytes a message; longer ones go through the register byte by byte
BLOCK = 1 << 15  # messages worked on at once


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
        First column, and the one behind the last; all of them unless said.

    Returns
    -------
    ndarray of uint64, shape (n_messages,)
        The CRC of each message.
    """
    count = len(data)
    end = data.shape[1] if end is None else end
    registers = np.empty(count, dtype=_register_type(crc))
    for low in range(0, count, BLOCK):
        rows = data[low : low + BLOCK]
        if end - begin <= MOST_TABULATED:
            registers[low : low + BLOCK] = _tabulated(rows, crc, begin, end)
        else:
            registers[low : low + BLOCK] = _byte_by_byte(rows[:, begin:end], crc)
    return _finish(registers, crc).astype(np.uint64)


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
    table = np.array(crc_table(crc.width, crc.poly, crc.reflect_in), dtype=_register_type(crc))
    registers = np.full(len(rows), start_register(crc), dtype=table.dtype)
    for column in rows.T:
        registers = _advance(registers, crc, table, column)
    return registers


@lru_cache(maxsize=16)
def _tables(crc: CrcAlgorithm, length: int) -> tuple[int, Registers, list[Registers]]:
    """Return the register after zeros alone, the first byte's table of an odd length, and the pairs' tables."""
    table = np.array(crc_table(crc.width, crc.poly, crc.reflect_in), dtype=_register_type(crc))
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
    every = np.array([finish(crc, register) for register in range(1 << max(crc.width, 8))], dtype=registers.dtype)
    return every[registers]


def _register_type(crc: CrcAlgorithm) -> type[np.unsignedinteger[Any]]:
    return next(kind for bits, kind in _TYPES if crc.width <= bits)


_TYPES: list[tuple[int, type[np.unsignedinteger[Any]]]] = [
    (8, np.uint8),
    (16, np.uint16),
    (32, np.uint32),
    (64, np.uint64),
]
