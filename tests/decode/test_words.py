"""Samples of many characters at once, against looking each of them up."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from larkreader.decode.chain import follow_chain
from larkreader.decode.characters.words import sample_words


def slow_words(edges, at, row):
    words = []
    for number in at:
        passed = np.searchsorted(edges, edges[number] + row, side="right") - number
        words.append(sum(int(turned & 1) << place for place, turned in enumerate(passed)))
    return words


@pytest.mark.parametrize("bit", [3, 16, 255, 1000, 17361])
@pytest.mark.parametrize("pause", [0, 40, 1 << 33])
@given(seed=st.integers(0, 2**32 - 1), first=st.integers(0, 1))
def test_the_samples_are_those_that_a_search_finds(bit, pause, seed, first):
    rng = np.random.default_rng(seed)
    near = rng.integers(-1, 2, 4000)  # changes at a sample, a tick before it and a tick behind it
    gaps = np.maximum(1, rng.integers(0, 4, 4000) * bit // 2 + near)
    gaps[rng.random(4000) < 0.01] += pause * bit
    edges = np.cumsum(gaps) - (1 << 40)
    row = (np.arange(11) * 2 + 1) * bit // 2
    at = np.sort(rng.choice((len(edges) - first) // 2, 300, replace=False)) * 2 + first
    assert sample_words(edges, at, row).tolist() == slow_words(edges, at, row)


def test_a_line_that_changes_all_the_time_is_sampled_too():
    edges = np.arange(100_000) * 7
    row = (np.arange(11) * 2 + 1) * 500
    at = np.arange(0, 90_000, 100)
    assert sample_words(edges, at, row).tolist() == slow_words(edges, at, row)


@pytest.mark.parametrize("steps", [[3, 2, 3, 2, 2], [5], [4, 1, 1, 1, 1, 1], [2, 3]])
def test_a_periodic_chain_is_that_of_the_walk(steps):
    many = np.tile(np.array(steps, np.uint8), 300_000 // len(steps))
    members, place = np.zeros(len(many), bool), 0
    for_each = many.tolist()
    while place < len(for_each):
        members[place] = True
        place += for_each[place]
    assert np.array_equal(follow_chain(many), members)
