"""How small, how slow and how late the parts of a receive path may be, so that it just loses nothing.

Each limit is given twice: as found by replaying the characters, and as an upper or a lower bound from arithmetic alone.
The bounds count, as in network calculus (R. L. Cruz, "A calculus for network delay", 1991), how many characters can
arrive at most within the longest time without a look, and never promise more than the replay finds.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from larkreader.capture.characters import Characters
from larkreader.declare.link.line import LineSettings
from larkreader.declare.paths.receive_path import BlockingApplication, LineApplication, PeriodicApplication, ReceivePath
from larkreader.declare.paths.receive_services import DmaService, InterruptService, PollingService

from .buffers import loses, replay
from .replayed import BUFFERS, Fate

UNLIMITED = 1 << 24  # characters of a ring that never fills up
FINE = 0.01  # of a time, within which its limit is searched
LEAST_S = 1e-6  # of a time that is searched where arithmetic promises none
SLOWEST_S = 1e3  # a service that may be later than that may be as late as it likes
WINDOWS = 4096  # looks of an application over which characters may pile up, that are looked at one by one


@dataclass(frozen=True)
class PathLimits:
    """What a receive path could stand.

    Parameters
    ----------
    ring_needed : int or None
        The smallest ring at which nothing is lost there, the place that stays free included; None without
        a ring.
    ring_bound : int or None
        How many are enough, by arithmetic; None where nothing bounds it.
    slowest : str
        What of the service is varied: ``"latency_s"`` or, of polling, ``"every_s"``; nothing for a UART in software.
    slowest_s : float or None
        The longest such time at which the hardware loses nothing, within 1 % below; infinite where none is too long.
        None where some is lost however short it is.
    slowest_bound_s : float or None
        The time up to which nothing can be lost, by arithmetic: without stretches without service, and with a sender
        that never rests. None where not even 0 is short enough.
    marks : tuple of int or None
        From which to which mark a pause may be asked for so that nothing is lost anywhere; None without a pause, or
        where there is no such mark.
    marks_bound : int or None
        Up to which, by arithmetic; None without a pause at the ring, or where there is none.
    """

    ring_needed: int | None = None
    ring_bound: int | None = None
    slowest: str = ""
    slowest_s: float | None = None
    slowest_bound_s: float | None = None
    marks: tuple[int, int] | None = None
    marks_bound: int | None = None

    def to_dict(self) -> dict[str, Any]:
        """Return the limits as JSON has them; infinite times are null."""
        result = dict(vars(self))
        result["slowest_s"] = None if self.slowest_s == float("inf") else self.slowest_s
        return result


def find_limits(
    characters: Characters, path: ReceivePath, line: LineSettings, *, back: LineSettings | None = None
) -> PathLimits:
    """Find how small, slow and late the parts of a path may be, so that it just loses nothing of some characters.

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

    Returns
    -------
    PathLimits
        The limits of each part, and the bounds by arithmetic beside them.

    Raises
    ------
    RequestError
        As for `replay`.

    Examples
    --------
    >>> line = lr.LineSettings.parse("57600 8E1")
    >>> every_10_ms = {"kind": "periodic", "every_s": 0.01}
    >>> path = lr.ReceivePath(ring={"size": 64}, application=every_10_ms)
    >>> limits = lr.find_limits(lr.simulate.make_burst(1000, line), path, line)
    >>> limits.ring_needed, limits.ring_bound
    (53, 54)
    """

    def loses_any(changed: ReceivePath, *fates: Fate) -> bool:
        return loses(characters, changed, line, fates, back=back)

    has_flow = path.pause is not None and line.flow_control != "none"
    first_s = characters.begin_s.min(initial=getattr(path.service, "first_s", 0.0))
    sending_s = float(characters.end_s.max(initial=0.0) - first_s)
    bound_s = _slowest_bound(path, line)
    longest_s = SLOWEST_S if has_flow else min(sending_s, SLOWEST_S)
    slowest, slowest_s = _find_slowest(path, loses_any, longest_s, bound_s)
    return PathLimits(
        ring_needed=_ring_needed(characters, path, line, back),
        ring_bound=_ring_bound(characters, path, line, back if has_flow else None, has_flow=has_flow),
        slowest=slowest,
        slowest_s=slowest_s,
        slowest_bound_s=bound_s,
        marks=_find_marks(path, loses_any) if has_flow else None,
        marks_bound=_mark_bound(path, line, back) if has_flow else None,
    )


def _ring_needed(
    characters: Characters, path: ReceivePath, line: LineSettings, back: LineSettings | None
) -> int | None:
    if path.ring is None:
        return None
    free = path.ring.size - path.ring.capacity
    unlimited = path.ring.model_copy(update={"size": UNLIMITED, "full": "drop-new"})
    changed = path.model_copy(update={"ring": unlimited})
    most = replay(characters, changed, line, back=back).high_water("ring")
    return max(most, 1) + free


def _find_slowest(
    path: ReceivePath, loses_any: Callable[..., bool], longest_s: float, bound_s: float | None
) -> tuple[str, float | None]:
    """Find how late the service may be: later and later until something is lost, then halved in between.

    The search begins just below what arithmetic promises, `bound_s`, if nothing is lost there. If nothing is lost when
    it is later than `longest_s`, it may be as late as it likes: a sender that nothing holds back has sent everything by
    then.
    """
    service = path.service
    if not isinstance(service, (InterruptService, PollingService, DmaService)):
        return "", None
    name = "every_s" if isinstance(service, PollingService) else "latency_s"
    shortest = max(service.jitter_s * 1.001, LEAST_S) if name == "every_s" else 0.0
    if path.pause is None and (path.ring is None or path.ring.full != "stop"):
        path = path.model_copy(update={"ring": None, "application": None})  # nothing of it acts back on the hardware

    def is_too_late(time_s: float) -> bool:
        changed = service.model_copy(update={name: time_s})
        return loses_any(path.model_copy(update={"service": changed}), Fate.OVERRUN, Fate.BLOCK)

    below_s = 0.0 if bound_s is None else (1 - FINE / 4) * bound_s
    if below_s > shortest and not is_too_late(below_s):
        good, step = below_s, FINE
    elif is_too_late(shortest):
        return name, None
    else:
        good, step = max(shortest, LEAST_S), 1.0
    while not is_too_late(bad := (1 + step) * good):
        if bad > longest_s:
            return name, float("inf")
        good, step = bad, 2 * step
    while bad - good > FINE * bad:
        middle = (good + bad) / 2
        good, bad = (good, middle) if is_too_late(middle) else (middle, bad)
    return name, good


def _find_marks(path: ReceivePath, loses_any: Callable[..., bool]) -> tuple[int, int] | None:
    """Find the lowest and the highest mark at which nothing is lost, from what is declared in both directions."""
    pause = path.pause
    assert pause is not None
    held = path.fifo.size if pause.watches == "fifo" else path.ring.capacity if path.ring is not None else 0

    def is_too_far(mark: int) -> bool:
        changed = pause.model_copy(update={"at": mark, "resume_at": min(pause.resume_at, mark - 1)})
        return loses_any(path.model_copy(update={"pause": changed}), Fate.OVERRUN, *BUFFERS, Fate.HELD_BACK)

    good = next((mark for mark in dict.fromkeys([pause.at, 1, held // 2, held]) if mark and not is_too_far(mark)), None)
    if good is None:
        return None
    return _last_good(good, 0, is_too_far), _last_good(good, held + 1, is_too_far)


def _last_good(good: int, beyond: int, loses: Callable[[int], bool]) -> int:
    """Halve what lies between a mark at which nothing is lost and one that is out of the question."""
    while abs(beyond - good) > 1:
        middle = (good + beyond) // 2
        good, beyond = (good, middle) if loses(middle) else (middle, beyond)
    return good


def _slowest_bound(path: ReceivePath, line: LineSettings) -> float | None:
    """Return how late a service may be while characters follow one another without a gap."""
    service, fifo, character_s = path.service, path.fifo, line.character_time_s
    if isinstance(service, (InterruptService, PollingService)) and service.most:
        return None
    if isinstance(service, InterruptService):
        room = fifo.size - fifo.trigger + 1
    elif isinstance(service, PollingService):
        room = fifo.size
    elif isinstance(service, DmaService) and service.circular:
        result = {"half", "full"} & set(service.notices)
        if not result:
            return None
        room = service.block // 2 + 1 if len(result) == 2 else 1
    else:
        return None
    until_next_start = (line.bits_per_character - line.stop_position - 0.5) * line.bit_time_s
    waits = fifo.shift_waits and not isinstance(service, DmaService)
    costs_s = service.enter_s + service.each_s + service.jitter_s
    if service.each_s >= character_s or (service.each_s and _handler_s(path, line) > character_s * fifo.size):
        return None
    bound_s = room * character_s + waits * until_next_start - costs_s
    behind_s = _handler_s(path, line) if isinstance(service, DmaService) else service.leave_s  # of a notice meanwhile
    return bound_s - behind_s if bound_s > behind_s else None


def _handler_s(path: ReceivePath, line: LineSettings) -> float:
    """Return how long a service can take at most, with what arrives while it is at work."""
    service = path.service
    if not isinstance(service, (InterruptService, PollingService, DmaService)):
        return 0.0
    held = (service.block if isinstance(service, DmaService) else path.fifo.size) + path.fifo.shift_waits
    share = min(service.each_s / line.character_time_s, 0.999)
    return service.enter_s + service.leave_s + (held * service.each_s + service.enter_s * share) / (1 - share)


def _ring_bound(
    characters: Characters, path: ReceivePath, line: LineSettings, back: LineSettings | None, *, has_flow: bool
) -> int | None:
    """Return how many places are enough, whatever the phases of everything are."""
    application, ring = path.application, path.ring
    if application is None or ring is None or not len(characters):
        return None
    free = ring.size - ring.capacity
    behind = path.fifo.size + path.fifo.shift_waits
    behind += path.service.block if isinstance(path.service, DmaService) else 0
    blocked_s = 2 * _handler_s(path, line) + sum(item.for_s for item in path.deaf if item.stops == "everything")
    begins = np.sort(characters.begin_s)
    if has_flow:  # whatever is held back can come without a gap
        begins = begins[0] + np.arange(len(begins)) * line.character_time_s
    bound = _piled_up(begins, application, blocked_s)
    if bound is None and not (has_flow and path.pause is not None and path.pause.watches == "ring"):
        return None
    enough = len(characters) if bound is None else min(bound + behind, len(characters))
    if has_flow and path.pause is not None and path.pause.watches == "ring":
        enough = min(enough, path.pause.at + _overshoot(path, line, back))
    return enough + free


def _piled_up(
    begins: np.ndarray, application: PeriodicApplication | LineApplication | BlockingApplication, blocked_s: float
) -> int | None:
    """Return how many characters can come at most before the application has taken them; None if nothing bounds it."""
    if isinstance(application, LineApplication):
        return None
    if isinstance(application, BlockingApplication):
        kept = application.length - 1 if application.whole else 0
        return kept + most_within(begins, application.busy_s + blocked_s)
    if not application.most:
        return most_within(begins, application.every_s + blocked_s)
    most, looks, span_s = 0, 1, float(begins[-1] - begins[0])
    while looks <= WINDOWS:
        within = most_within(begins, looks * application.every_s + blocked_s)
        most = max(most, within - (looks - 1) * application.most)
        if looks * application.every_s > span_s:
            return most
        looks += 1
    return None


def most_within(begins: np.ndarray, window_s: float) -> int:
    """Return how many of some times lie at most within a stretch of a length, both ends included."""
    ends = np.searchsorted(begins, begins + window_s * (1 + 1e-9) + 1e-9, side="right")
    return int((ends - np.arange(len(begins))).max(initial=0))


def _overshoot(path: ReceivePath, line: LineSettings, back: LineSettings | None) -> int:
    """Return how many characters can still reach the ring after the character at which a pause is asked for."""
    pause = path.pause
    assert pause is not None
    delay_s = pause.delay_s + ((back or line).character_time_s if line.flow_control == "xon-xoff" else 0.0)
    underway = int(np.ceil(delay_s / line.character_time_s)) + 1
    held = path.fifo.size + path.fifo.shift_waits
    held += path.service.block if isinstance(path.service, DmaService) else 0
    return held + underway + pause.reaction_characters


def _mark_bound(path: ReceivePath, line: LineSettings, back: LineSettings | None) -> int | None:
    if path.pause is None or path.pause.watches != "ring" or path.ring is None:
        return None
    mark = path.ring.capacity - _overshoot(path, line, back)
    return mark if mark > 0 else None
