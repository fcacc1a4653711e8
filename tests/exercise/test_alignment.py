"""What was lost, changed, doubled or added, against an exact comparison and against what was injected."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from reference import slow_differences
from strategies import examples

import larkreader as lr
from larkreader.exercise.loopback import alignment


@st.composite
def damaged(draw):
    """Characters of few or many values, and the same with a few of them lost, changed, added or doubled."""
    values = draw(st.sampled_from([2, 3, 256]))
    sent = draw(st.lists(st.integers(0, values - 1), max_size=60))
    received = list(sent)
    for _ in range(draw(st.integers(0, 10))):
        place = draw(st.integers(0, max(len(received) - 1, 0)))
        kind = draw(st.sampled_from(["lose", "change", "add", "double"]))
        if kind == "add" or not received:
            received.insert(place, draw(st.integers(0, values - 1)))
        elif kind == "lose":
            del received[place : place + draw(st.integers(1, 4))]
        elif kind == "change":
            received[place] = draw(st.integers(0, values - 1))
        else:
            received[place:place] = received[place : place + draw(st.integers(1, 4))]
    return bytes(sent), bytes(received)


def assert_it_leads_there(found, sent, received):
    """Check that what was sent, with these differences, is what was received."""
    lost, extra = set(found.lost_at.tolist()), set(found.extra_at.tolist())
    changed = dict(found.changed_at.tolist())
    here = there = 0
    while here < len(sent) or there < len(received):
        if here in lost:
            here += 1
        elif there in extra:
            there += 1
        else:
            assert (sent[here] != received[there]) == (here in changed)
            assert changed.get(here, there) == there
            here, there = here + 1, there + 1


@examples(7)
@given(damaged())
def test_the_differences_are_the_fewest_and_lead_from_one_to_the_other(pair):
    sent, received = pair
    found = lr.exercise.align(sent, received)
    assert (found.lost, found.changed, found.extra) == slow_differences(sent, received)
    assert_it_leads_there(found, sent, received)
    assert len(sent) - found.lost + found.extra == len(received)
    assert (found.first is None) == (sent == received)


@examples(4)
@given(damaged(), st.integers(0, 2))
def test_longer_stretches_have_the_fewest_differences_too(pair, repeats):
    """Where not all ways are tried, the kinds may be others, but there are no more of them."""
    sent, received = pair[0] * (repeats + 1), pair[1] + pair[0] * repeats
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(alignment, "SMALL", 0)
        found = lr.exercise.align(sent, received)
    assert found.lost + found.changed + found.extra == sum(slow_differences(sent, received))
    assert_it_leads_there(found, sent, received)


PATTERNS = {
    "random": lambda n: np.random.default_rng(3).integers(0, 256, n),
    "counting": lambda n: np.arange(n) % 256,
    "prbs": lambda n: lr.exercise.prbs_values(15, n, 8),
    "lines": lambda n: np.frombuffer(b"".join(b"line %06d\n" % one for one in range(n // 12 + 1)), np.uint8)[:n],
    "nine bits": lambda n: np.random.default_rng(4).integers(0, 512, n),
}


@pytest.mark.parametrize("pattern", PATTERNS)
def test_hundreds_of_injected_faults_in_a_megabyte_are_reported_exactly(pattern):
    sent = PATTERNS[pattern](1_000_000).astype(np.uint16)
    random = np.random.default_rng(8)
    places = np.arange(500, len(sent) - 1500, 2000)
    places += random.integers(0, 1000, len(places))
    kinds = random.integers(0, 4, len(places))
    times, received = np.ones(len(sent), int), sent.copy()
    for place, kind in zip(places, kinds, strict=True):
        if kind == 0:  # three in a row
            times[place : place + 3] = 0
        elif kind == 1:
            received[place] ^= 0x40
        else:
            times[place] = 2
    found = lr.exercise.align(sent, np.repeat(received, times))
    counts = [int((kinds == kind).sum()) for kind in range(4)]
    assert (found.lost, found.changed, found.extra) == (3 * counts[0], counts[1], counts[2] + counts[3])
    assert found.doubled == found.extra
    if pattern in ("random", "nine bits"):  # in others what was lost can be a neighbour as well
        assert found.changed_at[:, 0].tolist() == places[kinds == 1].tolist()


def test_long_gaps_and_stretches_that_come_twice_are_bridged():
    sent = np.random.default_rng(3).integers(0, 256, 500_000).astype(np.uint8)
    received = np.concatenate([sent[:1000], sent[6000:300_000], sent[290_000:]])
    found = lr.exercise.align(sent.tobytes(), received.tobytes())
    assert (found.lost, found.changed, found.extra, found.doubled) == (5000, 0, 10_000, 10_000)


def test_single_characters_that_a_full_buffer_let_through_are_not_taken_for_changed_ones():
    sent = np.random.default_rng(3).integers(0, 256, 100_000).astype(np.uint8)
    kept = np.random.default_rng(4).random(len(sent)) < np.resize(np.repeat([1.0, 0.1], 900), len(sent))
    found = lr.exercise.align(sent.tobytes(), sent[kept].tobytes())
    assert (found.lost, found.changed, found.extra) == (int((~kept).sum()), 0, 0)


def test_what_has_nothing_to_do_with_what_was_sent_counts_as_changed():
    one, two = (np.random.default_rng(seed).integers(0, 256, 100_000).astype(np.uint8).tobytes() for seed in (1, 2))
    found = lr.exercise.align(one, two)
    assert found.changed > 99_000
    assert found.lost == found.extra
