"""One frame taken apart: its bytes, from which bits each value was cut, raw and scaled, and every check."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass
from functools import partial

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import fault_names
from larkreader.declare.frame.layout import FrameLayout
from larkreader.declare.frame.shape import Shape
from larkreader.declare.frame.slot import Slot
from larkreader.declare.frame.text_pattern import without_backspaces
from larkreader.decode.check.verify import fixed_value, names_known, within_range
from larkreader.decode.columns.frame_columns import Frames, frame_fault_names
from larkreader.decode.columns.ragged_columns import each_frame
from larkreader.decode.columns.unpack import digits_sound, raw_column, scaled, texts_sound

from .frame_views import number_text, value_texts
from .layout_table import place_of

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
    first_bit, width : int or None
        Where its bits begin, counted in the order of the packing, and how many there are; None in a line of text.
    number : int, float or None
        The number before scale and offset; None where it holds none.
    """

    name: str
    type: str
    place: str
    bits: str
    raw: str
    value: str
    check: str
    first_bit: int | None = None
    width: int | None = None
    number: int | float | None = None


def parts_of(frames: Frames, row: int) -> Iterator[FieldPart]:
    """Yield what each field of one frame holds, an array's items one by one.

    Parameters
    ----------
    frames : Frames
        Of one layout.
    row : int
        Which of them.
    """
    layout = frames.layout
    if layout.pattern is not None:
        yield from _parts_of_line(frames, row)
        return
    frame = np.frombuffer(frames.data[row].tobytes(), dtype=np.uint8)[None, :]
    shape = layout.shape_of(frame.tobytes())
    if layout.marker:
        bits = 8 * len(layout.marker)
        place = place_of(0, bits, layout.packing)
        yield FieldPart("marker", "", place, layout.marker.hex(" ").upper(), "", "", "right", 0, bits)
    closing = 8 * (shape.length - layout.end_from_end) if layout.end_marker else None
    for slot in shape.slots:
        if closing is not None and slot.first_bit > closing:
            yield _end_marker(layout, closing)
            closing = None
        if not slot.count and slot.field is not None:
            yield FieldPart(slot.name, slot.field.type, "", "", "", "", "none in this frame")
            continue
        check = _check(frame, layout, shape, slot)
        together = _together(slot)
        for item in range(0, slot.count, together):
            bits, first = slot.bits * together, slot.bit_of(item)
            name = slot.name if slot.count == together else f"{slot.name}[{item // together}]"
            declared = f"reserved {slot.bits}" if slot.field is None else slot.field.type
            number, raw, value = _values(frame, layout, slot, item)
            place, held = place_of(first, first + bits, layout.packing), _bits(frame[0], first, bits, layout)
            yield FieldPart(name, declared, place, held, raw, value, check, first, bits, number)
    if closing is not None:
        yield _end_marker(layout, closing)


def _parts_of_line(frames: Frames, row: int) -> Iterator[FieldPart]:
    """Yield what each field of a line of text holds; its place is counted in characters of the line."""
    frame, layout = frames[row : row + 1], frames.layout
    pattern = layout.text_pattern
    assert pattern is not None
    data = frames.data[row].tobytes()
    text = data[len(layout.marker) : len(data) - len(layout.end_marker)].decode(layout.encoding)
    match = pattern.expression.fullmatch(without_backspaces(text) if layout.backspace == "apply" else text)
    for name, field in pattern.fields.items():
        slot = layout.slot[name]
        begin, end = (match.start(name), match.end(name)) if match is not None else (0, 0)
        raw, value = frame.raw(name), ", ".join(value_texts(frame, name))
        check = ""
        if field.kind == "checksum":
            check = "right" if frame.matched.checksum_ok[0] else "WRONG"
        elif field.names:
            check = "right" if each_frame(raw, partial(names_known, slot=slot)).all() else "WRONG: has no name"
        elif field.range is not None:
            limits = f"{field.range[0]:g} to {field.range[1]:g}"
            is_within = each_frame(raw, partial(within_range, slot=slot)).all()
            check = f"within {limits}" if is_within else f"WRONG: not within {limits}"
        place = f"{begin}-{end - 1}" if end - begin > 1 else f"{begin}"
        yield FieldPart(
            name, field.type, place, "", frame.matched.texts[name][0], f"{value} {field.unit}".rstrip(), check
        )


def _end_marker(layout: FrameLayout, bit: int) -> FieldPart:
    bits = 8 * len(layout.end_marker)
    place = place_of(bit, bit + bits, layout.packing)
    return FieldPart("end marker", "", place, layout.end_marker.hex(" ").upper(), "", "", "right", bit, bits)


