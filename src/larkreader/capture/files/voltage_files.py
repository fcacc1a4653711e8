"""Files of evenly sampled voltages: tables in text, WAV, NumPy arrays. Each gives its samples block by block."""

from __future__ import annotations

import errno
import struct
from collections.abc import Iterator, Sequence
from dataclasses import replace
from functools import cached_property
from typing import Any, Protocol

import numpy as np
import numpy.typing as npt

from larkreader.capture.trace import Trace
from larkreader.capture.voltages import LevelCounter, Slicer, Voltages, Volts, as_volts
from larkreader.declare.run.capture_form import CaptureForm
from larkreader.errors import CaptureError, nearest

from .content import Content
from .csv_rows import CsvRows

BLOCK = 1 << 20  # samples taken at a time
WAV_MAGIC = (b"RIFF", b"RF64", b"BW64")
NPY_MAGIC = b"\x93NUMPY"
ZIP_MAGIC = b"PK\x03\x04"
UNEVEN = 1.5  # samples by which a time may be off the even grid
_PCM, _FLOAT, _EXTENSIBLE = 1, 3, 0xFFFE
_TIMES = ("time", "time_s", "t")
_RATES = ("rate", "sample_rate", "fs")


class VoltageFile(Protocol):
    """What a file of voltages gives."""

    name: str
    signals: tuple[str, ...]
    truncated: str

    @property
    def clock(self) -> tuple[float, float]:
        """Samples a second, and when the first was taken, in seconds."""
        ...

    def blocks(self, signals: Sequence[str]) -> Iterator[dict[str, Volts]]:
        """Yield the samples of some signals, from the first on, block by block."""
        ...


def open_voltage_file(file: Content, form: CaptureForm) -> VoltageFile:
    """Open a file of voltages, whatever it is.

    Raises
    ------
    CaptureError
        If it is none, is damaged, or its rate is neither in the file nor given.
    """
    if is_wav(file.head):
        return _Wav(file, form)
    if file.head.startswith((NPY_MAGIC, ZIP_MAGIC)):
        return _Arrays(file, form)
    return _Table(file, form)


def is_wav(head: bytes) -> bool:
    """Return whether a file that begins like this is a WAV file."""
    return head[:4] in WAV_MAGIC and head[8:12] == b"WAVE"


def voltages_of(file: VoltageFile, signal: str) -> Voltages:
    """Return all the voltages of one signal."""
    check_signal(file, signal)
    blocks = [block[signal] for block in file.blocks([signal])]
    volts = np.concatenate(blocks) if blocks else np.empty(0, np.float32)
    return Voltages(volts, *file.clock, signal, file.truncated)


def voltage_pieces(file: VoltageFile, signals: Sequence[str], form: CaptureForm) -> Iterator[dict[str, Trace]]:
    """Yield what happened on some signals, piece by piece; first their levels are found, unless they are given."""
    for signal in signals:
        check_signal(file, signal)
    counters = {signal: LevelCounter() for signal in signals}
    if form.thresholds is None:
        for block in file.blocks(signals):
            for signal, volts in block.items():
                counters[signal].feed(volts)
    rate, begin_s = file.clock
    slicers = {
        signal: Slicer(rate, form.thresholds or counter.levels().thresholds, begin_s=begin_s, name=signal)
        for signal, counter in counters.items()
    }
    for block in file.blocks(signals):
        pieces = {signal: slicers[signal].feed(volts) for signal, volts in block.items()}
        yield {signal: piece for signal, piece in pieces.items() if piece is not None}
    yield {signal: replace(slicer.last(), truncated=file.truncated) for signal, slicer in slicers.items()}


def check_signal(file: VoltageFile, signal: str) -> None:
    """Raise `CaptureError` unless the file has `signal`."""
    if signal not in file.signals:
        advice = nearest(signal, list(file.signals))
        raise CaptureError(f'{file.name}: signal "{signal}"', "is not in the file", advice=advice)


def _unknown_rate(name: str) -> float:
    raise CaptureError(name, "does not contain its sample rate", advice="Add it, as in --rate 1M")


