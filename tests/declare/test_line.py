import pytest
from hypothesis import given
from hypothesis import strategies as st
from strategies import line_settings

import larkreader as lr


@pytest.mark.parametrize(
    ("text", "bits", "rate"),
    [
        ("9600 8N1", 10, 960.0),
        ("57600 8E1", 11, 57600 / 11),
        ("1200 7O2", 11, 1200 / 11),
        ("50 5N1.5", 7.5, 50 / 7.5),
        ("1000000 9S2", 13, 1e6 / 13),
    ],
)
def test_rates_follow_from_the_format(text, bits, rate):
    """Bits a character are the start bit, data bits, parity and stop bits; the rate is the baud over them."""
    line = lr.LineSettings.parse(text)
    assert line.bits_per_character == bits
    assert line.characters_per_second == pytest.approx(rate)
    assert line.character_time_s == pytest.approx(1 / rate)
    assert line.bit_time_s * line.baud == pytest.approx(1)


@given(line_settings())
def test_settings_written_out_read_back_the_same(line):
    assert lr.LineSettings.parse(str(line)) == line


@pytest.mark.parametrize(
    ("text", "places"),
    [
        ("57600", ["line"]),
        ("fast 8N1", ["line.baud"]),
        ("0 8N1", ["line.baud"]),
        ("nan 8N1", ["line.baud"]),
        ("9600 4N1", ["line.format"]),
        ("9600 8Z1", ["line.format"]),
        ("9600 8N3", ["line.format"]),
        ("-1 8N3 upside-down", ["line.baud", "line.format", "line"]),
    ],
)
def test_each_mistake_in_settings_is_placed(text, places):
    with pytest.raises(lr.SheetError) as caught:
        lr.LineSettings.parse(text)
    assert [mistake.where for mistake in caught.value.mistakes] == places


def test_settings_cannot_be_changed_afterwards():
    with pytest.raises(ValueError, match="frozen"):
        lr.LineSettings().baud = 9600


@given(st.sampled_from(["8e1", "8E1"]))
def test_the_parity_letter_may_be_small(text):
    assert lr.LineSettings(format=text).format == "8E1"
