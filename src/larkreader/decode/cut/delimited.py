"""Which packets between delimiters are frames, of which layout; and why the others are none."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from larkreader.capture.ragged import Ragged
from larkreader.declare.frame.layout import FrameLayout
from larkreader.declare.frame.shape import varies
from larkreader.decode.check.verify import fixed_value
from larkreader.decode.columns.frame_columns import Skip
from larkreader.decode.columns.gather import items_at

from .content import judge_contents
from .packets import Packets
from .stretches import PacketState

Mask = npt.NDArray[np.bool_]
NONE = -1  # the number of the layout of a packet that is not a frame
_REASONS = {
    PacketState.WHOLE: Skip.LENGTH_MISMATCH,
    PacketState.EMPTY: Skip.FILL,
    PacketState.OUTSIDE: Skip.NO_MARKER,
    PacketState.TRUNCATED: Skip.TRUNCATED_FRAME,
    PacketState.BAD_STUFFING: Skip.BAD_STUFFING,
    PacketState.TOO_LONG: Skip.TOO_LONG,
    PacketState.UNFINISHED: Skip.UNFINISHED,
}
_DAMAGED = (Skip.LENGTH_MISMATCH, Skip.TRUNCATED_FRAME, Skip.BAD_STUFFING)


@dataclass(frozen=True)
class Sorted:
    """Packets sorted by layouts, a row each.

    `which` is the number of the layout whose frame it is, or `NONE`; `fixed_values_ok` and `checksum_ok` hold whether
    that layout's fixed values and checksum are there; `reason` is why it is not a frame, as `Skip`.
    """

    which: npt.NDArray[np.int64]
    fixed_values_ok: Mask
    checksum_ok: Mask
    reason: npt.NDArray[np.uint8]


def sort_packets(packets: Packets, layouts: Sequence[FrameLayout], *, at_start: bool) -> Sorted:
    """Find which packets are frames of which layouts.

    Parameters
    ----------
    packets : Packets
        What lies between delimiters.
    layouts : sequence of FrameLayout
        What may travel on the wire. A packet is a frame of the first of those that fit best: whose fields add up to it,
        whose fixed values it holds, whose checksum is right. Where there are several layouts its fixed values must be
        there.
    at_start : bool
        Whether the first packet may have begun before the capture did.

    Returns
    -------
    Sorted
    """
    count = len(packets)
    which, best = np.full(count, NONE, dtype=np.int64), np.zeros(count, dtype=np.int8)
    fixed_values_ok, checksum_ok, fits_some = np.zeros((3, count), dtype=np.bool_)
    whole = packets.state == PacketState.WHOLE
    if _may_be_empty(layouts[0]):
        whole |= packets.state == PacketState.EMPTY
    content = packets.content
    for number, layout in enumerate(layouts):
        judged = judge_contents(content.items, content.begin, content.length, layout)
        fits = judged.fits & whole
        fits_some |= fits
        if len(layouts) == 1:
            which[fits], fixed_values_ok, checksum_ok = number, judged.fixed_values_ok & fits, judged.checksum_ok & fits
            break
        score = (judged.fixed_values_ok & fits) * (np.int8(1) + judged.checksum_ok.astype(np.int8))
        better = score > best
        best[better], which[better] = score[better], number
        fixed_values_ok[better], checksum_ok[better] = True, judged.checksum_ok[better]
    reason = np.array([_REASONS[state] for state in PacketState], dtype=np.uint8)[packets.state]
    refused = (packets.state == PacketState.WHOLE) & (which == NONE)
    shortest = np.full(count, min(layout.shortest for layout in layouts))
    reason[refused & (fits_some | all(layout.pattern is not None for layout in layouts))] = Skip.UNDECLARED
    for layout in layouts:
        begun = np.flatnonzero(refused)[_begins_as(packets.content[np.flatnonzero(refused)], layout)]
        shortest[begun], reason[begun] = layout.shortest, Skip.LENGTH_MISMATCH
    reason[refused & (packets.content.length < shortest)] = Skip.TRUNCATED_FRAME
    if at_start and count and which[0] == NONE and reason[0] in _DAMAGED:
        reason[0] = Skip.UNFINISHED
    return Sorted(which, fixed_values_ok, checksum_ok, reason)


def _may_be_empty(layout: FrameLayout) -> bool:
    """Return whether nothing between two delimiters may be a frame, rather than what fills the time."""
    return layout.boundary.may_be_empty


def _begins_as(content: Ragged, layout: FrameLayout) -> Mask:
    """Return which contents hold the fixed values of a layout as far as these have the same place in every frame."""
    fixed = []
    for entry, slot in zip(layout.fields, layout.slots, strict=False):  # groups vary, or come behind what is looked at
        if varies(entry) or slot.stride or layout.pattern is not None:
            break
        if (wanted := fixed_value(slot)) is not None:
            fixed.append((slot, wanted))
    begins = np.full(len(content), bool(fixed))
    for slot, wanted in fixed:
        begins &= content.length * 8 >= slot.end_bit
        there = np.flatnonzero(begins)
        for item in range(slot.count):
            bit = content.begin[there] * 8 + slot.bit_of(item)
            begins[there] &= items_at(content.items, bit, slot, layout.packing) == wanted
    return begins
