"""Raw files of evenly sampled levels: one bit a sample, or a channel a bit of 8, 16 or 32."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import replace

import numpy as np

from larkreader.capture.sampling import LevelChanges, packed_samples
from larkreader.capture.trace import Trace
from larkreader.declare.run.capture_form import CaptureForm
from larkreader.errors import CaptureError, RequestError
from larkreader.sources import Target, opened_to_write

from .content import Content

BLOCK = 1 << 19  # bytes worked on at once, so that what is made of them stays in the processor's cache
PIECE = 1 << 18  # changes of which a piece is made
PIECE_BLOCKS = 256  # or so many blocks


def channel_names(form: CaptureForm) -> list[str]:
    """Name the channels of a file of samples."""
    return [str(channel) for channel in range(form.bits)]


def sample_pieces(file: Content, signals: Sequence[str], form: CaptureForm) -> Iterator[dict[str, Trace]]:
    """Read the level changes of some channels, piece by piece.

    Parameters
    ----------
    file : Content
        At its beginning.
    signals : sequence of str
        Numbers of channels, from 0.
    form : CaptureForm
        Rate, bits and packing of the samples.

    Yields
    ------
    dict of str to Trace
        A tick is a sample.

    Raises
    ------
    CaptureError
        If the file is empty, lacks a channel, or its rate is not given.
    """
    if form.rate is None:
        raise CaptureError(file.name, "does not contain its sample rate", advice="Add it, as in --rate 24M")
    known = channel_names(form)
    for signal in signals:
        if signal not in known:
            wanted = "is the only channel of 1-bit samples" if form.bits == 1 else f"to {known[-1]} are the channels"
            advice = 'Name the channel of the wire on the sheet, as in signal = "0"'
            raise CaptureError(f'{file.name}: signal "{signal}"', "is not a channel of the file", f"0 {wanted}", advice)
    size = max(1, form.bits // 8)
    kind = np.dtype(f"{'<' if form.order == 'little' else '>'}u{size}")
    changes = [LevelChanges() for _ in signals]
    edges: list[list[np.ndarray]] = [[] for _ in signals]
    levels: list[int] = []
    begin = held = count = blocks = 0
    truncated = ""
    while data := file.read(BLOCK):
        if len(data) % size:
            truncated = f"it ends within a sample of {size} bytes"
            data = data[: len(data) // size * size]
        samples = np.frombuffer(data, dtype=kind)
        if kind.byteorder == ">":
            samples = samples.astype(kind.newbyteorder("="))
        taken = len(samples) * (8 if form.bits == 1 else 1)
        for signal, item, found in zip(signals, changes, edges, strict=True):
            found.append(item.feed(packed_samples(samples, form.bits, int(signal), form.packing), taken))
            held += len(found[-1])
        if not levels:
            levels = [change.first_level or 0 for change in changes]
        count += taken
        blocks += 1
        if held > PIECE or blocks >= PIECE_BLOCKS:
            yield _traces(signals, edges, levels, form.rate, begin, count - 1)
            begin, held, blocks = count, 0, 0
    if not count:
        raise CaptureError(file.name, "is empty", advice="Was anything recorded?")
    truncated = truncated or file.truncated
    last = _traces(signals, edges, levels, form.rate, min(begin, count - 1), count - 1)
    yield {signal: replace(trace, truncated=truncated) for signal, trace in last.items()}


def _traces(
    signals: Sequence[str], edges: list[list[np.ndarray]], levels: list[int], rate: float, begin: int, end: int
) -> dict[str, Trace]:
    """Make traces of what was found, and go on from their last levels."""
    traces = {}
    for number, signal in enumerate(signals):
        changes = np.concatenate(edges[number] or [np.empty(0, np.int64)])
        traces[signal] = Trace(changes, 1 / rate, levels[number], begin=begin, end=end, name=signal)
        levels[number] ^= len(changes) & 1
        edges[number].clear()
    return traces


def write_samples(path: Target, traces: Mapping[str, Trace], rate: float, form: CaptureForm | None = None) -> None:
    """Write traces as a raw file of samples, in blocks.

    Parameters
    ----------
    path : str, pathlib.Path or binary file
        The file.
    traces : mapping of str to Trace
        The signals; the first is channel 0, and so on. The first sample is that of the earliest beginning.
    rate : float
        Samples a second.
    form : CaptureForm, optional
        Bits and packing of a sample; eight channels by default.

    Raises
    ------
    RequestError
        If there are more signals than channels, or nothing to write.
    """
    write_sample_pieces(path, list(traces), [traces], rate, form)


def write_sample_pieces(
    path: Target,
    names: Sequence[str],
    pieces: Iterable[Mapping[str, Trace]],
    rate: float,
    form: CaptureForm | None = None,
) -> None:
    """Write pieces of a capture as samples, in bounded memory; see `write_samples`.

    Parameters
    ----------
    path : str, pathlib.Path or binary file
        The file.
    names : sequence of str
        The signals.
    pieces : iterable of mapping of str to Trace
        What happened on them, as `CaptureFile.pieces` yields it.
    rate : float
        Samples a second.
    form : CaptureForm, optional
        As of `write_samples`.

    Raises
    ------
    RequestError
        As `write_samples`; or if the level of a signal is not known yet in the first piece.
    """
    form = form or CaptureForm()
    if not 0 < len(names) <= form.bits:
        raise RequestError("traces", f"are {len(names)}", f"must be 1 to {form.bits}, the bits of a sample")
    sampler: _Sampler | None = None
    with opened_to_write(path) as file:
        for piece in pieces:
            if sampler is None:
                sampler = _Sampler(names, piece, rate, form)
            file.writelines(sampler.feed(piece))
        if sampler is not None:
            file.writelines(sampler.close())


class _Sampler:
    """Makes samples of levels, piece by piece."""

    def __init__(self, names: Sequence[str], first: Mapping[str, Trace], rate: float, form: CaptureForm) -> None:
        missing = [name for name in names if name not in first]
        if missing:
            raise RequestError(
                missing[0], "has no level at the beginning", "a sample must hold the level of each signal"
            )
        self._begin_s = min(trace.begin * trace.tick_s for trace in first.values())
        self._rate, self._form = rate, form
        self._kind = np.dtype(f"{'<' if form.order == 'little' else '>'}u{max(1, form.bits // 8)}")
        self._at = {name: [np.empty(0, np.int64)] for name in names}  # changes behind the samples that are made
        self._level = {name: first[name].first_level for name in names}
        self._end_s = {name: first[name].begin * first[name].tick_s for name in names}
        self._made = 0

    def feed(self, piece: Mapping[str, Trace]) -> Iterator[bytes]:
        """Yield the samples before what may follow the piece."""
        for name, trace in piece.items():
            self._at[name].append(np.ceil((trace.edges_s - self._begin_s) * self._rate - 1e-6).astype(np.int64))
            self._end_s[name] = trace.end_s
        until_s = min(trace.end_s + trace.tick_s for trace in piece.values()) if len(piece) == len(self._at) else 0.0
        until = int(np.ceil((until_s - self._begin_s) * self._rate - 1e-6))
        yield from self._samples(until - until % 8)

    def close(self) -> Iterator[bytes]:
        """Yield the rest."""
        count = round((max(self._end_s.values()) - self._begin_s) * self._rate) + 1
        yield from self._samples(count + (-count % 8 if self._form.bits == 1 else 0))

    def _samples(self, until: int) -> Iterator[bytes]:
        at = {name: np.concatenate(parts) for name, parts in self._at.items()}
        for low in range(self._made, until, BLOCK):
            high = min(low + BLOCK, until)
            samples = np.zeros(high - low, dtype=self._kind)
            for channel, (name, changes) in enumerate(at.items()):
                first, behind = np.searchsorted(changes, [low, high - 1], side="right").tolist()
                bounds = np.concatenate([[low], changes[first:behind], [high]])
                levels = (self._level[name] + np.arange(first, behind + 1) & 1) << channel
                samples |= np.repeat(levels.astype(self._kind), np.diff(bounds))
            if self._form.bits == 1:
                bits = samples.astype(np.uint8)
                samples = np.packbits(bits, bitorder="little" if self._form.packing == "lsb" else "big")
            yield samples.tobytes()
        if until <= self._made:
            self._at = {name: [changes] for name, changes in at.items()}
            return
        self._made = until
        for name, changes in at.items():
            passed = int(np.searchsorted(changes, until))
            self._level[name] ^= passed & 1
            self._at[name] = [changes[passed:].copy()]
