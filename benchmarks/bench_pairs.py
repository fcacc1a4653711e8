"""Pairing a million requests with their replies, against the loop that a person would write over both lists."""

import time

import numpy as np

import larkreader as lr
from larkreader.decode.timeline import What

COUNT = 1_000_000
LINE = lr.LineSettings.parse("115200 8N1")


def make_timeline(rng):
    """Make requests every 10 ms, each answered after 1 to 5 ms, one in a hundred not at all."""
    asks = np.arange(COUNT) * 0.01
    answered = rng.random(COUNT) > 0.01
    replies = (asks + rng.uniform(0.001, 0.005, COUNT))[answered]
    begin_s = np.concatenate([asks, replies])
    wire = np.repeat([0, 1], [COUNT, len(replies)]).astype(np.uint8)
    order = np.argsort(begin_s, kind="stable")
    begin_s, wire = begin_s[order], wire[order]
    count = len(begin_s)
    zeros = np.zeros(count, np.int64)
    return lr.decode.Timeline(
        begin_s=begin_s,
        end_s=begin_s + 1e-4,
        wire=wire,
        what=np.full(count, What.MESSAGE, np.uint8),
        layout=np.full(count, -1, np.int16),
        row=zeros - 1,
        offset=zeros,
        length=zeros + 1,
        faults=zeros.astype(np.uint8),
        wires=("out", "back"),
    )


def by_hand(timeline):
    """Walk along: remember the last request, give it to the next reply."""
    open_at, taken = None, []
    for begin_s, end_s, wire in zip(timeline.begin_s, timeline.end_s, timeline.wire, strict=True):
        if wire == 0:
            open_at = end_s
        elif open_at is not None and begin_s >= open_at:
            taken.append(begin_s - open_at)
            open_at = None
    return taken


def main():
    timeline = make_timeline(np.random.default_rng(1))
    lines = {"out": LINE, "back": LINE}
    value = np.zeros(1, np.uint16)
    one = lr.Characters(np.zeros(1), np.zeros(1), value, np.zeros(1, np.uint8), np.empty(0))
    pairing = lr.declare.Pairing(key="talk", request="out", reply="back")
    begun = time.process_time()
    pairs = lr.judge.find_pairs(pairing, timeline, {}, {"out": one, "back": one}, lines)
    ours = time.process_time() - begun
    begun = time.process_time()
    taken = by_hand(timeline)
    plain = time.process_time() - begun
    begun = time.process_time()
    np.argsort(timeline.begin_s, kind="stable")
    best = time.process_time() - begun
    assert len(pairs.latencies_s) == len(taken)
    print(
        f"{COUNT:,} requests: {plain / ours:.1f} times as fast as the plain loop, {ours / best:.0f} sorts of the times"
    )


if __name__ == "__main__":
    main()
