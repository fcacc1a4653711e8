"""Traces in an archive of NumPy arrays (``.npz``), exact and quick to read.

For each signal ``NAME`` there are ``NAME.edges`` (int64, ticks), ``NAME.unknown`` (int64, shape (n, 2)),
``NAME.tick_s`` (float64) and ``NAME.span``: first level, first tick and, where it is known, last tick (int64).
"""

from __future__ import annotations

import shutil
import zipfile
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import ExitStack
from tempfile import SpooledTemporaryFile
from typing import IO, Any

import numpy as np
import numpy.typing as npt

from larkreader.capture.trace import Trace, joined_spans
from larkreader.errors import CaptureError, nearest
from larkreader.sources import Target, opened_to_write

from .content import Content
from .voltage_files import load_arrays

IN_MEMORY = 8 << 20  # bytes of changes of a signal, beyond which they are put aside on the disk
SHORTEST_TICK_S, LONGEST_TICK_S = 1e-18, 1e3


def write_trace_arrays(path: Target, traces: Mapping[str, Trace]) -> None:
    """Write traces as an archive of NumPy arrays.

    Parameters
    ----------
    path : str, pathlib.Path or binary file
        The file.
    traces : mapping of str to Trace
        The signals.
    """
    write_trace_array_pieces(path, list(traces), [traces])


def write_trace_array_pieces(path: Target, names: Sequence[str], pieces: Iterable[Mapping[str, Trace]]) -> None:
    """Write pieces of a capture as an archive of NumPy arrays, in bounded memory; see `write_trace_arrays`.

    The changes of each signal are put aside on the disk until all are there.

    Parameters
    ----------
    path : str, pathlib.Path or binary file
        The file.
    names : sequence of str
        The signals.
    pieces : iterable of mapping of str to Trace
        What happened on them, as `CaptureFile.pieces` yields it.
    """
    with ExitStack() as stack:
        held = {name: _Aside(stack.enter_context(SpooledTemporaryFile(IN_MEMORY))) for name in names}
        for piece in pieces:
            for name, trace in piece.items():
                held[name].add(trace)
        with opened_to_write(path) as file, zipfile.ZipFile(file, "w", zipfile.ZIP_DEFLATED) as archive:
            for name, aside in held.items():
                for part, array in aside.arrays().items():
                    with archive.open(f"{name}.{part}.npy", "w", force_zip64=True) as member:
                        if array is None:
                            aside.copy_edges(member)
                        else:
                            np.lib.format.write_array(member, array, allow_pickle=False)


class _Aside:
    """The traces of a signal, whose changes are put aside in a file."""

    def __init__(self, file: IO[bytes]) -> None:
        self._file, self._count = file, 0
        self._unknown: list[npt.NDArray[np.int64]] = []
        self._first: Trace | None = None
        self._last: Trace | None = None

    def add(self, trace: Trace) -> None:
        """Put the next piece aside."""
        if self._last is not None:
            self._last.check_goes_on_with(trace)
        if self._first is None:
            self._first = trace
        self._last = trace
        self._file.write(trace.edges.astype("<i8").tobytes())
        self._count += len(trace)
        self._unknown.append(trace.unknown)

    def arrays(self) -> dict[str, npt.NDArray[Any] | None]:
        """Return what the archive holds of the signal, by name; None for the changes."""
        first, last = self._first, self._last
        assert first is not None
        assert last is not None
        span = [first.first_level, first.begin, *([] if last.end is None else [last.end])]
        return {
            "edges": None,
            "unknown": joined_spans(self._unknown),
            "tick_s": np.array(first.tick_s),
            "span": np.array(span, dtype=np.int64),
        }

    def copy_edges(self, member: IO[bytes]) -> None:
        """Write the changes as an array."""
        header = {"descr": "<i8", "fortran_order": False, "shape": (self._count,)}
        np.lib.format.write_array_header_1_0(member, header)
        self._file.seek(0)
        shutil.copyfileobj(self._file, member)


def names_in(file: Content) -> list[str]:
    """Name the signals of such an archive."""
    arrays, _ = load_arrays(file)
    return [key.removesuffix(".edges") for key in arrays if key.endswith(".edges")]


def trace_arrays(file: Content, signals: Sequence[str]) -> Iterator[dict[str, Trace]]:
    """Yield the traces of some signals of such an archive, as one piece.

    Raises
    ------
    CaptureError
        If it is damaged, or lacks a signal.
    """
    arrays, _ = load_arrays(file)
    name = file.name
    known = [key.removesuffix(".edges") for key in arrays if key.endswith(".edges")]
    traces = {}
    for signal in signals:
        if signal not in known:
            raise CaptureError(f'{name}: signal "{signal}"', "is not in the file", advice=nearest(signal, known))
        try:
            first_level, begin, *ends = arrays[f"{signal}.span"].astype(np.int64).tolist()
            edges, unknown = arrays[f"{signal}.edges"].ravel(), arrays[f"{signal}.unknown"].reshape(-1, 2)
            tick_s = float(arrays[f"{signal}.tick_s"].ravel()[0])
            if not SHORTEST_TICK_S <= tick_s <= LONGEST_TICK_S:
                raise ValueError(f"its ticks are of {tick_s:g} s")
            end = ends[0] if ends else None
            traces[signal] = Trace(edges, tick_s, first_level, begin, end, unknown, signal)
        except (KeyError, ValueError, TypeError, IndexError) as error:
            if isinstance(error, CaptureError):
                raise
            raise CaptureError(f'{name}: signal "{signal}"', f"is not as it should be: {error}") from None
    yield traces
