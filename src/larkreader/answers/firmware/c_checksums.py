"""Checksums as functions in C, by a table of 256 entries or bit by bit."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

from larkreader.declare.checks.checksum import Algorithm
from larkreader.declare.checks.crc import CrcAlgorithm, crc_table, reflect, start_register
from larkreader.declare.checks.sums import SumAlgorithm

from .c_bits import number, u32, unsigned, width_of

Way = Literal["table", "bits"]


def checksum_source(name: str, algorithm: Algorithm, way: Way) -> Sequence[str]:
    """Return the lines of a function that calculates a checksum.

    Parameters
    ----------
    name : str
        What the function is called.
    algorithm : CrcAlgorithm or SumAlgorithm
        What it calculates.
    way : {"table", "bits"}
        How a CRC is calculated: by a table of 256 entries, or bit by bit.

    Returns
    -------
    sequence of str
    """
    if isinstance(algorithm, SumAlgorithm):
        return _sum(name, algorithm)
    return _by_table(name, algorithm) if way == "table" else _by_bits(name, algorithm)


def result_type(algorithm: Algorithm) -> str:
    """Return the type of a checksum in C."""
    return unsigned(algorithm.width)


def _by_table(name: str, crc: CrcAlgorithm) -> Sequence[str]:
    top = crc.width if crc.reflect_in else max(crc.width, 8)
    kind, width = unsigned(top), width_of(top)
    digits = -(-top // 4)
    entries = [_hex(entry, top, digits) for entry in crc_table(crc.width, crc.poly, crc.reflect_in)]
    each = max(96 // (len(entries[0]) + 2), 1)
    rows = [f"    {', '.join(entries[low : low + each])}," for low in range(0, 256, each)]
    mask = f" & {_hex((1 << top) - 1, top)}" if top < width else ""
    if crc.reflect_in and width == 8:
        step = f"{name}_table[(register_ ^ data[i]) & 0xFFu]"
    elif crc.reflect_in:
        step = f"({kind})((register_ >> 8) ^ {name}_table[(register_ ^ data[i]) & 0xFFu])"
    elif top == 8:
        step = f"{name}_table[register_ ^ data[i]]"
    else:
        index = f"({kind})(register_ >> {top - 8}) ^ data[i]"
        step = f"({kind})((({kind})(register_ << 8){mask}) ^ {name}_table[({index}) & 0xFFu])"
    return [
        f"static const {kind} {name}_table[256] = {{",
        *rows,
        "};",
        "",
        f"static {unsigned(crc.width)} {name}(const uint8_t *data, size_t length)",
        "{",
        f"    {kind} register_ = {number(start_register(crc), top)};",
        "    size_t i;",
        "    for (i = 0; i < length; i++) {",
        f"        register_ = {step};",
        "    }",
        *_finish(crc, kind, top),
        "}",
        "",
    ]


def _by_bits(name: str, crc: CrcAlgorithm) -> Sequence[str]:
    top = max(crc.width, 8)
    kind = unsigned(top)
    mask = (1 << top) - 1
    if crc.reflect_in:
        enter = f"register_ = ({kind})(register_ ^ data[i]);"
        bit, shift, poly = number(1, top), ">> 1", reflect(crc.poly, crc.width)
    else:
        enter = f"register_ = ({kind})(register_ ^ (({kind})data[i] << {top - 8}));"
        bit, shift, poly = number(1 << top - 1, top), "<< 1", crc.poly << top - crc.width
    cut = f" & {_hex(mask, top)}" if not crc.reflect_in and top < width_of(top) else ""
    turned = f"({kind})((({kind})(register_ {shift}){cut}) ^ {_hex(poly, top)})"
    return [
        f"static {unsigned(crc.width)} {name}(const uint8_t *data, size_t length)",
        "{",
        f"    {kind} register_ = {number(start_register(crc), top)};",
        "    size_t i;",
        "    uint8_t bit;",
        "    for (i = 0; i < length; i++) {",
        f"        {enter}",
        "        for (bit = 0; bit < 8u; bit++) {",
        f"            register_ = (register_ & {bit}) != 0u",
        f"                ? {turned}",
        f"                : ({kind})(({kind})(register_ {shift}){cut});",
        "        }",
        "    }",
        *_finish(crc, kind, top),
        "}",
        "",
    ]


def _finish(crc: CrcAlgorithm, kind: str, top: int) -> list[str]:
    result, width = unsigned(crc.width), crc.width
    lines = []
    if not crc.reflect_in and width < 8:
        lines.append(f"    register_ = ({kind})(register_ >> {8 - width});")
    if crc.reflect_in != crc.reflect_out:
        lines += [
            "    {",
            f"        {kind} mirrored = 0;",
            "        uint8_t place;",
            f"        for (place = 0; place < {width}u; place++) {{",
            f"            mirrored = ({kind})(({kind})(mirrored << 1) | ((register_ >> place) & 1u));",
            "        }",
            "        register_ = mirrored;",
            "    }",
        ]
    last = f" ^ {_hex(crc.final_xor, top)}" if crc.final_xor else ""
    return [*lines, f"    return ({result})(register_{last});"]


def _sum(name: str, summed: SumAlgorithm) -> Sequence[str]:
    result = unsigned(summed.width)
    head = [f"static {result} {name}(const uint8_t *data, size_t length)", "{", "    size_t i;"]
    value = "data[i]"
    if summed.item == 2:
        first, second = ("i + 1u", "i") if summed.little else ("i", "i + 1u")
        low = f"({second} < length ? data[{second}] : 0u)"
        high = f"({first} < length ? data[{first}] : 0u)"
        value = f"(uint16_t)(((uint16_t){high} << 8) | {low})"
    loop = f"    for (i = 0; i < length; i{'++' if summed.item == 1 else ' += 2u'}) {{"
    if summed.combine == "weigh":
        return [
            *head,
            f"    uint32_t first = {summed.start}u;",
            "    uint32_t second = 0;",
            loop,
            f"        first = (first + {value}) % {u32(summed.modulus)};",
            f"        second = (second + first) % {u32(summed.modulus)};",
            "    }",
            f"    return ({result})((second << {summed.width // 2}) | first);",
            "}",
            "",
        ]
    if summed.combine == "xor":
        lines = [f"    {result} sum = 0;", loop, f"        sum = ({result})(sum ^ {value});", "    }"]
    elif summed.combine == "carry":
        top = (1 << summed.width) - 1
        lines = [
            "    uint32_t sum = 0;",
            loop,
            f"        sum += {value};",
            f"        sum = (sum & {u32(top)}) + (sum >> {summed.width});",
            "    }",
        ]
    else:
        lines = [f"    {result} sum = 0;", loop, f"        sum = ({result})(sum + {value});", "    }"]
    whole = {"none": "sum", "ones": "~sum", "twos": "0u - sum"}
    return [*head, *lines, f"    return ({result})({whole[summed.complement]});", "}", ""]


def _hex(value: int, bits: int, digits: int = 1) -> str:
    """Return a constant of C in hexadecimal."""
    text = f"0x{value:0{digits}X}"
    return f"{text}u" if bits <= 16 else f"UINT{width_of(bits)}_C({text})"
