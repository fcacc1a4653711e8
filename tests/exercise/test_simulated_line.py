"""The simulated line: noise against theory, receive paths against replays, two ends, and a clock of its own."""

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from strategies import examples, receive_paths

import larkreader as lr
from larkreader.exercise.devices.stand_ins import STAND_INS
from larkreader.exercise.line.channel import Channel, error_ratio_of
from larkreader.simulate.live_path import LivePath

LINE = lr.LineSettings.parse("57600 8N1")
NS = 1e-9


def poisson_bounds(expected):
    """Between what a count lies in all but one case of a million: five standard deviations, and a little for few."""
    return expected - 5 * expected**0.5, expected + 5 * expected**0.5 + 3


def echo(data):
    return data


def one_by_one(characters=1200, **impairments):
    """Loop back single characters with a rest behind each, so that no error spoils the next."""
    port = lr.SimulatedPort(LINE, echo, impairments=lr.Impairments(**impairments))
    plan = lr.LoopbackPlan(characters=characters, pattern="random", block=1, pause_s=0.002, limit_s=0.002)
    return lr.run_loopback(port, plan)


def test_characters_fail_as_often_as_the_theory_of_the_channel_says():
    """A character arrives as it was if neither its start bit nor one of eight data bits is turned over, there or back."""
    result = one_by_one(bit_error_ratio=5e-3)
    low, high = poisson_bounds((1 - (1 - 5e-3) ** 18) * result.sent)
    assert low <= result.lost + result.changed <= high


@pytest.mark.parametrize("ratio", [1e-3, 2e-2])
def test_one_way_loses_and_changes_what_the_theory_of_the_channel_says(ratio):
    """The same one way with 200,000 characters at a time; a stop bit that is turned over is a framing error."""
    count = 200_000
    values = np.random.default_rng(1).integers(0, 256, count)
    begins_s = np.arange(count) * 3 * LINE.character_time_s
    got = Channel(LINE, LINE, lr.Impairments(bit_error_ratio=ratio)).carry(values, begins_s)
    places = np.rint(got.begin_s / (3 * LINE.character_time_s)).astype(int)
    whole = np.count_nonzero((got.value == values[places]) & (np.abs(got.begin_s - begins_s[places]) < 1e-8))
    low, high = poisson_bounds((1 - (1 - ratio) ** 9) * count)
    assert low <= count - whole <= high
    low, high = poisson_bounds(ratio * count)
    assert low <= np.count_nonzero(got.faults & lr.Fault.FRAMING) <= 2 * high  # a false start gives some more


def test_noise_told_in_decibels_is_the_error_ratio_of_gaussian_noise():
    """At 9.6 dB it is 1e-5 by the textbook curve of antipodal signalling (Eb/N0 of 9.6 dB is an SNR of 12.6 dB)."""
    assert error_ratio_of(lr.Impairments(signal_to_noise_db=9.6 + 10 * math.log10(2))) == pytest.approx(1e-5, rel=0.05)
    ratio = 0.5 * math.erfc(math.sqrt(10**0.8 / 2))
    result = one_by_one(signal_to_noise_db=8.0)
    low, high = poisson_bounds((1 - (1 - ratio) ** 18) * result.sent)
    assert low <= result.lost + result.changed <= high


def test_the_interval_told_for_the_error_ratio_holds_the_true_one():
    """Of 40 runs whose data bits alone can be wrong, 95 % should hold it; fewer than 33 would be one case in 10,000."""
    held = 0
    for seed in range(40):
        random = np.random.default_rng(seed)

        def flip(data, random=random):
            bits = np.unpackbits(np.frombuffer(data, np.uint8))
            return np.packbits(bits ^ (random.random(len(bits)) < 1e-3)).tobytes()

        plan = lr.LoopbackPlan(characters=3000, pattern="prbs-15")
        low, high = lr.run_loopback(lr.SimulatedPort(LINE, flip), plan).error_interval
        held += low <= 1e-3 <= high
    assert held >= 33


def test_jitter_and_spikes_do_harm_only_when_they_are_large_enough():
    """A jitter of 2 % of a bit, at most 6, never reaches the middle of a bit; one of 30 % does."""
    bit = LINE.bit_time_s
    assert one_by_one(characters=500, jitter_s=0.02 * bit).verdict == "pass"
    assert one_by_one(characters=500, jitter_s=0.3 * bit).verdict == "fail"
    assert one_by_one(characters=500, spikes_per_s=200, spike_s=0.9 * bit).verdict == "fail"


