"""What fits the reply that a step of a dialogue expects, and why what arrived does not."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from larkreader.declare.frame.layout import FrameLayout
from larkreader.declare.run.exchange import Exchange
from larkreader.decode.cut.streaming import FrameReader


@dataclass
class Found:
    """The place of what fits in the received bytes, and the values kept of it; or why nothing fits."""

    begin: int = -1
    end: int = -1
    values: dict[str, Any] = field(default_factory=dict)
    why: str = ""
    received: bytes = b""


class FrameWatch:
    """Looks for a frame that fits while bytes arrive; it decides about each byte once, but for the last few."""

    def __init__(self, exchange: Exchange, layout: FrameLayout) -> None:
        self._one, self._reader, self._fed = exchange, FrameReader(layout), 0
        self._shortest = layout.shortest

    def feed(self, new: bytes, held: int) -> Found:
        """Take in what is new, of `held` bytes that are held; return the first frame that fits, placed in these."""
        frames = self._reader.feed(new)
        self._fed += len(new)
        found = first_that_fits(self._one, frames)
        if found.end < 0 and self._reader.held >= self._shortest:
            rest = first_that_fits(self._one, self._reader.rest())
            found = rest if rest.end >= 0 else found
        dropped = self._fed - held  # the oldest bytes are given up where too many are held
        if found.end < 0 or found.begin < dropped:
            return Found(why=found.why)
        return Found(found.begin - dropped, found.end - dropped, found.values)


def first_that_fits(exchange: Exchange, frames: Any) -> Found:
    """Return the first good frame under the conditions of a step, or why there is none."""
    is_good = frames.faults == 0
    columns = {name: _column_of(frames, name) for name in frames.layout.slot} if is_good.any() else {}
    why = ""
    for row in range(len(frames)):
        if not is_good[row]:
            why = why or "received a faulty frame"
            continue
        values = {name: _plain(column[row]) for name, column in columns.items()}
        why = unmet(exchange, values)
        if not why:
            begin = int(frames.offset[row])
            kept = {to: values[name] for name, to in exchange.keep.items()}
            return Found(begin, begin + int(frames.length[row]), kept)
    return Found(why=why)


def _column_of(frames: Any, name: str) -> Any:
    """Return a field of all frames, by the names of its values where they have some."""
    field = frames.layout.slot[name].field
    return frames.labels(name) if field is not None and field.names else frames[name]


def _plain(value: Any) -> Any:
    return value.tolist() if hasattr(value, "tolist") else value


def unmet(exchange: Exchange, values: Mapping[str, Any]) -> str:
    """Say which condition does not hold; nothing if all do."""
    for name, wanted in exchange.where.items():
        found = values.get(name)
        if isinstance(wanted, list):
            try:
                number = float(found)  # type: ignore[arg-type]
            except (TypeError, ValueError):
                return f"{name} is {found}, no number"
            if not wanted[0] <= number <= wanted[1]:
                return f"{name} is {number:.6g}, not {wanted[0]:g} to {wanted[1]:g}"
        elif not _is_alike(found, wanted):
            return f"{name} is {found}, not {wanted}"
    return ""


def _is_alike(found: Any, wanted: Any) -> bool:
    if isinstance(found, str) and not isinstance(wanted, str):
        try:
            return float(found) == float(wanted)
        except ValueError:
            return False
    if isinstance(found, bool) or isinstance(wanted, bool):
        return bool(found) == bool(wanted)
    if isinstance(found, float) and isinstance(wanted, int | float):
        return abs(found - wanted) <= 1e-6 * max(abs(wanted), 1e-9)
    return bool(found == wanted)
