"""Types that a header need not declare: C's own, those of ``stdint.h`` and ``stdbool.h``, and usual names for them."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

from larkreader.declare.common.byte_order import ByteOrder

from .targets import Target
from .types import CType, Number, NumberKind

_STDINT = re.compile(r"(u?)int(?:_least)?(8|16|32|64)_t")
_OTHER_NAMES = {
    "uint8_t": "u8 U8 byte BYTE UCHAR uchar __u8 u_int8_t uint8 UINT8 uint_fast8_t",
    "uint16_t": "u16 U16 WORD USHORT __u16 u_int16_t uint16 UINT16 ushort",
    "uint32_t": "u32 U32 DWORD __u32 u_int32_t uint32 UINT32",
    "uint64_t": "u64 U64 QWORD __u64 u_int64_t uint64 UINT64",
    "int8_t": "s8 S8 i8 __s8 int8 INT8 int_fast8_t",
    "int16_t": "s16 S16 i16 __s16 int16 INT16",
    "int32_t": "s32 S32 i32 __s32 int32 INT32",
    "int64_t": "s64 S64 i64 __s64 int64 INT64",
}
_ORDERED = re.compile(r"(?:__)?(be|le)(16|32|64)")
_OTHERS = [
    "size_t",
    "ssize_t",
    "ptrdiff_t",
    "uintptr_t",
    "intptr_t",
    "wchar_t",
    "va_list",
    "FILE",
]  # known, and for no wire


def known_types(target: Target) -> Mapping[str, CType | None]:
    """Return the types that a header need not declare, by name; None for those that no wire carries.

    Parameters
    ----------
    target : Target
        Whose compiler.
    """
    types: dict[str, CType | None] = dict.fromkeys(_OTHERS)
    for bits in (8, 16, 32, 64):
        for sign, kind in (("u", "uint"), ("", "int")):
            for name in (f"{sign}int{bits}_t", f"{sign}int_least{bits}_t"):
                types[name] = _number("uint" if kind == "uint" else "int", bits, target, name)
    for name, others in _OTHER_NAMES.items():
        known = types[name]
        assert isinstance(known, Number)
        for other in others.split():
            types[other] = _number(known.kind, known.bits, target, other)
    for order, word in (("be", "big"), ("le", "little")):
        for bits in (16, 32, 64):
            for name in (f"{order}{bits}", f"__{order}{bits}"):
                types[name] = _number("uint", bits, target, name, "big" if word == "big" else "little")
    for name in ("bool", "BOOL"):
        types[name] = _number("bool", 8, target, name)
    for name, bits in (("float32_t", 32), ("float64_t", 64)):
        types[name] = _number("float", bits, target, name)
    return types


def number_named(names: Sequence[str], target: Target) -> Number | None:
    """Return the number that C's own words stand for; None for ``void``.

    Parameters
    ----------
    names : sequence of str
        The words, such as ``unsigned`` and ``long``.
    target : Target
        Whose compiler.
    """
    words, text = set(names), " ".join(names)
    kind: NumberKind = "uint" if "unsigned" in words else "int"
    if "void" in words or "_Complex" in words:
        return None
    if "_Bool" in words:
        return _number("bool", 8, target, text)
    if "char" in words:
        has_sign = words & {"signed", "unsigned"}
        return _number(kind if has_sign else "char", 8, target, text)
    if "float" in words:
        return _number("float", 32, target, text)
    if "double" in words:
        return None if "long" in words else _number("float", target.double_bits, target, text)
    if "short" in words:
        return _number(kind, 16, target, text)
    longs = names.count("long")
    return _number(kind, (target.int_bits, target.long_bits, 64)[min(longs, 2)], target, text)


def _number(kind: NumberKind, bits: int, target: Target, text: str, order: ByteOrder | None = None) -> Number:
    return Number(kind, bits, min(bits, target.most_aligned), text, {}, order)
