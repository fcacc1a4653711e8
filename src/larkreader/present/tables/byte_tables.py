"""Bytes of frames as tables for the terminal: what each does, how two stretches differ, what changed."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

from rich.console import Group
from rich.text import Text

from larkreader.decode.columns.frame_columns import Frames
from larkreader.judge.measure.byte_survey import ByteDifference, ByteSurvey
from larkreader.judge.measure.changes import FrameChange
from larkreader.present.text.terminal import new_table, whole

from .byte_groups import byte_rows
from .frame_views import number_text

ROWS = 12  # frames that are shown
MOST = 12  # items of an array, and bytes that changed, that are shown of one frame
MOST_BYTES = 8  # of a frame in a row, at least
OTHER_COLUMNS = 28  # of a terminal, which time, character and length take


def frame_rows(frames: Frames, at: Sequence[int] | None = None, *, width: int = 80) -> Group:
    """Show frames in hexadecimal, one a row, the first few of them; a long frame breaks where a field ends."""
    longest = max(MOST_BYTES, (width - OTHER_COLUMNS) // 3)
    table = new_table(">time", ">character", ">bytes", "hex")
    rows = range(min(len(frames), ROWS)) if at is None else at
    for row in rows:
        data = frames.data[row].tobytes()
        begin_s = float(frames.begin_s[row])
        hexadecimal = "\n".join(whole(part.hex(" ").upper()) for part in byte_rows(frames.layout, data, longest))
        time = "-" if begin_s != begin_s else f"{begin_s:.6f}"
        table.add_row(time, f"{int(frames.offset[row]):,}", str(len(data)), hexadecimal)
    more = len(frames) - len(rows)
    return Group(table, *([f"and {more:,} more"] if more > 0 else []))


def byte_survey(survey: ByteSurvey) -> Group:
    """Show what each byte and bit of some frames does."""
    table = new_table(">byte", "looks", ">least", ">most", ">values", ">changes", "bit 7..0", "bits change, 7..0")
    wide = len(str(survey.bit_changes.max(initial=0)))
    for row in range(len(survey)):
        moving = survey.bit_changes[row, ::-1].tolist()
        table.add_row(
            str(survey.place[row]),
            survey.looks(row),
            f"{survey.low[row]:02X}",
            f"{survey.high[row]:02X}",
            str(survey.values[row]),
            str(survey.changes[row]),
            survey.bits(row),
            " ".join(f"{item or '.':>{wide}}" for item in moving) if any(moving) else "",
        )
    return Group(table)


def byte_differences(found: Iterable[ByteDifference]) -> Group:
    """Show which bytes differ between two stretches."""
    table = new_table(">byte", ">different", "before", "after", "bits")
    for item in found:
        bits = ", ".join(map(str, sorted(item.bits, reverse=True)))
        table.add_row(str(item.place), f"{100 * item.distance:.0f} %", item.before, item.after, bits)
    return Group(table) if table.row_count else Group(Text("No byte holds other values than before."))


def changes(key: str, frames: Frames, every: Iterable[FrameChange]) -> Group:
    """Show what changed from one frame to the next."""
    table = new_table(">frame", ">time", "fields", "bytes")
    for item in every:
        fields = "\n".join(line for name, was, now in item.fields for line in _field_lines(frames, name, was, now))
        places = ", ".join(whole(f"{place}: {_hex(was)} {_hex(now)}") for place, was, now in item.bytes[:MOST])
        places += f" and {len(item.bytes) - MOST} more" if len(item.bytes) > MOST else ""
        time = "-" if item.begin_s != item.begin_s else f"{item.begin_s:.6f}"
        table.add_row(str(item.row), time, fields, places)
    return Group(Text(key, style="bold"), table if table.row_count else Text("  nothing changed"))


def _field_lines(frames: Frames, name: str, was: object, now: object) -> Iterator[str]:
    """Yield what changed in a field: in an array of the same length, each element that did."""
    if isinstance(was, list) and isinstance(now, list) and len(was) == len(now) > 1:
        moved = [item for item, pair in enumerate(zip(was, now, strict=True)) if pair[0] != pair[1]]
        for item in moved[:MOST]:
            yield f"{name}[{item}] {_text(frames, name, was[item])} -> {_text(frames, name, now[item])}"
        if len(moved) > MOST:
            yield f"{name}: {len(moved) - MOST} more elements"
    else:
        yield f"{name} {_text(frames, name, was)} -> {_text(frames, name, now)}"


def _hex(value: int | None) -> str:
    return "--" if value is None else f"{value:02X}"


def _text(frames: Frames, name: str, value: object) -> str:
    slot = frames.layout.slot[name]
    if value is None:
        return "none"
    if isinstance(value, list):
        more = " ..." if len(value) > MOST else ""
        return f"[{' '.join(_text(frames, name, item) for item in value[:MOST])}{more}]"
    if isinstance(value, str):
        return value
    unit = slot.field.unit if slot.field is not None else ""
    return f"{number_text(value, slot)} {unit}".rstrip()
