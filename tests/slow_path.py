"""A receive path played event by event from a heap, as slowly and as literally as its rules are written down.

A handler is not played as a whole: each character that it fetches is an event of its own. A polling loop, a periodic
application and a read that ends with nothing are events, every single one.
"""

import heapq
from collections import deque

import numpy as np

SIGNAL, WANT, ARRIVE, IDLE, SERVICE, LOOK, ARM, APPLICATION, BEGIN = range(9)  # at one moment, in this order


class SlowPath:
    """One run of characters; `until` is when to give up."""

    def __init__(self, path, wanted, values, *, complete, length, signal=0, paused=False, until):
        self.path, self.service, self.pause = path, path.service, path.pause if paused else None
        self.complete, self.length, self.signal_time, self.until = complete, length, signal, until
        self.values = values
        self.heap, self.turn = [], 0
        n = len(wanted)
        self.begin, self.fetched, self.stored, self.taken = ([None] * n for _ in range(4))
        self.fate = ["LEFT"] * n
        self.queue, self.line_free, self.told_to_pause, self.credit = deque(), 0, False, 0
        self.fifo, self.shift, self.block, self.ring = deque(), None, deque(), deque()
        self.kind = self.service.kind
        self.armed, self.filled, self.ended = self.kind == "dma", 0, False
        self.serving = self.reading = self.pending = self.again = self.full_stop = False
        self.services = self.idle_token = 0
        self.look_done_at = None
        self.asked_pause, self.last_arrival, self.busy_until = False, None, -1
        self.reads, self.empty_ends = [], []
        self.call_begin, self.got, self.deadline_token = None, [], 0
        self.looked_at, self.look_waits = None, False
        jitter = ns(getattr(self.service, "jitter_s", 0))
        self.draws = np.random.default_rng(path.seed).integers(0, jitter, 1 << 16, endpoint=True) if jitter else [0]
        for number, at in enumerate(wanted):
            self.at(at, WANT, self.want, number)
        if self.kind == "polling":
            self.at(self.look_due(0), LOOK, self.look, 0)
        application = path.application
        if application is not None:
            self.at(ns(application.first_s), APPLICATION, self.act_first)

    def look_due(self, k):
        return ns(self.service.first_s) + k * ns(self.service.every_s) + int(self.draws[k % len(self.draws)])

    def at(self, time, order, what, *arguments):
        self.turn += 1
        heapq.heappush(self.heap, (time, order, self.turn, what, arguments))

    def run(self):
        while self.heap and self.heap[0][0] <= self.until:
            self.now, _, _, what, arguments = heapq.heappop(self.heap)
            what(*arguments)
        return self

    # the sender
    def want(self, number):
        if self.pause and self.pause.sender_holds is not None and len(self.queue) >= self.pause.sender_holds:
            self.fate[number] = "HELD_BACK"
        else:
            self.queue.append(number)
            self.at(self.now, BEGIN, self.try_begin)

    def try_begin(self):
        if not self.queue or self.line_free > self.now or (self.told_to_pause and not self.credit):
            return
        number = self.queue.popleft()
        if self.told_to_pause:
            self.credit -= 1
        self.begin[number], self.line_free = self.now, self.now + self.length
        self.at(self.now + self.complete, ARRIVE, self.arrive, number)
        self.at(self.line_free, BEGIN, self.try_begin)

    def see(self, pause):
        self.told_to_pause, self.credit = pause, self.pause.reaction_characters
        self.at(self.now, BEGIN, self.try_begin)

    def tell(self, pause):
        if self.asked_pause != pause:
            self.asked_pause = pause
            self.at(self.now + self.signal_time + ns(self.pause.delay_s), SIGNAL, self.see, pause)

    def watch(self, what, level):
        if self.pause and self.pause.watches == what and level >= self.pause.at:
            self.tell(True)

    def watch_fall(self, what, level):
        if self.pause and self.pause.watches == what and self.asked_pause and level <= self.pause.resume_at:
            self.tell(False)

    # the hardware
    def arrive(self, number):
        self.last_arrival = self.now
        if self.armed:
            self.into_block(number)
            return
        if self.shift is not None:
            self.fate[self.shift], self.shift = "OVERRUN", None
        if len(self.fifo) < self.path.fifo.size:
            self.fifo.append(number)
            self.watch("fifo", len(self.fifo))
        elif self.path.fifo.shift_waits:
            self.shift = number
        else:
            self.fate[number] = "OVERRUN"
        if self.kind in ("interrupt", "software") and not self.reading:
            self.request_if_due(self.now)

    def request_if_due(self, since):
        if len(self.fifo) >= self.path.fifo.trigger:
            self.ask()
        elif self.fifo and self.kind == "interrupt" and self.path.fifo.idle_characters is not None:
            self.start_idle(since + round(self.path.fifo.idle_characters * self.length))

    def start_idle(self, time):
        self.idle_token += 1
        self.at(max(time, self.now), IDLE, self.idle, self.idle_token)

    def idle(self, token):
        if token != self.idle_token:
            return
        if self.kind == "dma":
            if self.block:
                self.ended = self.ended or not self.service.circular
                self.ask()
        elif self.fifo and not self.reading and not self.pending:
            self.ask()

    def into_block(self, number):
        service = self.service
        self.fetched[number] = self.now
        if len(self.block) == service.block:
            for lost in self.block:
                self.fate[lost] = "BLOCK"
            self.block.clear()
        self.block.append(number)
        self.filled += 1
        if self.filled == service.block:
            self.filled = 0
            if not service.circular:
                self.armed, self.ended = False, True
            if "full" in service.notices:
                self.ask()
        elif "half" in service.notices and self.filled == service.block // 2:
            self.ask()
        if "idle" in service.notices:
            self.start_idle(self.now + round(service.idle_characters * self.length))

    # the service
    def deaf_end(self, time, everything=False):
        """Find the first moment with service by trying the end of each stretch again and again."""
        moved = True
        while moved:
            moved = False
            for one in self.path.deaf:
                if everything and one.stops != "everything":
                    continue
                first, long, every = ns(one.first_s), ns(one.for_s), ns(one.every_s or 0)
                start = first
                while every and start + every <= time:
                    start += every
                if start <= time < start + long:
                    time, moved = start + long, True
        return time

    def ask(self):
        if self.reading:
            self.again = True
        elif not self.pending and not self.full_stop:
            self.pending = True
            latency = ns(getattr(self.service, "latency_s", 0)) + int(self.draws[self.services % len(self.draws)])
            self.at(self.deaf_end(max(self.now, self.busy_until) + latency), SERVICE, self.start)

    def look(self, k):
        self.at(self.look_due(k + 1), LOOK, self.look, k + 1)
        if self.now >= self.busy_until:
            self.at(self.deaf_end(self.now), LOOK, self.do_look)

    def do_look(self):
        if self.fifo and self.now >= self.busy_until and not self.full_stop and self.look_done_at != self.now:
            self.look_done_at = self.now
            self.start()

    def start(self):
        self.pending, self.serving, self.reading, self.done = False, True, True, 0
        self.busy_until = 1 << 61
        if self.kind != "dma":
            self.idle_token += 1
        self.services += 1
        self.at(self.now + ns(getattr(self.service, "enter_s", 0)), SERVICE, self.entered)

    def entered(self):
        self.has_ended = self.kind == "dma" and self.ended
        if self.has_ended:
            self.armed = False
        self.quota = len(self.block) if self.kind == "dma" else getattr(self.service, "most", 0) or 1 << 60
        self.next_or_leave()

    def next_or_leave(self):
        source = self.block if self.kind == "dma" else self.fifo
        ring = self.path.ring
        if source and self.done < self.quota:
            self.full_stop = ring is not None and ring.full == "stop" and len(self.ring) == ring.capacity
            if not self.full_stop:
                self.at(self.now + ns(getattr(self.service, "each_s", 0)), SERVICE, self.fetch)
                return
        self.reading = False
        leave = ns(getattr(self.service, "leave_s", 0))
        self.busy_until = self.now + leave
        if self.kind != "dma" and not self.full_stop and self.kind != "polling" and self.fifo:
            if len(self.fifo) < self.path.fifo.trigger and self.path.fifo.idle_characters is not None:
                self.request_if_due(max(self.last_arrival, self.now))
            elif len(self.fifo) >= self.path.fifo.trigger:
                self.ask()
        self.at(self.busy_until, SERVICE, self.leave)
        if self.kind == "dma" and self.again and not (self.has_ended and not self.full_stop):
            self.ask()
        self.again = False

    def fetch(self):
        self.done += 1
        if self.kind == "dma":
            if not self.block:  # written over in the meantime
                self.next_or_leave()
                return
            number = self.block.popleft()
        else:
            number = self.fifo.popleft()
            self.fetched[number] = self.now
            self.let_waiting_in()
            self.watch_fall("fifo", len(self.fifo))
        self.store(number)
        self.next_or_leave()

    def let_waiting_in(self):
        if self.shift is not None:
            after = self.shift + 1
            has_begun = after < len(self.begin) and self.begin[after] is not None
            begins_now = self.queue and self.line_free <= self.now
            if not has_begun and not begins_now:
                self.fifo.append(self.shift)
                self.shift = None

    def leave(self):
        self.serving = False
        if self.kind == "dma" and self.has_ended and not self.full_stop:
            self.ended = False
            self.at(self.now + ns(self.service.gap_s), ARM, self.arm)
        if self.path.application is not None:
            self.at(self.now, APPLICATION, self.wake)

    def arm(self):
        self.armed, self.filled = True, 0
        while self.armed and self.fifo:
            self.into_block(self.fifo.popleft())
            self.let_waiting_in()
        self.watch_fall("fifo", len(self.fifo))

    def store(self, number):
        ring = self.path.ring
        self.stored[number] = self.now
        if ring is None:
            self.taken[number], self.fate[number] = self.now, "TAKEN"
            return
        if len(self.ring) == ring.capacity and ring.full != "wrap":
            if ring.full == "drop-new":
                self.stored[number], self.fate[number] = None, "DROPPED"
                return
            self.fate[self.ring.popleft()] = "OVERWRITTEN"
        self.ring.append(number)
        if ring.full == "wrap" and len(self.ring) == ring.size:
            for lost in self.ring:
                self.fate[lost] = "OVERWRITTEN"
            self.ring.clear()
        self.watch("ring", len(self.ring))

    # the application
    def blocked_until(self):
        return max(self.busy_until, self.deaf_end(self.now, everything=True))

    def act_first(self):
        if self.path.application.kind == "blocking":
            self.call()
        else:
            self.look_application(0)

    def look_application(self, k):
        declared = self.path.application
        if k >= 0:
            due = ns(declared.first_s) + (k + 1) * ns(declared.every_s)
            self.at(due, APPLICATION, self.look_application, k + 1)
            if self.look_waits or self.looked_at == self.now:
                return
        if self.serving or self.blocked_until() > self.now:
            self.look_waits = True
            self.at(
                max(self.now + 1, self.blocked_until()) if not self.serving else self.now + 1,
                APPLICATION,
                self.look_application,
                -1,
            )
            return
        self.look_waits, self.looked_at = False, self.now
        if declared.kind == "lines":
            self.take_lines(declared)
        else:
            self.take(len(self.ring) if not declared.most else min(declared.most, len(self.ring)))
        self.after_taking()

    def take(self, count, kept=None):
        if not count:
            return
        first = self.ring[0]
        for place in range(count):
            number = self.ring.popleft()
            self.taken[number] = self.now
            self.fate[number] = "TAKEN" if kept is None or place < kept else "DISCARDED"
        self.reads.append((self.now, self.now, first, count if kept is None else min(kept, count), False))

    def take_lines(self, declared):
        mark = bytes.fromhex(declared.terminator)
        while True:
            held = bytes(self.values[number] for number in self.ring)
            place = held.find(mark)
            whole = place + len(mark) if place >= 0 else 0
            if whole and (whole <= declared.room or declared.rest == "dropped"):
                self.take(whole, kept=declared.room)
            elif declared.rest == "given" and len(held) >= declared.room:
                self.take(declared.room)
            else:
                return

    def after_taking(self):
        self.watch_fall("ring", len(self.ring))
        if self.full_stop and len(self.ring) < self.path.ring.capacity:
            self.full_stop = False
            if self.kind != "polling" and (self.fifo or self.block):
                self.ask()

    def call(self):
        if self.serving or self.blocked_until() > self.now:
            self.at(self.now + 1, APPLICATION, self.call)
            return
        declared = self.path.application
        self.call_begin, self.got = self.now, []
        self.deadline = None if declared.limit_s is None else self.now + ns(declared.limit_s)
        if self.deadline is not None:
            self.at(self.deadline, APPLICATION, self.read_on)
        self.read_on()

    def wake(self):
        if self.path.application.kind == "blocking" and self.call_begin is not None:
            self.read_on()

    def read_on(self):
        if self.call_begin is None:
            return
        if self.serving or self.blocked_until() > self.now:
            self.at(self.now + 1, APPLICATION, self.read_on)
            return
        declared = self.path.application
        late = self.deadline is not None and self.now >= self.deadline
        if not declared.whole or late or len(self.ring) >= declared.length:
            while self.ring and len(self.got) < declared.length:
                self.got.append(self.ring.popleft())
                self.taken[self.got[-1]] = self.now
        if len(self.got) == declared.length or late:
            kept = declared.partial == "given" or len(self.got) == declared.length
            for number in self.got:
                self.fate[number] = "TAKEN" if kept else "DISCARDED"
            if self.got:
                short = len(self.got) < declared.length
                self.reads.append((self.call_begin, self.now, self.got[0], len(self.got) if kept else 0, short))
            else:
                self.empty_ends.append(self.now)
            self.call_begin = None
            self.at(self.now + ns(declared.busy_s), APPLICATION, self.call)
        self.after_taking()


def ns(seconds):
    return round(seconds * 1e9)
