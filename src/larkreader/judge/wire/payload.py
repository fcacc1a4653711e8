"""Whether frames can hold the characters by which a sender is paused."""

from __future__ import annotations

from collections.abc import Iterator

from larkreader.declare.document.sheet import Sheet
from larkreader.declare.frame.layout import FrameLayout
from larkreader.declare.frame.slot import Slot
from larkreader.judge.findings.finding import Finding, make_finding

from .pauses import XOFF, XON


def judge_payload(sheet: Sheet) -> Iterator[Finding]:
    """Yield the layouts that can hold pause characters on a line that is paused by them.

    Parameters
    ----------
    sheet : Sheet
        What was declared.

    Yields
    ------
    Finding
    """
    for layout in sheet.frame.values():
        wire = layout.wire or ""
        if sheet.wire[wire].line.flow_control != "xon-xoff":
            continue
        fixed, fields = _that_can_hold(layout)
        if fixed or fields:
            named = {"always": fixed or None, "may": fields or None}
            yield make_finding("control-in-payload", wire, frame=layout.key, declared=True, **named)


def _that_can_hold(layout: FrameLayout) -> tuple[list[str], list[str]]:
    """Return what of a layout always holds a pause character, and which fields may."""
    boundary = layout.boundary
    if layout.text_pattern is not None:
        return [], []
    if boundary.stuffing is not None and {XON, XOFF} <= set(boundary.stuffing.sent):
        return [], []
    frame, shape = layout.encode(), layout.nominal
    owners: list[list[Slot]] = [[] for _ in frame]
    free = [0] * len(frame)
    for slot in shape.slots:
        for item in range(slot.count):
            for bit in range(slot.bit_of(item), slot.bit_of(item) + slot.bits):
                byte = bit // 8
                if slot not in owners[byte]:
                    owners[byte].append(slot)
                if not _is_fixed(slot):
                    free[byte] |= 1 << bit % 8 if layout.packing == "lsb" else 0x80 >> bit % 8
    always: list[str] = []
    may: list[str] = []
    for value, mask, slots in zip(frame, free, owners, strict=True):
        if not any((value ^ control) & ~mask == 0 for control in (XON, XOFF)) or not _names_allow(slots):
            continue
        if not mask and not boundary.is_recoded:
            always += [slot.name for slot in slots] or ["marker"]
        may += [slot.name for slot in slots if mask and slot.kind != "text" and not _is_fixed(slot)]
    return list(dict.fromkeys(always)), list(dict.fromkeys(may))


def _is_fixed(slot: Slot) -> bool:
    return slot.kind == "reserved" or (slot.field is not None and slot.field.equals is not None)


def _names_allow(slots: list[Slot]) -> bool:
    """Return whether the names of the one field of a byte, if it has names, allow for a pause character."""
    names = slots[0].field.names if len(slots) == 1 and slots[0].bits == 8 and slots[0].field is not None else None
    return not names or bool({XON, XOFF} & set(names.values()))
