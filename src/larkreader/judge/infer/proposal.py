"""A layout for frames of which nothing was declared, proposed from the bytes alone.

Frames of one length repeat themselves: bytes that never change, and others that seldom do, come again after that
length. It is what nearly always lies between two pauses, or where most bytes equal those that far behind. Pairs of
bytes that come again at just that distance anchor the frames; what never changes in them may be a marker. Where a frame
begins is found from the pauses, or by the checksum: every beginning of a constant stretch is tried, and the beginning
under which a checksum fits is right.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters
from larkreader.capture.median import median_of
from larkreader.declare.frame.layout import FrameLayout
from larkreader.decode.cut.frames import read_frames

from .checksum_search import ChecksumFit, find_checksums

Bytes = npt.NDArray[np.uint8]

LOOKED_AT = 1 << 15  # bytes
LENGTHS = range(3, 257)  # of a frame, in bytes
FEWEST_FRAMES = 6
CLEAR = 0.04  # share of bytes by which a length must be ahead of what is usual
NEARLY_BEST = 0.9  # of that, from which a shorter length is taken: the best may be a multiple
USUAL = 0.6  # share of frames that an anchor must hold
NEVER = 0.02  # share of frames in which a byte may differ and still count as constant: damage
COUNTS = 0.9  # share of steps by which a byte must rise to be a counter
PAUSE_BITS = 1.5  # characters of idle before a byte, at the median, by which a frame begins there
LONGEST_MARKER = 4
SIZES = (8, 4, 2, 3, 1)  # bytes of a checksum, the surest first
TEXT = 0.95  # share of characters of text from which bytes are text
GOOD = 0.8  # share of the bytes that must lie in good frames for a layout to be proposed


@dataclass(frozen=True)
class ProposedLayout:
    """A layout that fits.

    Parameters
    ----------
    layout : FrameLayout
        Marker, a kind behind it, a counter and a checksum where there are some; every other byte is a field of its own.
    frames, good : int
        How many frames it finds, and how many of them are right.
    share : float
        Share of the bytes that lie in good frames.
    """

    layout: FrameLayout
    frames: int
    good: int
    share: float


def propose_layout(data: bytes | Bytes | Characters) -> ProposedLayout | None:
    """Propose a layout for frames of one length that begin with fixed bytes.

    Parameters
    ----------
    data : bytes, ndarray of uint8 of shape (n_bytes,), or Characters
        What arrived; the times of characters help to find where a frame begins.

    Returns
    -------
    ProposedLayout or None
        None if the bytes are text, nothing repeats itself like frames, or too few bytes lie in frames that are right.

    Examples
    --------
    >>> layout = lr.FrameLayout(
    ...     boundary={"kind": "marker", "marker": "D7 4B"},
    ...     fields=[
    ...         {"name": "count", "type": "uint8", "counter": True},
    ...         {"name": "flow", "type": "uint16"},
    ...         {"name": "crc", "type": "checksum"},
    ...     ],
    ...     checksum={"algorithm": "CRC-16/MODBUS"},
    ... )
    >>> data = b"".join(layout.encode({"count": n % 256, "flow": n * n}) for n in range(60))
    >>> found = lr.propose_layout(data)
    >>> found.layout.marker.hex(), found.layout.length, found.layout.checksum.algorithm, found.good
    ('d74b', 7, 'CRC-16/MODBUS', 60)
    """
    pauses = None
    if isinstance(data, Characters):
        if not len(data) or data.value.max() > 0xFF:
            return None
        values = data.value[:LOOKED_AT].astype(np.uint8)
        if data.has_times and data.has_line:
            pauses = np.append(0.0, np.maximum(data.begin_s[1:] - data.end_s[:-1], 0.0))[:LOOKED_AT]
            pauses = pauses / max(median_of(data.end_s - data.begin_s), 1e-12)
    else:
        values = np.frombuffer(data, np.uint8) if isinstance(data, (bytes, bytearray)) else np.asarray(data, np.uint8)
        values = values[:LOOKED_AT]
    if _is_text(values):
        return None
    best: ProposedLayout | None = None
    for length in dict.fromkeys([*_between_pauses(pauses), *_lengths(values)]):
        for anchor in _anchors(values, length):
            for layout in _layouts(values, length, anchor, pauses):
                frames = read_frames(values, layout)
                good = int(np.count_nonzero(frames.faults == 0))
                share = good * length / len(values)
                if best is None or (share, bool(layout.checksum)) > (best.share, bool(best.layout.checksum)):
                    best = ProposedLayout(layout, len(frames), good, share)
            if best is not None and best.share >= GOOD and best.layout.checksum is not None:
                return best
    return best if best is not None and best.share >= GOOD and best.good >= FEWEST_FRAMES else None


def _is_text(values: Bytes) -> bool:
    """Return whether the bytes are lines of text, which are not frames of one length even if they look so."""
    text = (values >= 0x20) & (values < 0x7F) | (values == 0x0A) | (values == 0x0D) | (values == 0x09)
    return bool(len(values)) and float(text.mean()) >= TEXT


def _lengths(values: Bytes) -> list[int]:
    """Return lengths after which the bytes come again, the likeliest first."""
    most = min(LENGTHS.stop, len(values) // FEWEST_FRAMES)
    tried = np.arange(LENGTHS.start, most)
    if not len(tried):
        return []
    alike = np.array([float(np.mean(values[length:] == values[:-length])) for length in tried])
    ahead = alike - np.median(alike)
    if ahead.max(initial=0.0) < CLEAR:
        return []
    clear = tried[ahead >= NEARLY_BEST * ahead.max()]
    return [int(length) for length in clear[:3]]


def _between_pauses(pauses: npt.NDArray[np.float64] | None) -> list[int]:
    """Return the length that nearly all messages between two pauses have; nothing if there is none."""
    if pauses is None:
        return []
    lengths = np.diff(np.flatnonzero(pauses > PAUSE_BITS))
    if len(lengths) < FEWEST_FRAMES:
        return []
    usual = int(np.bincount(lengths).argmax())
    is_usual = float(np.mean(lengths == usual)) >= GOOD and usual in LENGTHS
    return [usual] if is_usual else []


def _anchors(values: Bytes, length: int) -> list[npt.NDArray[np.int64]]:
    """Return where pairs of bytes stand that come again at just that distance, the most frequent pairs first."""
    pairs = values[:-1].astype(np.uint16) << 8 | values[1:]
    order = np.argsort(pairs, kind="stable")
    ordered = pairs[order]
    follows = (ordered[1:] == ordered[:-1]) & (np.diff(order) == length)
    found, counts = np.unique(ordered[1:][follows], return_counts=True)
    expected = len(values) / length
    usual = found[np.argsort(-counts, kind="stable")][: np.count_nonzero(counts >= USUAL * expected)]
    return [np.sort(order[ordered == pair]) for pair in usual[:3]]


def _layouts(
    values: Bytes, length: int, anchor: npt.NDArray[np.int64], pauses: npt.NDArray[np.float64] | None
) -> Iterator[FrameLayout]:
    """Yield layouts of frames that lie somehow about an anchor, the likeliest beginning first."""
    follows = np.append(np.diff(anchor) == length, False)
    inside = anchor[follows & (anchor + 2 * length <= len(values))]
    if len(inside) < FEWEST_FRAMES:
        return
    turned = values[inside[:, None] + np.arange(length)]
    usual = np.array([np.bincount(column, minlength=256).argmax() for column in turned.T])
    constant = np.mean(turned != usual, axis=0) <= NEVER
    begins = [place for place in range(length) if constant[place] and not constant[place - 1]]
    if constant.all() or not begins:
        return
    if pauses is not None:
        before = np.median(pauses[inside[:, None] + np.arange(length)], axis=0)
        longest = int(before.argmax())
        if before[longest] > PAUSE_BITS and constant[longest]:
            begins = [longest]
    for begin in begins:
        rows = values[(inside + begin)[:, None] + np.arange(length)]
        yield _layout_of(rows, np.roll(constant, -begin), np.roll(usual, -begin))


def _layout_of(rows: Bytes, constant: npt.NDArray[np.bool_], usual: npt.NDArray[np.int64]) -> FrameLayout:
    """Describe frames whose bytes are known to be constant or not."""
    length = rows.shape[1]
    marker = next((place for place in range(min(length, LONGEST_MARKER)) if not constant[place]), LONGEST_MARKER)
    fit = _checksum_of(rows, marker)
    if fit is not None and fit.begin:
        marker = min(marker, fit.begin)
    place, size = (fit.place, fit.size) if fit else (length, 0)
    fields: list[dict[str, Any]] = []
    counter = _counter(rows, constant, marker, place)
    for byte in range(marker, length):
        if byte == place:
            fields.append({"name": "check", "type": "checksum"})
        if place <= byte < place + size:
            continue
        entry: dict[str, Any] = {"name": f"byte_{byte}", "type": "uint8"}
        if constant[byte] and all(constant[:byte]):  # further back it may have been so just while this was recorded
            entry["equals"] = int(usual[byte])
        elif constant[byte]:
            entry["note"] = f"always 0x{int(usual[byte]):02X} here"
        if byte == counter:
            entry = {"name": "count", "type": "uint8", "counter": True}
        fields.append(entry)
    checksum: dict[str, Any] | None = None
    if fit is not None:
        names = {0: "marker", **{byte: f"byte_{byte}" for byte in range(marker, length)}}
        names |= {} if counter is None else {counter: "count"}
        checksum = {"algorithm": fit.algorithm, "from": names[fit.begin]}
        checksum |= {"order": fit.order} if size > 1 else {}
    data = bytes(usual[:marker].astype(np.uint8)).hex(" ")
    boundary = {"kind": "marker", "marker": data}
    return FrameLayout.model_validate({"boundary": boundary, "fields": fields, "checksum": checksum})


def _checksum_of(rows: Bytes, marker: int) -> ChecksumFit | None:
    """Return a checksum at the end of the frames, over all before it or from a byte behind the marker on."""
    length = rows.shape[1]
    for size in SIZES:
        place = length - size
        if place <= marker:
            continue
        fits = find_checksums(rows, place, size)
        whole = [fit for fit in fits if fit.end == place]
        if whole:
            return whole[0]
    return None


def _counter(rows: Bytes, constant: npt.NDArray[np.bool_], marker: int, place: int) -> int | None:
    """Return which byte rises by one from frame to frame."""
    if len(rows) < 2:
        return None
    rises = np.mean(np.diff(rows, axis=0) == 1, axis=0)
    counting = [byte for byte in range(marker, place) if rises[byte] >= COUNTS and not constant[byte]]
    return counting[0] if counting else None
