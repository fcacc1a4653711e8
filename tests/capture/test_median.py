"""The middle of some numbers, as NumPy has it."""

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from larkreader.capture.median import median_of


@given(st.lists(st.floats(width=64), min_size=1, max_size=40))
def test_the_median_is_that_of_numpy(numbers):
    values = np.array(numbers)
    with np.errstate(all="ignore"):
        np.testing.assert_equal(median_of(values), float(np.median(values)))
