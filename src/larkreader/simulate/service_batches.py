"""What interrupts and polling loops fetch from a FIFO, many services at once.

A batch asks for what characters make of the hardware alone: it begins with an empty FIFO, each of its services empties
it, and how full the ring is or when the application acts changes nothing. Where a service does more than that, the
batch ends before it.

`apart` works out services that end before the next character is complete, with a few operations on arrays: which
characters each fetches is known beforehand. `in_turn`
goes from service to service: a service fetches until the FIFO is empty, so how many it fetches is the least number m
for which no more than m characters are complete when it fetches the m-th. All times are whole nanoseconds.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Callable
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from .batch import Batch
from .blackouts import Blackouts
from .hardware import Hardware
from .senders import NEVER, Ahead
from .service import Costs, Service

Times = npt.NDArray[np.int64]


class Conditions(NamedTuple):
    """What the services of a batch depend on."""

    hardware: Hardware
    costs: Costs
    draws: Times
    deaf: Blackouts | None
    fullest: int
    """How many characters the FIFO may hold without anything else happening."""


def apart(conditions: Conditions, service: Service, ahead: Ahead, most: int) -> Batch:
    """Work out services, each of which ends before the next character is complete.

    Parameters
    ----------
    conditions : Conditions
        What they depend on.
    service : Service
        The service, which rests; the FIFO is empty.
    ahead : Ahead
        The characters that come next.
    most : int
        How many services at most.
    """
    hardware, costs, draws, deaf, fullest = conditions
    busy, place = service.busy, ahead.number - ahead.first
    times = ahead.times[place : place + most * max(hardware.trigger, 2) + 1]
    is_end = ahead.is_all and place + len(times) == len(ahead.times)
    if costs.every:
        first, upto, begin = _looks(times, costs, draws, is_end=is_end)
        can_begin = len(begin) > 0 and begin[0] > service.looked_at and busy.until <= times[0]
        after = np.append(times, NEVER)[upto]
    else:
        first, upto, asked = _requests(times, hardware.trigger, costs.idle, is_end=is_end)
        can_begin = len(asked) > 0 and busy.until < asked[0]
        begin = asked + costs.latency + draws[(busy.services + np.arange(len(asked))) % len(draws)]
        begin = begin if deaf is None else deaf.all_after(begin)
        after = np.append(asked, NEVER)[1:]
    count = upto - first
    last = begin + costs.enter + costs.each * count
    end = last + costs.leave
    following = np.append(times, NEVER)[upto]
    is_apart = (count <= min(fullest, costs.most)) & (last < following) & (end < after)
    if not can_begin or not is_apart.all():
        services = int(is_apart.argmin()) if can_begin else 0
        first, upto, begin, end, count = (column[:services] for column in (first, upto, begin, end, count))
    begins, ends = begin.tolist(), end.tolist()
    entering, each = costs.enter + costs.each, costs.each
    number, size = ahead.number, int(count[0]) if len(count) else 1
    arrays = {"begin": begin, "end": end}
    if (count == size).all():
        stop = number + size * len(count)
        firsts, uptos = range(number, stop, size), range(number + size, stop + 1, size)
        fetched = range(size, size * len(count) + 1, size)
        return Batch(ahead, begins, ends, begins, firsts, fetched, uptos, entering, each, arrays=arrays)
    arrays |= {"first": first + number, "fetched": np.cumsum(count)}
    firsts, fetched, uptos = arrays["first"].tolist(), arrays["fetched"].tolist(), (upto + number).tolist()
    return Batch(ahead, begins, ends, begins, firsts, fetched, uptos, entering, each, arrays=arrays)


_Groups = tuple[Times, Times, Times]


def _requests(times: Times, trigger: int, idle: int, *, is_end: bool) -> _Groups:
    """Return the places of the first character of each request, and of the first behind it, and when it is made.

    It is made with so many characters, or when the line has been idle for long enough behind fewer. The last request
    is left out where other characters may follow.
    """
    place = np.arange(len(times))
    if idle < NEVER:
        run = np.zeros(len(times), dtype=np.int64)
        begins = np.flatnonzero(times[1:] - times[:-1] > idle) + 1
        run[begins] = begins
        place -= np.maximum.accumulate(run)
    first = np.flatnonzero(place % trigger == 0) if trigger > 1 else np.arange(len(times))
    upto = np.append(first[1:], len(times))
    is_full = upto - first == trigger
    known = len(first) if is_end and (idle < NEVER or is_full[-1:].all()) else max(len(first) - 1, 0)
    first, upto, is_full = first[:known], upto[:known], is_full[:known]
    return first, upto, times[upto - 1] + np.where(is_full, 0, idle)


def _looks(times: Times, costs: Costs, draws: Times, *, is_end: bool) -> _Groups:
    """Return the same for the looks of a polling loop, each the first at which a character is there."""
    number = np.maximum((times - costs.first) // costs.every, 0)
    number += costs.first + number * costs.every + draws[number % len(draws)] < times
    first = np.flatnonzero(np.diff(number, prepend=-1))
    upto = np.append(first[1:], len(times))
    known = len(first) if is_end else max(len(first) - 1, 0)
    number = number[first[:known]]
    return first[:known], upto[:known], costs.first + number * costs.every + draws[number % len(draws)]


def in_turn(conditions: Conditions, service: Service, ahead: Ahead, most: int) -> Batch:
    """Work out services that begin with an empty FIFO and leave it empty, one after another.

    Parameters
    ----------
    conditions, service, ahead, most
        As for `apart`.
    """
    hardware, costs, _, _, fullest = conditions
    next_begin = _starts(conditions, service, ahead)
    until, since, draw = service.busy.until, service.busy.since, service.busy.services
    size, each, entering, leave = hardware.size, costs.each, costs.enter + costs.each, costs.leave
    arrivals, near, shift = ahead.arrivals, ahead.beyond, ahead.first
    known, fullest = ahead.end - shift - (not ahead.is_all), min(fullest, costs.most)
    number, total = ahead.number - shift, 0
    begins: list[int] = []
    ends: list[int] = []
    sinces: list[int] = []
    firsts: list[int] = []
    fetched: list[int] = []
    uptos: list[int] = []
    lost: list[int] = []
    for place in range(most):
        begin = next_begin(number, until, draw + place)
        if begin >= NEVER:
            break
        at = begin + entering  # of the first fetch
        upto = bisect_right(arrivals, at, number, number + near)
        if upto == number + near:
            upto = bisect_right(arrivals, at, upto)
        count = upto - number
        if count > size:
            count = size
            at += (count - 1) * each
            if hardware.shift_waits or arrivals[upto] <= at:
                break
        elif each:
            while True:
                at = begin + entering + (count - 1) * each  # of the last
                upto = bisect_right(arrivals, at, upto, upto + near)
                if upto - number <= count:
                    break
                count = upto - number
        if count > fullest or upto > known:
            break
        if upto - number > count:
            lost.append(place)
        if begin > until:
            since = begin
        until = at + leave
        total += count
        begins.append(begin)
        ends.append(until)
        sinces.append(since)
        firsts.append(number + shift)
        fetched.append(total)
        number = upto
        uptos.append(number + shift)
    return Batch(ahead, begins, ends, sinces, firsts, fetched, uptos, entering, each, lost)


def _starts(conditions: Conditions, service: Service, ahead: Ahead) -> Callable[[int, int, int], int]:
    """Return what gives the begin of the next service, `NEVER` if it is not known.

    It is called with the place of the first character in the FIFO, when the service before ended, and how many there
    were.
    """
    costs, deaf, arrivals, known = conditions.costs, conditions.deaf, ahead.arrivals, ahead.end - ahead.first
    latency, jitter, draws, more = costs.latency, costs.jitter, len(costs.jitter), conditions.hardware.trigger - 1
    gaps, idle, looked_at = ahead.gaps(costs.idle), costs.idle, service.looked_at

    gap = 0

    def look(number: int, until: int, _: int) -> int:
        nonlocal looked_at
        if number >= known:
            return NEVER
        looked_at = costs.look_due(max(arrivals[number], until, looked_at + 1))
        return looked_at

    def ask(number: int, until: int, draw: int) -> int:
        nonlocal gap
        last = number + more
        if gaps and number < known:
            if gaps[gap] < number:
                gap = bisect_right(gaps, number - 1, gap)
            if gaps[gap] < last:
                last = gaps[gap]
        if last >= known:
            return NEVER
        at = arrivals[last] + idle if last < number + more else arrivals[last]
        begin = (at if at > until else until) + latency + jitter[draw % draws]
        return begin if deaf is None else deaf.after(begin)

    return look if costs.every else ask
