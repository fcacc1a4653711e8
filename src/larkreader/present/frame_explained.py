"""One frame taken apart: its bytes, from which bits each value was cut, raw and scaled, and every check."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import fault_names
from larkreader.declare.fields import Slot
from larkreader.declare.layout import FrameLayout
from larkreader.decode.frame_columns import Frames, frame_fault_names
from larkreader.decode.unpack import digits_sound, raw_column, text_sound
from larkreader.decode.verify import fixed_value, names_known, within_range

from .frame_views import number_text

MOST_BITS = 24  # that are shown; longer fields are shown in hexadecimal


@dataclass(frozen=True)
class FieldPart:
    """One field of a frame.

    Parameters
    ----------
    name : str
        Its name; nothing for reserved bits.
    type : str
        What was declared.
    place : str
        Where its bits lie: first and last, as bytes or as byte.bit.
    bits : str
        The bits, the most significant first; in hexadecimal where there are many.
    raw : str
        The number before scale and offset.
    value : str
        The value with its unit, or its name.
    check : str
        What is wrong with it, or what was checked and is right.
    """

    name: str
    type: str
    place: str
    bits: str
    raw: str
    value: str
    check: str


def parts_of(frames: Frames, row: int) -> Iterator[FieldPart]:
    """Yield what each field of one frame holds, an array's items one by one.

    Parameters
    ----------
    frames : Frames
        Of one layout.
    row : int
        Which of them.
    """
    one = frames[row]
    layout = frames.layout
    frame = np.ascontiguousarray(one.data)
    if layout.marker:
        place = _place(0, 8 * len(layout.marker), layout)
        yield FieldPart("marker", "", place, layout.marker.hex(" ").upper(), "", "", "right")
    for slot in layout.slots:
        check = _check(frame, one, slot)
        whole = slot.kind in ("text", "bytes")
        for item in range(1 if whole else slot.count):
            bits = slot.bits * slot.count if whole else slot.bits
            first = slot.first_bit + item * slot.bits
            name = slot.name if whole or slot.count == 1 else f"{slot.name}[{item}]"
            declared = f"reserved {slot.bits}" if slot.field is None else slot.field.type
            raw, value = _values(one, slot, item)
            place = _place(first, first + bits, layout)
            yield FieldPart(name, declared, place, _bits(frame[0], first, bits, layout), raw, value, check)


def headline(frames: Frames, row: int, faults: npt.NDArray[np.uint8] | None = None) -> str:
    """Say which frame it is, where it lay, and what is held against it."""
    one = frames[row]
    at = "" if np.isnan(one.begin_s[0]) else f", at {one.begin_s[0]:.6f} s"
    told = frame_fault_names(int(one.faults[0])).replace("+", ", ") or "no fault"
    text = f"{frames.layout.key} frame of {frames.layout.length} bytes from character {one.offset[0]:,} on{at}: {told}"
    if faults is not None and faults.any():
        hurt = [f"{place}: {fault_names(int(fault))}" for place, fault in enumerate(faults) if fault]
        text += f"; characters with faults: {', '.join(hurt)}"
    return text


def _values(one: Frames, slot: Slot, item: int) -> tuple[str, str]:
    if slot.field is None:
        return "", ""
    raw = one.raw(slot.name).reshape(-1)
    if slot.kind == "text":
        return "", f'"{one[slot.name][0]}"'
    if slot.kind == "bytes":
        return "", raw.tobytes().hex(" ").upper()
    number = raw[item]
    if slot.kind == "checksum":
        return f"0x{int(number):0{-(-slot.bits // 4)}X}", ""
    shown = str(int(number)) if slot.kind != "float" else f"{float(number):.9g}"
    if slot.field.names:
        return shown, str(one.labels(slot.name).reshape(-1)[item])
    value = number_text(one[slot.name].reshape(-1)[item], slot)
    return shown, f"{value} {slot.field.unit}".rstrip()


def _check(frame: npt.NDArray[np.uint8], one: Frames, slot: Slot) -> str:
    """Say what is wrong with a field, or what was checked."""
    layout, field = one.layout, slot.field
    if slot.kind == "checksum" and layout.checksum is not None:
        begin, end = layout.covered
        wanted = layout.checksum.method.of(frame[0, begin:end].tobytes())
        algorithm = layout.checksum.algorithm if isinstance(layout.checksum.algorithm, str) else "CRC"
        told = f"{algorithm} of {begin}-{end - 1}"
        stored = int(one.raw(slot.name)[0])
        return f"right: {told}" if stored == wanted else f"WRONG: {told} is 0x{wanted:0{-(-slot.bits // 4)}X}"
    raw = raw_column(frame, slot, layout.packing)
    if (fixed := fixed_value(slot)) is not None:
        return "right" if (raw == fixed).all() else f"WRONG: must be {fixed}"
    if slot.kind == "bcd" and not digits_sound(frame, slot, layout.packing)[0]:
        return "WRONG: a digit beyond 9"
    if slot.kind == "text" and not text_sound(raw, slot)[0]:
        return f"WRONG: no {field.encoding if field else ''} text"
    if field is not None and field.names:
        return "right" if names_known(raw, slot)[0] else "WRONG: has no name"
    if field is not None and field.range is not None:
        limits = f"{field.range[0]:g} to {field.range[1]:g}"
        return f"within {limits}" if within_range(raw, slot)[0] else f"WRONG: not within {limits}"
    return ""


def _place(first: int, behind: int, layout: FrameLayout) -> str:
    """Write where bits lie: bytes, or byte.bit, the bits numbered as in a byte, 0 for the least significant."""
    if first % 8 == 0 and behind % 8 == 0:
        low, high = first // 8, behind // 8 - 1
        return f"{low}" if low == high else f"{low}-{high}"
    ends = []
    for bit in (first, behind - 1):
        byte, within = divmod(bit, 8)
        ends.append(f"{byte}.{within if layout.packing == 'lsb' else 7 - within}")
    return "-".join(dict.fromkeys(ends))


def _bits(frame: npt.NDArray[np.uint8], first: int, count: int, layout: FrameLayout) -> str:
    """Write bits, the most significant first, or bytes in the order of the frame."""
    if count > MOST_BITS or (first % 8 == 0 and count % 8 == 0 and count > 8):
        return frame[first // 8 : -(-(first + count) // 8)].tobytes().hex(" ").upper()
    every = np.unpackbits(frame, bitorder="little" if layout.packing == "lsb" else "big")[first : first + count]
    return "".join(map(str, every[::-1] if layout.packing == "lsb" else every))
