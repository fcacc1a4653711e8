"""One whole frame and nothing else, recognised by what frames of its form have in common.

When a byte ends a frame, a streaming reader most often holds just this frame. Where its fields lie is then the same as
in an earlier frame of the same length in which the same values decide about it. So of each such form is kept which bits
are always the same and where the checksum lies: comparing those with a new frame takes microseconds, where finding
frames takes hundreds. What is not recognised, or is not right in every respect, is left to the long way.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from math import isnan
from typing import Literal

import numpy as np
import numpy.typing as npt

from larkreader.capture.ragged import Ragged
from larkreader.declare.frame.field_kinds import FieldOrder
from larkreader.declare.frame.layout import FrameLayout
from larkreader.decode.check.verify import fixed_value, value_faults
from larkreader.decode.columns.frame_columns import Frames, Skip, Spans
from larkreader.decode.columns.places import FieldPlaces, Located, covered_bytes, deciding_fields, locate
from larkreader.errors import RequestError

from .content import judge_contents
from .delimiters import Whole, delimiter_of

MOST_FORMS = 32  # of one length; frames of further forms are found the long way
MOST_LENGTHS = 512
MOST_FAILURES = 8  # to find a form, after which no more is tried
NOTHING_SKIPPED = Spans(np.empty(0, np.int64), np.empty(0, np.int64), np.empty(0, np.uint8))


@dataclass(frozen=True)
class _Form:
    """What frames of one form have in common.

    `mask` and `value` are numbers of all the bits of a content, the first byte lowest: which bits are always the same,
    and what they are. `check` is where the stored checksum lies, which bytes it covers, and its byte order.
    """

    mask: int
    value: int
    check: tuple[slice, slice, Literal["little", "big"]] | None
    located: Located | None


class SingleFrames:
    """Recognises single frames of the layouts of a wire.

    Parameters
    ----------
    layouts : sequence of FrameLayout
        What may travel on it.
    """

    def __init__(self, layouts: Sequence[FrameLayout]) -> None:
        self._known = [_Known(layout) for layout in layouts]
        self._whole = _whole_by(layouts)
        self._lengths = frozenset(layout.length for layout in layouts)
        self._may_refute = _are_marked_and_checked(layouts) and all(item.is_complete for item in self._known)

    def read(self, held: bytes, offset: int, begin_s: float) -> tuple[dict[str, Frames], int] | None:
        """Return the frame that some bytes are, by layout, and how many behind it belong to the next; None if unsure.

        Parameters
        ----------
        held : bytes
            All that is there, from the beginning of a frame on, without faults.
        offset : int
            Where the first of them lies in the stream.
        begin_s : float
            When it began, in seconds; NaN where unknown.
        """
        whole = self._whole(held)
        if whole is None or (whole.empty and not isnan(begin_s)):
            return None
        found = [(item, form) for item in self._known if (form := item.form_of(whole.content)) is not None]
        if len(found) != 1 or not all(item is found[0][0] or item.excludes(whole.content) for item in self._known):
            return None
        known, form = found[0]
        frames = known.frames(whole, form, offset, len(held) - whole.kept - whole.empty, begin_s)
        others = (item.none(frames.skipped) for item in self._known if item is not known)
        by_name = {item.layout.key: item for item in (frames, *others)}
        return {item.layout.key: by_name[item.layout.key] for item in self._known}, whole.kept

    def refutes(self, held: bytes) -> bool:
        """Return whether bytes that begin with a marker are not a whole frame yet, as the checksum of none is right."""
        return (
            self._may_refute
            and len(held) in self._lengths
            and any(held.startswith(item.layout.marker) for item in self._known)
            and all(item.excludes(held) for item in self._known)
        )

    def learn(self, read: Mapping[str, Frames]) -> None:
        """Take note of the forms of frames that are right in every respect."""
        for item in self._known:
            item.learn(read[item.layout.key])


class _Known:
    """What is known of the frames of one layout."""

    def __init__(self, layout: FrameLayout) -> None:
        self.layout = layout
        self._forms: dict[int, list[_Form]] = {}
        self._failures = 0
        self._is_judged = any(
            slot.kind in ("bcd", "text")
            or (slot.field is not None and (slot.field.names or slot.field.range))
            or (layout.pattern is not None and fixed_value(slot) is not None)
            for slot in layout.slots
        )
        if not layout.needs_locating:
            with suppress(RequestError):
                self._learn(np.frombuffer(layout.encode({}), np.uint8))

    @property
    def is_complete(self) -> bool:
        """Whether every frame has the one form that is known."""
        return not self.layout.needs_locating and bool(self._forms)

    def excludes(self, content: bytes) -> bool:
        """Return whether no frame of the layout that is right begins with so many bytes, or with the first of them."""
        if not self.is_complete:
            return False
        return len(content) < self.layout.length or self.form_of(content[: self.layout.length]) is None

    def none(self, skipped: Spans) -> Frames:
        """Return no frames."""
        layout, nothing = self.layout, np.empty(0, np.int64)
        data: npt.NDArray[np.uint8] | Ragged = np.empty((0, layout.length), np.uint8)
        if layout.needs_locating:
            data = Ragged(np.empty(0, np.uint8), nothing, nothing)
        return Frames(layout, nothing, np.empty(0), np.empty(0, np.uint8), data, skipped, nothing)

    def learn(self, frames: Frames) -> None:
        """Take note of the forms of frames that are right in every respect."""
        for row in np.flatnonzero(frames.faults == 0).tolist():
            content: npt.NDArray[np.uint8] = frames.data[row]
            if self.form_of(content.tobytes()) is None:
                self._learn(content)

    def _learn(self, content: npt.NDArray[np.uint8]) -> None:
        forms = self._forms.get(len(content), [])
        if self._failures >= MOST_FAILURES or len(forms) >= MOST_FORMS or len(self._forms) >= MOST_LENGTHS:
            return
        form = _form_like(content, self.layout)
        if form is None:
            self._failures += 1
        else:
            self._forms.setdefault(len(content), []).append(form)

    def form_of(self, content: bytes) -> _Form | None:
        """Return the form that a content has; None if it is new, or not right."""
        if self.layout.pattern is not None:
            return self._line_form(content)
        number = int.from_bytes(content, "little")
        for form in self._forms.get(len(content), ()):
            if number & form.mask == form.value and _is_right(content, form, self.layout):
                return form
        return None

    def _line_form(self, content: bytes) -> _Form | None:
        line = np.frombuffer(content, np.uint8)
        judged = judge_contents(line, np.zeros(1, np.int64), np.array([len(line)]), self.layout)
        return (
            _Form(0, 0, None, None) if judged.fits[0] and judged.fixed_values_ok[0] and judged.checksum_ok[0] else None
        )

    def frames(self, whole: Whole, form: _Form, offset: int, length: int, begin_s: float) -> Frames:
        """Return a frame of a form as the only row."""
        content = np.frombuffer(bytearray(whole.content), np.uint8)
        data: npt.NDArray[np.uint8] | Ragged = content.reshape(1, -1)
        if self.layout.needs_locating:
            data = Ragged(content, np.zeros(1, np.int64), np.array([len(content)]))
        faults = np.zeros(1, np.uint8)
        skipped = NOTHING_SKIPPED
        if whole.empty:
            places = np.arange(offset, offset + whole.empty)
            skipped = Spans(places, np.ones_like(places), np.full(whole.empty, Skip.FILL, np.uint8))
        offsets, lengths = np.array([offset + whole.empty]), np.array([length])
        frames = Frames(self.layout, offsets, np.array([begin_s]), faults, data, skipped, lengths)
        if form.located is not None:
            frames.__dict__["located"] = form.located
        if self._is_judged:
            faults |= value_faults(frames, np.ones(1, np.bool_), np.ones(1, np.bool_))
        return frames


def _are_marked_and_checked(layouts: Sequence[FrameLayout]) -> bool:
    """Return whether all frames begin with a marker, have one length and a checksum."""
    return all(layout.boundary.is_marked and layout.is_fixed and layout.checksum is not None for layout in layouts)


def _is_right(content: bytes, form: _Form, layout: FrameLayout) -> bool:
    if form.check is None or layout.checksum is None:
        return True
    stored, covered, order = form.check
    return int.from_bytes(content[stored], order) == layout.checksum.method.of(content[covered])


def _form_like(content: npt.NDArray[np.uint8], layout: FrameLayout) -> _Form | None:
    """Return the form of a right frame; None where its checksum does not lie in whole bytes."""
    content = np.ascontiguousarray(content)
    first, size = np.zeros(1, np.int64), np.array([len(content)])
    located = None
    if layout.needs_locating:
        located = locate(content, first, None if layout.boundary.counted else size, layout)
        if not located.fits[0] or located.length[0] != len(content):
            return None
        fields = located.fields
    else:
        fields = tuple(FieldPlaces(slot, np.array([slot.first_bit]), np.array([slot.count])) for slot in layout.slots)
    same = np.zeros(8 * len(content), np.bool_)
    deciding = deciding_fields(layout)
    for place in fields:
        if fixed_value(place.slot) is not None or place.slot.name in deciding:
            bits, _ = place.bits(first)
            same[(bits[:, None] + np.arange(place.slot.bits)).reshape(-1)] = True
    same[: 8 * len(layout.marker)] = True
    if layout.end_marker:
        end = 8 * (len(content) - layout.end_from_end)
        same[end : end + 8 * len(layout.end_marker)] = True
    mask = int.from_bytes(
        np.packbits(same, bitorder="little" if layout.packing == "lsb" else "big").tobytes(), "little"
    )
    check = None
    if layout.checksum is not None:
        check = _check_of(fields, layout)
        if check is None:
            return None
    form = _Form(mask, int.from_bytes(content.tobytes(), "little") & mask, check, located)
    return form if _is_right(content.tobytes(), form, layout) else None


def _check_of(
    fields: tuple[FieldPlaces, ...], layout: FrameLayout
) -> tuple[slice, slice, Literal["little", "big"]] | None:
    """Return where a checksum lies, what it covers, and its byte order; None if it is not in whole bytes."""
    slot = layout.checksum_slot
    places = {place.slot.name: place for place in fields}
    if slot is None or slot.bits % 8 or places[slot.name].bit[0] % 8 or places[slot.name].count[0] != 1:
        return None
    order: FieldOrder = slot.order or ("little" if layout.packing == "lsb" else "big")
    if order not in ("little", "big"):
        return None
    at = int(places[slot.name].bit[0]) // 8
    begin, end = (int(item[0]) for item in covered_bytes(layout, places.__getitem__, np.zeros(1, np.int64)))
    return slice(at, at + slot.bits // 8), slice(begin, end), order


def _whole_by(layouts: Sequence[FrameLayout]) -> Callable[[bytes], Whole | None]:
    """Return what recognises that bytes are one whole frame, by the layouts' boundary."""
    layout, boundary = layouts[0], layouts[0].boundary
    if (delimiter := delimiter_of(boundary)) is not None:
        return delimiter.whole
    if len(layouts) > 1:
        return Whole if _are_marked_and_checked(layouts) else lambda held: None
    if layout.checksum is not None or boundary.is_back_to_back:
        return Whole
    if boundary.is_marked and layout.is_fixed:
        return _before_a_marker(layout.marker)
    return lambda held: None


def _before_a_marker(marker: bytes) -> Callable[[bytes], Whole | None]:
    return lambda held: Whole(held[: -len(marker)], len(marker)) if held.endswith(marker) else None
