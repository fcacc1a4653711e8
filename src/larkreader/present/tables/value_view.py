"""A table of each field's last value, with how it moved in the last seconds, for live wires."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import ClassVar

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters
from larkreader.declare.frame.layout import FrameLayout
from larkreader.decode.check.verify import within_range
from larkreader.decode.columns.frame_columns import FrameFault, Frames
from larkreader.decode.columns.ragged_columns import every_item
from larkreader.judge.measure.statistics import LATE
from larkreader.present.text.dump import DumpForm
from larkreader.present.text.views import Arrival

from .frame_views import FrameView, is_number, number_text, value_texts

WAIT_S = 0.1  # for which what arrived waits to be read together
STRIP_S = 30.0  # how far back a strip reaches, in seconds
CELLS, FEW_CELLS = 24, 12  # of a strip; the latter on a narrow terminal
WIDE = 100  # columns of a terminal, from which it is not narrow
STALE = 5.0  # usual intervals without a frame, from which a value without a declared period is old
HEIGHTS, DIGITS = " \u2581\u2582\u2583\u2584\u2585\u2586\u2587\u2588", " 123456789"  # nothing, then low to high


@dataclass
class Strip:
    """How a value moved: its mean in each of the last stretches of time.

    Parameters
    ----------
    cell_s : float
        How long a stretch is, in seconds.
    """

    cell_s: float
    sums: dict[int, tuple[float, int]] = field(default_factory=dict)

    def take(self, times_s: npt.NDArray[np.float64], values: npt.NDArray[np.float64]) -> None:
        """Take in values with their times.

        Parameters
        ----------
        times_s, values : ndarray of float64, shape (n,)
            The times, ascending, in seconds; and the values.
        """
        known = np.isfinite(values) & np.isfinite(times_s)
        cells = np.floor(times_s[known] / self.cell_s).astype(np.int64)
        for cell in np.unique(cells).tolist():
            some = values[known][cells == cell]
            total, count = self.sums.get(cell, (0.0, 0))
            self.sums[cell] = total + float(some.sum()), count + len(some)
        while len(self.sums) > CELLS + 1:
            del self.sums[next(iter(self.sums))]

    def text(self, now_s: float, cells: int, *, ascii_only: bool = False) -> str:
        """Draw the last stretches with characters, the latest at the right; a space where nothing arrived.

        Parameters
        ----------
        now_s : float
            What time it is, in seconds.
        cells : int
            How many stretches.
        ascii_only : bool
            Whether to draw with digits, 1 for the lowest and 9 for the highest.
        """
        last = int(now_s // self.cell_s)
        held = [self.sums.get(cell) for cell in range(last - cells + 1, last + 1)]
        means = [np.nan if item is None else item[0] / item[1] for item in held]
        known = [mean for mean in means if mean == mean]
        if not known:
            return " " * cells
        signs = DIGITS if ascii_only else HEIGHTS
        least, span = min(known), max(known) - min(known)
        steps = len(signs) - 2
        middle = 1 + steps // 2
        return "".join(
            signs[0] if mean != mean else signs[1 + round(steps * (mean - least) / span)] if span else signs[middle]
            for mean in means
        )


@dataclass(frozen=True)
class ValueRow:
    """What is known of a field: its last value and whether that is odd, its strip, its range, its rate and its age."""

    frame: str
    field: str
    last: str
    unit: str
    odd: str
    strip: str
    least: str
    most: str
    rate: str
    age_s: float | None


class ValueView(FrameView):
    """Keeps the last value, the range, the rate and a strip of fields, for a table that is drawn again and again."""

    is_thinned: ClassVar[bool] = False
    now_s: float
    strips: dict[tuple[str, str], Strip]

    def __init__(
        self, form: DumpForm, layouts: Mapping[str, Sequence[FrameLayout]], fields: Sequence[str] = ()
    ) -> None:
        super().__init__(form, layouts, fields)
        self.now_s, self.strips = 0.0, {}
        self._waiting: list[Arrival] = []
        self._cells = CELLS if form.width >= WIDE else FEW_CELLS

    def heading(self) -> str:
        """Return nothing: rows are not what it shows."""
        return ""

    def take(self, arrival: Arrival) -> Iterator[str]:
        """Take in what was received; there is nothing to show row by row, so that it is looked at now and then."""
        self.now_s = max(self.now_s, arrival.at_s)
        self._waiting.append(arrival)
        if self.now_s - self._waiting[0].at_s >= WAIT_S:
            self._read()
        yield from ()

    def leave_out(self, arrival: Arrival) -> Iterator[str]:
        """Take in what was received all the same: values take little time."""
        return self.take(arrival)

    def _read(self) -> None:
        """Read the frames of what waits."""
        for wire in self._readers:
            groups = [(item.at_s, item.data, item.faults) for item in self._waiting if item.wire == wire]
            if groups:
                for _ in self._shown(wire, self._readers[wire].feed(Characters.from_groups(groups))):
                    pass
        self._waiting.clear()

    def _of_layout(self, key: str, frames: Frames) -> Iterator[tuple[int, float, str, int]]:
        """Take in the frames of a layout; there are no rows of them."""
        trusted = ~frames.has_fault(FrameFault.CHECKSUM_MISMATCH)
        self.seen[key].take(frames, trusted)
        self._take_values(key, frames[trusted])
        yield from ()

    def summary(self, wire: str) -> str:
        """Return how many frames of each layout there were, as of other views."""
        self._read()
        return super().summary(wire)

    def idle(self, now_s: float) -> Iterator[tuple[str, str]]:
        """Take note of the time: values grow old."""
        self.now_s = max(self.now_s, now_s)
        yield from ()

    def rest(self) -> Iterator[tuple[str, str]]:
        """Take in what was held back."""
        self._read()
        for _ in super().rest():
            pass
        yield from ()

    def _take_values(self, key: str, frames: Frames) -> None:
        """Take in the values of good frames."""
        for name in self.shown[key] if len(frames) else ():
            if is_number(frames.layout.slot[name]):
                some = frames[~frames.substituted(name)]
                values = every_item(some[name]).astype(np.float64)
                if len(values) == len(some):  # an optional field has fewer values than frames
                    strip = self.strips.setdefault((key, name), Strip(STRIP_S / self._cells))
                    strip.take(some.begin_s, values)

    def rows(self) -> Iterator[ValueRow]:
        """Yield what is known of each field."""
        self._read()
        for key, layout in self.layouts.items():
            seen = self.seen[key]
            age_s = None if not seen.times else max(self.now_s - seen.times[-1], 0.0)
            for name in self.shown[key]:
                slot = layout.slot[name]
                strip = self.strips.get((key, name))
                least, most = (
                    number_text(side[name], slot) if name in side else "" for side in (seen.least, seen.most)
                )
                yield ValueRow(
                    frame=key,
                    field=name,
                    last="-" if seen.last is None else value_texts(seen.last, name)[0],
                    unit=slot.field.unit if slot.field else "",
                    odd=self._odd(key, name, age_s),
                    strip=strip.text(self.now_s, self._cells, ascii_only=self.form.ascii_only) if strip else "",
                    least=least,
                    most=most,
                    rate="" if seen.rate is None else f"{seen.rate:.3g}",
                    age_s=age_s,
                )

    def _odd(self, key: str, name: str, age_s: float | None) -> str:
        """Return why the last value of a field is not to be trusted; nothing if it is."""
        seen, layout = self.seen[key], self.layouts[key]
        if seen.last is None or age_s is None:
            return ""
        if not within_range(seen.last.raw(name), layout.slot[name]).all():
            return "out of range"
        if seen.last.substituted(name).any():
            return "substitute"
        usual_s = None if not seen.rate else STALE / seen.rate
        limit_s = usual_s if layout.period is None else LATE * layout.period
        return "stale" if limit_s is not None and age_s > limit_s else ""