class _Table:
    """A table in text; its times are taken for even steps, however coarsely they were written."""

    def __init__(self, file: Content, form: CaptureForm) -> None:
        self.name = file.name
        self._file = file
        rows = CsvRows(file, with_times=form.rate is None)
        self.signals = rows.form.signals
        self._with_times = rows.form.unit is not None
        self._rate = form.rate
        self.truncated = ""

    @cached_property
    def clock(self) -> tuple[float, float]:
        if not self._with_times:
            return self._rate or _unknown_rate(self.name), 0.0
        return _even_times(CsvRows(self._file, with_times=True))

    def blocks(self, signals: Sequence[str]) -> Iterator[dict[str, Volts]]:
        rows = CsvRows(self._file, with_times=self._with_times)
        scales = dict(zip(rows.form.columns, rows.form.scales, strict=True))
        for line, table in rows.blocks(signals, signals):
            columns = {signal: table[signal].to_numpy() for signal in signals}
            for signal, volts in columns.items():
                rows.refuse_lacking(line, volts, signal)
            yield {signal: as_volts(volts, scales[signal]) for signal, volts in columns.items()}
        self.truncated = rows.truncated or self._file.truncated


def _even_times(rows: CsvRows) -> tuple[float, float]:
    """Return how many rows a second a table has, and when it begins."""
    time = rows.form.columns[0]
    first, last, count = 0.0, 0.0, 0
    corners: list[tuple[int, float]] = []  # the least and the most even row of each block, to be looked at once more
    for line, table in rows.blocks([time], [time]):
        seconds = table[time].to_numpy() * rows.form.unit
        rows.refuse_lacking(line, seconds, time)
        if len(seconds):
            first, last = (first if count else float(seconds[0])), float(seconds[-1])
            line_up = seconds - np.linspace(seconds[0], seconds[-1], len(seconds))
            corners += [(count + int(place), float(seconds[place])) for place in (line_up.argmin(), line_up.argmax())]
            count += len(seconds)
    if count < 2 or not last > first:
        raise CaptureError(rows.name, f"has {count} rows", "must have two at least, at rising times")
    step = (last - first) / (count - 1)
    for place, at in corners:
        if abs(at - (first + place * step)) > UNEVEN * step:
            found = f"has the time {at:.9g} s, where even steps of {step:.6g} s lead to {first + place * step:.9g} s"
            raise CaptureError(f"{rows.name}: row {rows.form.first_row + 1 + place}", found, "samples must be even")
    return 1 / step, first


