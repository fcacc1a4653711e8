"""What interrupts and polling loops fetch from a FIFO, many services at once.

A batch asks for what characters make of the hardware alone: it begins with an empty FIFO, each of its services empties
it, and how full the ring is or when the application acts changes nothing. Where a service does more than that, the
batch ends before it.

`apart` works out services that end before the next character is complete, with a few operations on arrays. `in_turn`
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
        What they depend on; nothing may be deaf.
    service : Service
        The service, which rests; the FIFO is empty.
    ahead : Ahead
        The characters that come next.
    most : int
        How many services at most.
    """
    size, costs, busy, first = conditions.hardware.trigger, conditions.costs, service.busy, ahead.number
    count = min(most, (ahead.end - first - (not ahead.is_all)) // size)
    none = Batch(ahead, (), (), (), (), (), ())
    if count < 1 or costs.every or costs.most < size or conditions.deaf is not None:
        return none
    place = first - ahead.first
    known = ahead.times[place : place + count * size + 1]
    if busy.until >= known[size - 1] or size > conditions.fullest:
        return none
    arrivals = known[: count * size].reshape(count, size)
    draws = conditions.draws[(busy.services + np.arange(count)) % len(conditions.draws)]
    begin = arrivals[:, -1] + costs.latency + draws
    last = begin + (costs.enter + costs.each * size)
    end = last + costs.leave
    following = known[size::size]
    requests = np.append(arrivals[1:, -1], NEVER)
    is_apart = np.ones(count, dtype=np.bool_)
    is_apart[: len(following)] = last[: len(following)] < following
    is_apart &= end < requests
    if size > 1 and costs.idle < NEVER:
        is_apart &= (np.diff(arrivals, axis=1) <= costs.idle).all(axis=1)
    if not is_apart.all():
        count = int(is_apart.argmin())
    begins = begin[:count].tolist()
    stop = first + count * size
    return Batch(
        ahead,
        begin=begins,
        end=end[:count].tolist(),
        since=begins,
        first=range(first, stop, size),
        fetched=range(size, count * size + 1, size),
        upto=range(first + size, stop + 1, size),
        entering=costs.enter + costs.each,
        each=costs.each,
        arrays={"begin": begin[:count], "end": end[:count]},
    )


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
