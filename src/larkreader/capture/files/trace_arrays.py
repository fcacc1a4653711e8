"""Traces in an archive of NumPy arrays (``.npz``), exact and quick to read.

For each signal ``NAME`` there are ``NAME.edges`` (int64, ticks), ``NAME.unknown`` (int64, shape (n, 2)),
``NAME.tick_s`` (float64) and ``NAME.span``: first level, first tick and, where it is known, last tick (int64).
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

import numpy as np
import numpy.typing as npt

from larkreader.capture.trace import Trace
from larkreader.errors import CaptureError, nearest
from larkreader.sources import Target, opened_to_write

from .content import Content
from .voltage_files import load_arrays

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
    arrays: dict[str, npt.NDArray[Any]] = {}
    for name, trace in traces.items():
        span = [trace.first_level, trace.begin, *([] if trace.end is None else [trace.end])]
        arrays[f"{name}.edges"] = trace.edges
        arrays[f"{name}.unknown"] = trace.unknown
        arrays[f"{name}.tick_s"] = np.array(trace.tick_s)
        arrays[f"{name}.span"] = np.array(span, dtype=np.int64)
    with opened_to_write(path) as file:
        np.savez_compressed(file, allow_pickle=False, **arrays)


def names_in(file: Content) -> list[str]:
    """Name the signals of such an archive."""
    arrays, _ = load_arrays(file)
    return [key.removesuffix(".edges") for key in arrays if key.endswith(".edges")]


def trace_arrays(file: Content, signals: Sequence[str]) -> Iterator[dict[str, Trace]]:
    """Yield the traces of some signals of such an archive, each as one piece.

    Raises
    ------
    CaptureError
        If it is damaged, or lacks a signal.
    """
    arrays, _ = load_arrays(file)
    name = file.name
    known = [key.removesuffix(".edges") for key in arrays if key.endswith(".edges")]
    for signal in signals:
        if signal not in known:
            raise CaptureError(f'{name}: signal "{signal}"', "is not in the file", advice=nearest(signal, known))
        try:
            first_level, begin, *ends = arrays[f"{signal}.span"].astype(np.int64).tolist()
            edges, unknown = arrays[f"{signal}.edges"].ravel(), arrays[f"{signal}.unknown"].reshape(-1, 2)
            tick_s = float(arrays[f"{signal}.tick_s"].ravel()[0])
            if not SHORTEST_TICK_S <= tick_s <= LONGEST_TICK_S:
                raise ValueError(f"its ticks are of {tick_s:g} s")
            yield {signal: Trace(edges, tick_s, first_level, begin, ends[0] if ends else None, unknown, signal)}
        except (KeyError, ValueError, TypeError, IndexError) as error:
            if isinstance(error, CaptureError):
                raise
            raise CaptureError(f'{name}: signal "{signal}"', f"is not as it should be: {error}") from None