class _Wav:
    """A WAV file: PCM of 8 to 32 bits, or IEEE float; RF64 (EBU 3306) for long files."""

    def __init__(self, file: Content, form: CaptureForm) -> None:
        self.name = name = file.name
        self.truncated = ""
        self._file, self._form = file, form
        begin, size, result = self._find_data(file)
        code, channels, rate, _, block, bits = struct.unpack("<HHIIHH", result[:16])
        if code == _EXTENSIBLE and len(result) >= 26:
            code = struct.unpack("<H", result[24:26])[0]
        kinds = {(_PCM, 8): "u1", (_PCM, 16): "<i2", (_PCM, 24): "u1", (_PCM, 32): "<i4", (_FLOAT, 32): "<f4"}
        kinds[_FLOAT, 64] = "<f8"
        if (code, bits) not in kinds or not channels or not rate or block != channels * bits // 8:
            raise CaptureError(name, f"is a WAV file of coding {code} with {bits} bits", "must be PCM or IEEE float")
        self._kind, self._bits, self._is_float = kinds[code, bits], bits, code == _FLOAT
        self._channels, self._begin, self._block = channels, begin, block
        there = max(file.size - begin, 0)
        if there < size:
            self.truncated = f"it has {there:,} of {size:,} bytes of samples"
        self.truncated = self.truncated or file.truncated
        self._count = min(size, there) // block
        self.clock = float(form.rate or rate), 0.0
        self.signals = tuple(str(number) for number in range(channels))

    def _find_data(self, file: Content) -> tuple[int, int, bytes]:
        """Walk through the chunks; return where the samples begin, how many bytes they have, and their form."""
        result, long_size = b"", 0
        file.seek(12)
        while len(head := file.read(8)) == 8:
            what, size = struct.unpack("<4sI", head)
            if what == b"data":
                if len(result) < 16:
                    break
                return file.tell(), long_size if size == 0xFFFFFFFF else size, result
            body = file.read(min(size, 1 << 16))
            result = body if what == b"fmt " else result
            if what == b"ds64" and len(body) >= 16:
                long_size = struct.unpack("<Q", body[8:16])[0]
            file.seek(size - len(body) + size % 2, 1)
        raise CaptureError(self.name, "is a WAV file without samples, or is cut off before them")

    def blocks(self, signals: Sequence[str]) -> Iterator[dict[str, Volts]]:
        self._file.seek(self._begin)
        left = self._count
        while left:
            taken = min(left, max(1, BLOCK // self._channels))
            data = np.frombuffer(self._file.read(taken * self._block), dtype=self._kind)
            left -= taken
            yield {signal: self._volts(data, int(signal)) for signal in signals}

    def _volts(self, data: npt.NDArray[Any], channel: int) -> Volts:
        if self._bits == 24:
            three = data.reshape(-1, self._channels, 3)[:, channel].astype(np.int32)
            counts = (three[:, 0] << 8 | three[:, 1] << 16 | three[:, 2] << 24) >> 8
        else:
            counts = data[channel :: self._channels]
        if self._is_float:
            return as_volts(counts)
        zero = 128 if self._bits == 8 else 0
        return as_volts(counts.astype(np.float64) - zero, self._form.volts_per_count, self._form.volts_at_zero)


class _Arrays:
    """A NumPy array of samples, a column a signal, or an archive of several, an array a signal."""

    def __init__(self, file: Content, form: CaptureForm) -> None:
        self.name = name = file.name
        begin_s = 0.0
        self._form = form
        arrays, self.truncated = load_arrays(file)
        rates = [float(arrays.pop(item).ravel()[0]) for item in _RATES if item in arrays]
        times = [arrays.pop(time).ravel() for time in _TIMES if time in arrays]
        self._columns: dict[str, npt.NDArray[Any]] = {}
        for key, array in arrays.items():
            if array.ndim > 2 or array.dtype.kind not in "fiub":
                found = f'has an array "{key}" of {array.dtype} with {array.ndim} dimensions'
                raise CaptureError(name, found, "must hold numbers, a row a sample")
            if array.ndim == 1:
                self._columns[key] = array
            else:
                self._columns |= {(f"{key}.{n}" if key else str(n)): array[:, n] for n in range(array.shape[1])}
        if "" in self._columns:
            self._columns = {"0": self._columns[""]}
        self.signals = tuple(self._columns)
        if times and len(times[0]) > 1 and times[0][-1] > times[0][0]:
            begin_s = float(times[0][0])
            rates = [(len(times[0]) - 1) / float(times[0][-1] - times[0][0])]
        self._rate = form.rate or next((rate for rate in rates if 0 < rate < np.inf), None)
        self._begin_s = begin_s

    @property
    def clock(self) -> tuple[float, float]:
        return self._rate or _unknown_rate(self.name), self._begin_s

    def blocks(self, signals: Sequence[str]) -> Iterator[dict[str, Volts]]:
        for low in range(0, max(len(self._columns[signal]) for signal in signals), BLOCK):
            yield {signal: self._volts(self._columns[signal][low : low + BLOCK]) for signal in signals}

    def _volts(self, values: npt.NDArray[Any]) -> Volts:
        is_count = values.dtype.kind != "f"
        return as_volts(values, *((self._form.volts_per_count, self._form.volts_at_zero) if is_count else ()))


def load_arrays(file: Content) -> tuple[dict[str, npt.NDArray[Any]], str]:
    """Load the arrays of an ``.npy`` file, by the name "", or of an ``.npz`` file; say how it breaks off.

    Raises
    ------
    CaptureError
        If it is damaged, or holds objects.
    """
    try:
        file.seek(0)
        if file.head.startswith(NPY_MAGIC):
            return _load_one(file)
        with np.load(file, allow_pickle=False) as loaded:
            return {key: np.atleast_1d(loaded[key]) for key in loaded.files}, ""
    except CaptureError:
        raise
    except Exception as error:  # NumPy, its parser of headers and the unpackers raise two dozen kinds
        if isinstance(error, OSError) and error.errno not in (None, errno.EINVAL):
            raise
        found = str(error).splitlines()[0] if str(error) else type(error).__name__
        raise CaptureError(file.name, f"is a damaged NumPy file, or is cut off: {found}") from None


def _load_one(file: Content) -> tuple[dict[str, npt.NDArray[Any]], str]:
    """Load the array of an ``.npy`` file, as many of its rows as are there."""
    version = np.lib.format.read_magic(file)
    read_header = np.lib.format.read_array_header_1_0 if version < (2, 0) else np.lib.format.read_array_header_2_0
    shape, is_fortran, dtype = read_header(file)
    begin = file.tell()
    if dtype.hasobject:
        raise CaptureError(file.name, "holds Python objects", "must hold numbers")
    shape = shape or (1,)
    row = dtype.itemsize * int(np.prod(shape[1:], dtype=np.int64))
    rows = min(shape[0], (file.size - begin) // row) if row else 0
    if not rows or (is_fortran and len(shape) > 1 and rows < shape[0]):
        raise CaptureError(file.name, "is a NumPy file without samples, or is cut off before them")
    array = file.array(dtype, (rows, *shape[1:]), begin, "F" if is_fortran else "C")
    return {"": array}, file.truncated if rows == shape[0] else f"it has {rows:,} of {shape[0]:,} rows"
