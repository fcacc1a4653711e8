"""What the parser of one wire is made of, for the templates: its layouts, its delimiters, its buffers."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from larkreader.declare.frame.boundary import Boundary, TerminatorBoundary
from larkreader.declare.frame.layout import FrameLayout
from larkreader.declare.frame.stuffing import BEGINS, ENDS, WRONG, Stuffing
from larkreader.decode.cut.joined_packets import FEWEST_BITS
from larkreader.decode.cut.search import check_shared

from .c_members import LayoutInC


@dataclass(frozen=True)
class WireInC:
    """The parser of one wire.

    Parameters
    ----------
    key : str
        The wire's name on the sheet.
    name : str
        What its functions begin with.
    layouts : sequence of LayoutInC
        What may travel on it; all of one kind of boundary.
    """

    key: str
    name: str
    layouts: Sequence[LayoutInC]

    def context(self, prefix: str) -> dict[str, Any]:
        """Return what the templates ask for.

        Parameters
        ----------
        prefix : str
            What all names begin with.

        Raises
        ------
        RequestError
            If its layouts cannot share a wire.
        """
        declared = [layout.layout for layout in self.layouts]
        check_shared(declared)
        boundary = declared[0].boundary
        common = {
            "key": self.key,
            "name": self.name,
            "upper": self.name.upper(),
            "shortest": min(layout.shortest for layout in declared),
            "is_delimited": boundary.is_delimited,
            "kind": boundary.kind,
            "wraps": boundary.is_delimited and boundary.as_sent(b"") != b"",
        }
        layouts = [self._layout(layout, prefix) for layout in self.layouts]
        if boundary.is_delimited:
            return {**common, "layouts": layouts, **_delimited(boundary, declared, prefix)}
        return {**common, **self._content(declared, layouts, prefix)}

    def _layout(self, layout: LayoutInC, prefix: str) -> dict[str, Any]:
        declared = layout.layout
        return {
            "key": declared.key,
            "name": layout.name,
            "id": f"{prefix.upper()}_IS_{layout.name.removeprefix(prefix + '_').upper()}",
            "marker": _hex(declared.marker),
            "end": _hex(declared.end_marker),
            "end_from_end": declared.end_from_end,
            "has_checksum": declared.checksum is not None,
            "is_walked": layout.is_walked,
            "is_ended": bool(declared.end_marker) and not declared.is_fixed,
            "length": declared.length,
            "shortest": declared.shortest,
            "longest": declared.longest,
        }

    def _content(self, declared: Sequence[FrameLayout], layouts: list[dict[str, Any]], prefix: str) -> dict[str, Any]:
        """Return what the parser of frames needs whose own content ends them; see `decode.cut.candidates`."""
        all_marked = all(layout.marker for layout in declared)
        varies = any(layout.needs_locating for layout in declared)
        varies |= not declared[0].boundary.is_marked and any(layout.checksum for layout in declared)
        is_back_to_back = not varies and not all_marked
        for own, layout in zip(layouts, declared, strict=True):
            if varies:
                own["needs_fixed"] = len(declared) > 1 or not (layout.marker or layout.checksum)
            else:
                own["needs_fixed"] = any(
                    other.marker == layout.marker and other.length > layout.length for other in declared
                )
        longest = max(layout.longest for layout in declared)
        marker = max(len(layout.marker) for layout in declared)
        better = "score < 7 && seen.length > best->length"
        if varies:
            better = "(score == 7 ? seen.length < best->length : seen.length > best->length)"
        return {
            "layouts": layouts,
            "tried": layouts if varies else sorted(layouts, key=lambda item: item["length"]),
            "all_marked": all_marked,
            "has_markers": all_marked,
            "is_back_to_back": is_back_to_back,
            "is_any_ended": any(layout["is_ended"] for layout in layouts),
            "longest_marker": marker,
            "capacity": 2 * longest + marker if not is_back_to_back else longest,
            "better": better,
            "followed": lambda place: f"{self.name}_followed(p, {place})" if all_marked else f"{prefix.upper()}_YES",
        }


def _delimited(boundary: Boundary, declared: Sequence[FrameLayout], prefix: str) -> dict[str, Any]:
    """Return what the parser of frames needs that something outside their content ends."""
    longest: int = boundary.longest
    most = boundary.most_sent(longest)
    stuffing = boundary.stuffing
    splits = not boundary.is_recoded and all(
        layout.checksum is not None and layout.checksum.method.width >= FEWEST_BITS for layout in declared
    )
    is_paired = stuffing is not None and not stuffing.is_closed_by_begin
    upper = prefix.upper()
    is_opened = bool(boundary.opened_by)
    at_end = f"{upper}_NEVER_ENDED"
    if is_paired:
        at_end = f"p->is_open ? {upper}_NEVER_ENDED : {upper}_OUTSIDE"
    elif boundary.opened_by == "rest":
        at_end = f"{upper}_WHOLE"
    elif is_opened:
        at_end = f"p->is_open ? {upper}_WHOLE : {upper}_OUTSIDE"
    characters, seconds = boundary.rest
    result: dict[str, Any] = {
        "kind": "flags" if stuffing is not None else boundary.kind,
        "most": most,
        "capacity": most if splits else longest,
        "splits": splits,
        "may_be_empty": boundary.may_be_empty,
        "begins_open": boundary.opened_by == "rest",
        "state_at_end": at_end,
        "is_paired": is_paired,
        "rest": f"{characters:g} character times" if characters else f"{seconds:g} s",
        "ends": [],
        "before": [],
        "behind_bytes": [],
    }
    if isinstance(boundary, TerminatorBoundary):
        result["ends"] = [_hex(end) for end in boundary.every]
        result["longest_end"] = len(boundary.every[0])
        result["behind_bytes"] = _hex(boundary.as_sent(b""))
    if stuffing is not None:
        result |= _flags(stuffing, upper)
    return result


def _flags(stuffing: Stuffing, upper: str) -> dict[str, Any]:
    """Return what flags and an escape byte are."""
    meanings = {WRONG: f"{upper}_WRONG", BEGINS: f"{upper}_BEGINS", ENDS: f"{upper}_ENDS"}
    legal = [byte for byte in range(256) if stuffing.behind[byte] >= 0]
    xor = stuffing.behind[legal[0]] ^ legal[0] if legal else 0
    by_xor = sum(stuffing.behind[byte] == byte ^ xor for byte in legal) > 128
    odd = [
        (byte, meanings.get(meaning, f"0x{meaning & 0xFF:02X}"))
        for byte, meaning in enumerate(stuffing.behind)
        if (meaning != byte ^ xor if by_xor else meaning != WRONG)
    ]
    width = len(stuffing.end)
    return {
        "width": width,
        "end": stuffing.end[-1],
        "begin": stuffing.begin[-1] if stuffing.begin and stuffing.begin != stuffing.end else None,
        "escape": stuffing.escape,
        "behind": odd,
        "otherwise": f"(int16_t)(byte ^ 0x{xor:02X}u)" if by_xor else f"{upper}_WRONG",
        "sent": [(byte, coded[1]) for byte, coded in sorted(stuffing.sent.items())],
        "before": _hex(stuffing.begin),
        "behind_bytes": _hex(stuffing.end),
    }


def _hex(data: bytes) -> list[str]:
    return [f"0x{byte:02X}" for byte in data]