@pytest.mark.parametrize(("near", "far", "verdict"), [(0, 0, "pass"), (30_000, 0, "pass"), (30_000, -30_000, "fail")])
def test_the_clocks_of_both_ends_count(near, far, verdict):
    """8N1 stands half a bit in 9.5, 5.3 %, between the two."""
    port = lr.SimulatedPort(LINE, echo, impairments=lr.Impairments(near_ppm=near, far_ppm=far))
    assert lr.run_loopback(port, lr.LoopbackPlan(characters=512)).verdict == verdict


def test_dropped_and_doubled_characters_are_told_apart():
    port = lr.SimulatedPort(LINE, echo, impairments=lr.Impairments(drop_ratio=0.002, double_ratio=0.003, seed=4))
    result = lr.run_loopback(port, lr.LoopbackPlan(characters=20_000, pattern="prbs-15"))
    low, high = poisson_bounds(2 * 0.002 * 20_000)
    assert low <= result.lost <= high
    low, high = poisson_bounds(2 * 0.003 * 20_000)
    assert low <= result.extra <= high
    assert (result.doubled, result.changed) == (result.extra, 0)


def test_a_delay_is_seen_in_the_latency_both_ways():
    """One character takes two character times, and the delay twice."""
    port = lr.SimulatedPort(LINE, echo, impairments=lr.Impairments(delay_s=0.004))
    result = lr.run_loopback(port, lr.LoopbackPlan(characters=20, block=1))
    assert result.latency_s.shortest == pytest.approx(2 * LINE.character_time_s + 0.008, abs=1e-6)


def test_nine_data_bits_go_there_and_back():
    line = lr.LineSettings.parse("57600 9E1")
    result = lr.run_loopback(
        lr.SimulatedPort(line, echo), lr.LoopbackPlan(characters=2000, data_bits=9, pattern="random")
    )
    assert (result.verdict, result.received, result.compared) == ("pass", 2000, 18_000)
    changed = lr.run_loopback(
        lr.SimulatedPort(line, lambda data: data[:20] + b"\x01" + data[21:]),
        lr.LoopbackPlan(characters=2000, data_bits=9),
    )
    assert (changed.changed, changed.difference.offset) == (2, 10)  # once a block


@examples(3)
@given(receive_paths(), st.lists(st.sampled_from([0, 0, 0, 3, 30, 300]), min_size=1, max_size=30), st.data())
def test_a_path_fed_bit_by_bit_does_what_a_replay_of_the_whole_does(path, gaps, data):
    """However the characters come, and whenever somebody looks, each has the fate and the time that it has in a replay."""
    line = lr.LineSettings(baud=1e9, format="8N1", flow_control=data.draw(st.sampled_from(["none", "rts-cts"])))
    begins = np.cumsum(np.array(gaps) + 10).tolist()
    values = data.draw(st.lists(st.integers(0, 1), min_size=len(gaps), max_size=len(gaps)))
    characters = lr.Characters(
        np.array(begins) * NS,
        (np.array(begins) + 10) * NS,
        np.array(values, np.uint16),
        np.zeros(len(gaps), np.uint8),
        np.empty(0),
    )
    if path.service.kind == "software":
        with pytest.raises(lr.RequestError, match="hardware receiver"):
            LivePath(path, line)
        return
    found = lr.replay(characters, path, line)
    live, given, now = LivePath(path, line), [], 0
    while begins:
        count = data.draw(st.integers(1, 6))
        until = begins[count] if count < len(begins) else begins[-1] + 10
        live.feed(begins[:count], values[:count], begins[0])
        del begins[:count], values[:count]
        while (some := live.advance(until)) is not None:
            given.append(some)
        now = until
    while (some := live.advance(now + 100_000)) is not None:
        given.append(some)
    fates = live.fates
    taken = np.flatnonzero(found.fate == lr.simulate.Fate.TAKEN)
    assert b"".join(part for _, part in given) == bytes(found.value[taken].tolist())
    if path.ring is not None:
        ends = np.repeat(found.reads.end_s, found.reads.count)
        assert [at for at, part in given for _ in part] == np.rint(ends * 1e9).astype(int).tolist()
    wanted = {fate.name.lower().replace("_", "-"): found.count(fate) for fate in lr.simulate.Fate if found.count(fate)}
    open_ends = ("left", "held-back")  # what a sender still holds back when nobody looks any more may yet be sent
    assert {k: n for k, n in fates.items() if k not in open_ends} == {
        k: n for k, n in wanted.items() if k not in open_ends
    }
    assert fates.get("held-back", 0) <= wanted.get("held-back", 0)