def headline(frames: Frames, row: int, faults: npt.NDArray[np.uint8] | None = None) -> str:
    """Say which frame it is, where it lay, and its faults."""
    frame = frames[row]
    at = "" if np.isnan(frame.begin_s[0]) else f", at {frame.begin_s[0]:.6f} s"
    result = frame_fault_names(int(frame.faults[0])).replace("+", ", ") or "no fault"
    text = f"{frames.layout.key} frame of {frame.length[0]} bytes from character {frame.offset[0]:,} on{at}: {result}"
    if faults is not None and faults.any():
        hurt = [f"{place}: {fault_names(int(fault))}" for place, fault in enumerate(faults) if fault]
        text += f"; characters with faults: {', '.join(hurt)}"
    return text


def _together(slot: Slot) -> int:
    """Return how many items of a field are shown as one: the bytes of a text."""
    if slot.kind not in ("text", "bytes"):
        return 1
    return slot.inner if slot.stride else max(slot.count, 1)


def _values(
    frame: npt.NDArray[np.uint8], layout: FrameLayout, slot: Slot, item: int
) -> tuple[int | float | None, str, str]:
    """Return the number before scale and offset, and number and value as text."""
    if slot.field is None:
        return None, "", ""
    raw = raw_column(frame, slot, layout.packing).reshape(1, -1)[:, item : item + _together(slot)]
    if slot.kind == "text":
        return None, "", f'"{scaled(raw, slot)[0]}"'
    if slot.kind == "bytes":
        return None, "", raw.tobytes().hex(" ").upper()
    number: float | int | None = float(raw[0, 0]) if slot.kind == "float" else int(raw[0, 0])
    if slot.kind == "checksum":
        return number, f"0x{int(raw[0, 0]):0{-(-slot.bits // 4)}X}", ""
    if number is not None and not math.isfinite(number):
        number = None
    shown = f"{float(raw[0, 0]):.9g}" if slot.kind == "float" else str(number)
    if slot.field.names:
        named = {value: name for name, value in slot.field.names.items()}
        return number, shown, named.get(int(raw[0, 0]), shown)
    value = number_text(scaled(raw, slot)[0, 0], slot)
    return number, shown, f"{value} {slot.field.unit}".rstrip()


def _check(frame: npt.NDArray[np.uint8], layout: FrameLayout, shape: Shape, slot: Slot) -> str:
    """Say what is wrong with a field, or what was checked."""
    field = slot.field
    raw = raw_column(frame, slot, layout.packing) if slot.count else np.empty(0)
    if slot.kind == "checksum" and layout.checksum is not None:
        begin, end = shape.covered
        wanted = layout.checksum.method.of(frame[0, begin:end].tobytes())
        algorithm = layout.checksum.algorithm if isinstance(layout.checksum.algorithm, str) else "CRC"
        result = f"{algorithm} of {begin}-{end - 1}"
        return f"right: {result}" if int(raw[0]) == wanted else f"WRONG: {result} is 0x{wanted:0{-(-slot.bits // 4)}X}"
    if not slot.count:
        return ""
    if (fixed := fixed_value(slot)) is not None:
        return "right" if (raw == fixed).all() else f"WRONG: must be {fixed}"
    if slot.kind == "bcd" and not digits_sound(frame, slot, layout.packing)[0]:
        return "WRONG: a digit beyond 9"
    if slot.kind == "text" and not texts_sound(scaled(raw.reshape(-1, _together(slot)), slot)).all():
        return f"WRONG: no {field.encoding if field else ''} text"
    if field is not None and field.names:
        return "right" if names_known(raw, slot).all() else "WRONG: has no name"
    if field is not None and field.range is not None:
        limits = f"{field.range[0]:g} to {field.range[1]:g}"
        return f"within {limits}" if within_range(raw, slot).all() else f"WRONG: not within {limits}"
    return ""


def _bits(frame: npt.NDArray[np.uint8], first: int, count: int, layout: FrameLayout) -> str:
    """Write bits, the most significant first, or bytes in the order of the frame."""
    if count > MOST_BITS or (first % 8 == 0 and count % 8 == 0 and count > 8):
        return frame[first // 8 : -(-(first + count) // 8)].tobytes().hex(" ").upper()
    every = np.unpackbits(frame, bitorder="little" if layout.packing == "lsb" else "big")[first : first + count]
    return "".join(map(str, every[::-1] if layout.packing == "lsb" else every))
