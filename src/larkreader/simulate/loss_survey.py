"""How many characters a receive path loses with a ring of one size or another, and served sooner or later."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters
from larkreader.declare.link.line import LineSettings
from larkreader.declare.paths.receive_path import ReceivePath
from larkreader.declare.paths.receive_services import DmaService, InterruptService, PollingService
from larkreader.errors import RequestError

from .buffers import replay
from .replayed import BUFFERS, Fate

SMALLEST_RING, RINGS = 16, 8
FACTORS = (0.25, 1.0, 4.0, 16.0, 64.0, 256.0)  # of the declared time of service
LEAST_S = 20e-6  # instead of a declared time of 0


@dataclass(frozen=True, eq=False)
class LossSurvey:
    """Characters lost by hardware and buffers.

    Parameters
    ----------
    path : ReceivePath
        What was declared.
    rings : ndarray of int64, shape (n_rings,)
        Sizes of the ring, ascending.
    slowest : str
        What of the service was varied: ``"latency_s"`` or ``"every_s"``.
    times_s : ndarray of float64, shape (n_times,)
        How late, or how rarely, it served, ascending, in seconds.
    lost : ndarray of int64, shape (n_times, n_rings)
        How many were lost with each.
    total : int
        Of how many.
    """

    path: ReceivePath
    rings: npt.NDArray[np.int64]
    slowest: str
    times_s: npt.NDArray[np.float64]
    lost: npt.NDArray[np.int64]
    total: int


def calculate_losses(
    characters: Characters,
    path: ReceivePath,
    line: LineSettings,
    *,
    back: LineSettings | None = None,
    rings: Sequence[int] | None = None,
    times_s: Sequence[float] | None = None,
) -> LossSurvey:
    """Replay characters with rings of several sizes, and with service after several times.

    Parameters
    ----------
    characters : Characters
        As of `replay`.
    path : ReceivePath
        As of `replay`.
    line : LineSettings
        As of `replay`.
    back : LineSettings, optional
        As of `replay`.
    rings : sequence of int, optional
        Sizes of the ring; eight, the declared size and powers of two around it, by default.
    times_s : sequence of float, optional
        Latencies, or periods of polling, in seconds; from a quarter of what is declared to 256 times as much by
        default.

    Returns
    -------
    LossSurvey
        How many characters each combination loses.

    Raises
    ------
    RequestError
        If the path has no ring, or no service whose time could be varied; and as for `replay`.
    """
    service = path.service
    if path.ring is None or not isinstance(service, (InterruptService, PollingService, DmaService)):
        what = "a ring" if path.ring is None else "a service in hardware"
        raise RequestError("receive path", f"has not {what}", "there is nothing to vary")
    name = "every_s" if isinstance(service, PollingService) else "latency_s"
    declared_s = service.every_s if isinstance(service, PollingService) else service.latency_s
    if times_s is None:
        times_s = [declared_s, *(factor * max(declared_s, LEAST_S) for factor in FACTORS)]
    sizes = np.unique(np.array(_sizes(path.ring.size) if rings is None else rings, dtype=np.int64))
    late_s = np.unique(np.array(times_s, dtype=np.float64))
    lost = np.zeros((len(late_s), len(sizes)), dtype=np.int64)
    for row, time_s in enumerate(late_s.tolist()):
        late = service.model_copy(update={name: time_s})
        for column, size in enumerate(sizes.tolist()):
            ring = path.ring.model_copy(update={"size": size})
            pause = path.pause
            if pause is not None and pause.watches == "ring" and pause.at > ring.capacity:
                at = max(ring.capacity, 1)
                pause = pause.model_copy(update={"at": at, "resume_at": min(pause.resume_at, at - 1)})
            result = replay(
                characters,
                path.model_copy(update={"service": late, "ring": ring, "pause": pause}),
                line,
                back=back,
            )
            lost[row, column] = sum(result.count(fate) for fate in (Fate.OVERRUN, *BUFFERS))
    return LossSurvey(path, sizes, name, late_s, lost, len(characters))


def _sizes(declared: int) -> list[int]:
    """Return the declared size, and powers of two from a quarter of it on."""
    first = max(int(np.log2(max(declared // 4, SMALLEST_RING))), 1)
    return [declared, *(1 << power for power in range(first, first + RINGS - 1))]