def small_ring(**more):
    """Make a far end whose ring of 128 is emptied every 50 ms, in which 288 characters come at 57600 8N1."""
    return lr.ReceivePath(ring={"size": 128}, application={"kind": "periodic", "every_s": 0.05}, **more)


def test_a_ring_at_the_far_end_loses_what_its_replay_says():
    port = lr.SimulatedPort(LINE, echo, receive_path=small_ring())
    port.write(bytes(range(256)) * 8)
    assert port.read(2048, 1.0).data
    found = lr.replay(lr.simulate.make_burst(2048, LINE), small_ring(), LINE)
    assert port.path_fates() == {
        "taken": found.count(lr.simulate.Fate.TAKEN),
        "dropped": found.count(lr.simulate.Fate.DROPPED),
    }
    assert found.count(lr.simulate.Fate.DROPPED) > 1000


@pytest.mark.parametrize(("flow", "most"), [("rts-cts", 96), ("xon-xoff", 97)])
def test_flow_control_at_the_far_end_holds_the_sender_back(flow, most):
    line = lr.LineSettings.parse(f"57600 8N1 {flow}")
    path = small_ring(pause={"at": 96, "resume_at": 32, "reaction_characters": 2})
    port = lr.SimulatedPort(line, echo, receive_path=path)
    result = lr.run_loopback(port, lr.LoopbackPlan(characters=5000, pattern="prbs-9"))
    assert (result.verdict, port.path_fates()) == ("pass", {"taken": 5000})
    assert result.line_share < 0.5  # a hundred characters every 50 ms
    dead = small_ring(pause={"at": 96, "resume_at": 32}).model_copy(
        update={"application": lr.declare.PeriodicApplication(every_s=1e5, first_s=1e5)}
    )
    with pytest.raises(lr.PortError, match=rf"took {most} of 500 bytes within .* held back by flow control"):
        lr.SimulatedPort(line, echo, receive_path=dead).write(bytes(500), 1.0)


def test_a_send_path_at_the_far_end_cuts_answers_off():
    """A call that waits 1 ms hands on what goes out in that time, and what register and shift register hold."""
    path = lr.SendPath(call={"kind": "blocking", "limit_s": 1e-3})
    port = lr.SimulatedPort(LINE, lambda data: bytes(100) if data else b"", send_path=path)
    port.write(b"?")
    found = lr.simulate.replay_send([LINE.character_time_s], [100], path, LINE)
    assert len(port.read(100, 1.0).data) == found.count_of(lr.simulate.SendFate.SENT) < 10


def test_two_ends_talk_both_ways_at_once_at_the_full_rate():
    first, second = lr.exercise.simulated_pair(LINE)
    for result in lr.run_both_ways(first, second, lr.LoopbackPlan(characters=20_000, pattern="prbs-15")):
        assert result.verdict == "pass"
        assert result.line_share > 0.99


def test_an_end_that_echoes_what_it_sends_itself_does_not_pass_for_the_other():
    ends = [lr.SimulatedPort(LINE, echo) for _ in range(2)]
    for pattern in ("counting", "random", "lines", "prbs-7", "alternating"):
        one, other = lr.run_both_ways(*ends, lr.LoopbackPlan(characters=600, pattern=pattern))
        assert (one.verdict, other.verdict) == ("fail", "fail")


def test_a_device_that_talks_is_heard_in_time_of_its_own():
    port = lr.open_port("stand-in:talking-pump", lr.LineSettings.parse("38400 7E1"))
    count = 0
    while port.now_s() < 600:
        count += port.read_some(1 << 16, 60.0).data.count(b"\n")
    assert count == pytest.approx(6000, abs=2)


def test_a_device_that_talks_has_a_receive_path_too(rig):
    """A pump head with a data register that is looked at every 150 µs, and reads of ten, takes set-points while it talks."""
    path, layouts = rig.sheet.receive["to_pump"], rig.sheet.frame
    port = lr.SimulatedPort(rig.sheet.line, STAND_INS["pump"](), receive_path=path)
    step = lr.Exchange(
        send_frame="setpoint", values={"flow": 42.5}, expect_frame="status", where={"flow": [42, 43]}, within_s=0.1
    )
    lone = port.read(48, 1.0).data
    assert lr.run_dialogue(port, [step], layouts).verdict == "pass"
    assert len(lr.read_frames(lone, layouts["status"])) == 3
    assert port.path_fates() == {"taken": layouts["setpoint"].longest}
