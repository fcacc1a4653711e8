"""What a receive path makes of characters, against paper and against a slow reference."""

import hypothesis.strategies as st
import numpy as np
from hypothesis import given, settings
from slow_path import SlowPath

import larkreader as lr
from larkreader.judge.receive_replay import ReceiveRun
from larkreader.judge.senders import MISSING, NEVER, FreeSender, PausedSender

NS = 1e-9


@st.composite
def paths(draw):
    """Paths of every kind, with times of a few nanoseconds so that everything collides with everything."""
    small = st.integers(0, 12).map(lambda number: number * NS)
    some = st.integers(1, 90).map(lambda number: number * NS)
    costs = {"jitter_s": draw(small), "enter_s": draw(small), "each_s": draw(small), "leave_s": draw(small)}
    size = draw(st.integers(1, 6))
    fifo = {
        "size": size,
        "trigger": draw(st.integers(1, size)),
        "idle_characters": draw(st.sampled_from([None, 0.5, 2.0])),
    }
    kind = draw(st.sampled_from(["interrupt", "polling", "dma", "software"]))
    if kind == "interrupt":
        service = costs | {"latency_s": draw(some), "most": draw(st.sampled_from([0, 0, 1, 2]))}
    elif kind == "polling":
        every = draw(st.integers(13, 90))
        service = costs | {"every_s": every * NS, "first_s": draw(small), "most": draw(st.sampled_from([0, 0, 1, 2]))}
    elif kind == "dma":
        circular = draw(st.booleans())
        notices = draw(st.sampled_from([["full"], ["half", "full"], ["half", "full", "idle"], ["full", "idle"]]))
        service = costs | {
            "block": draw(st.integers(1, 7)),
            "notices": notices,
            "circular": circular,
            "latency_s": draw(small),
        }
        service |= {} if circular else {"gap_s": draw(some)}
    else:
        service, fifo = {}, {}
    ring = application = None
    if draw(st.integers(0, 4)):
        ring = {
            "size": draw(st.integers(2, 12)),
            "full": draw(st.sampled_from(["drop-new", "overwrite-oldest", "wrap", "stop"])),
        }
        which = draw(st.sampled_from(["periodic", "lines", "blocking"]))
        if which == "blocking":
            application = {"length": draw(st.integers(1, 6)), "limit_s": draw(st.none() | some), "busy_s": draw(small)}
            application |= {"partial": draw(st.sampled_from(["given", "dropped"])), "whole": draw(st.booleans())}
        else:
            application = {"every_s": draw(st.integers(5, 200)) * NS, "first_s": draw(small)}
        if which == "periodic":
            application["most"] = draw(st.integers(0, 3))
        if which == "lines":
            application |= {"terminator": draw(st.sampled_from(["00", "01 00"])), "buffer": draw(st.integers(2, 6))}
            application |= {"rest": draw(st.sampled_from(["given", "dropped"]))}
        application["kind"] = which
    deaf = []
    for _ in range(draw(st.integers(0, 2))):
        one = {
            "for_s": draw(st.integers(1, 60)) * NS,
            "first_s": draw(some),
            "stops": draw(st.sampled_from(["service", "everything"])),
        }
        deaf.append(one | ({"every_s": draw(st.integers(130, 400)) * NS} if draw(st.booleans()) else {}))
    pause = None
    watches = draw(st.sampled_from(["ring", "fifo"]))
    if draw(st.booleans()) and (watches == "fifo" or (ring is not None and ring["full"] != "wrap")):
        at = draw(st.integers(1, ring["size"] if watches == "ring" else fifo.get("size", 1)))
        pause = {"at": at, "resume_at": draw(st.integers(0, at - 1)), "watches": watches, "delay_s": draw(small)}
        pause |= {"reaction_characters": draw(st.integers(0, 3)), "sender_holds": draw(st.sampled_from([None, 1, 4]))}
    elif kind != "software":
        fifo["shift_waits"] = draw(st.booleans())
    return lr.ReceivePath(
        fifo=fifo,
        service=service | {"kind": kind},
        ring=ring,
        application=application,
        deaf=deaf,
        pause=pause,
        seed=draw(st.integers(0, 5)),
    )


@settings(max_examples=400, deadline=None)
@given(path=paths(), gaps=st.lists(st.sampled_from([0, 0, 0, 1, 7, 30, 200]), max_size=40), data=st.data())
def test_a_replay_is_exactly_what_a_slow_one_finds_event_by_event(path, gaps, data):
    length, complete, signal = 10, 9, data.draw(st.sampled_from([0, 10]))
    paused = path.pause is not None
    steps = np.array(gaps, dtype=np.int64) + (0 if paused and data.draw(st.booleans()) else length)
    wanted = np.cumsum(steps).tolist()
    values = data.draw(st.lists(st.integers(0, 1), min_size=len(gaps), max_size=len(gaps)))
    if paused:
        holds = NEVER if path.pause.sender_holds is None else path.pause.sender_holds
        sender = PausedSender(wanted, complete, length, reaction=path.pause.reaction_characters, holds=holds)
    else:
        sender = FreeSender(wanted, complete)
    run = ReceiveRun(path, sender, values, float(length), signal)
    run.run()
    slow = SlowPath(
        path, wanted, values, complete=complete, length=length, signal=signal, paused=paused, until=run.last_at + 3000
    ).run()

    def times(found):
        return [None if at == MISSING else at for at in found]

    for number in sender.refused:
        run.fate[number] = lr.Fate.HELD_BACK
    slow_fates = ["HELD_BACK" if slow.begin[n] is None else slow.fate[n] for n in range(len(wanted))]
    assert times(sender.begin) == slow.begin
    assert [lr.Fate(fate).name for fate in run.fate] == slow_fates
    assert times(run.fetched) == slow.fetched
    assert times(run.stored) == slow.stored
    assert times(run.taken) == slow.taken
    assert run.services == slow.services
    if run.application is not None:
        assert run.application.told.rows == slow.reads
        assert run.application.told.unfinished == len(slow.got if slow.call_begin is not None else [])
