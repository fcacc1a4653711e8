import pytest
from hypothesis import given
from hypothesis import strategies as st
from rich.cells import cell_len

import larkreader as lr
from larkreader.present.text.dump import DumpForm, ring_rows
from larkreader.present.text.notation import cells_of


@given(st.data(), st.integers(1, 64))
def test_every_notation_names_the_same_value_with_as_many_digits_as_the_largest(data, bits):
    value = data.draw(st.integers(0, 2**bits - 1))
    found, largest = lr.notations(value, bits), lr.notations(2**bits - 1, bits)
    for digits, longest, base in (
        (found.hex, largest.hex, 16),
        (found.octal, largest.octal, 8),
        (found.binary, largest.binary, 2),
    ):
        assert int(digits, base) == value
        assert len(digits) == len(longest)
    assert int(found.decimal) == value


@pytest.mark.parametrize(
    ("value", "character", "name"),
    [
        (0x00, "␀", "NUL null"),
        (0x11, "␑", "DC1 device control one, XON"),
        (0x1B, "␛", "ESC escape"),
        (0x20, " ", "SP space"),
        (0x41, "A", ""),
        (0x7F, "␡", "DEL delete"),
        (0xE9, "·", ""),
    ],
)
def test_characters_have_a_picture_and_controls_the_names_of_the_standard(value, character, name):
    found = lr.notations(value)
    assert (found.character, found.name) == (character, name)


def test_a_value_that_does_not_fit_is_refused():
    with pytest.raises(lr.RequestError, match="value 256 does not fit into 8 bits"):
        lr.notations(256)


LETTERS = st.characters(exclude_categories=["C", "M", "Z"], exclude_characters="\ufffd")


@given(st.text(LETTERS), st.sampled_from(["utf-8", "utf-16-le", "shift-jis", "latin-1", "koi8-r"]))
def test_a_letter_stands_in_the_cell_of_its_first_byte(text, encoding):
    """What is read from the cells is the text, whatever the number of bytes a letter."""
    known = "".join(one for one in text if one.encode(encoding, "ignore").decode(encoding) == one)
    data = known.encode(encoding)
    cells = cells_of(data, encoding)
    assert len(cells) == len(data)
    places, here = [], 0
    for one in known:
        places.append(here)
        here += len(one.encode(encoding))
    assert [cells[place] for place in places if cells[place] != "·"] == [
        one for one, place in zip(known, places, strict=True) if cells[place] != "·"
    ]
    unseen = [one for one in known if one == "·" or not one.isprintable() or not cell_len(one)]
    assert sum(cells[place] == "·" for place in places) == len(unseen)


@given(st.binary())
def test_what_is_no_text_costs_no_letter(data):
    """Any bytes have a cell each; those of ASCII show what they show as ASCII."""
    cells = cells_of(data, "utf-8")
    assert len(cells) == len(data)
    plain = cells_of(data)
    assert all(cell == other for cell, other, one in zip(cells, plain, data, strict=True) if one < 0x80)


def test_an_unknown_encoding_is_told_with_the_nearest_one():
    with pytest.raises(lr.RequestError, match=r'encoding "uft-8" is not known\. Did you mean "utf-8"'):
        lr.present.visible(b"", encoding="uft-8")


@given(st.binary(min_size=1, max_size=60), st.integers(1, 24), st.data())
def test_a_ring_gives_back_the_last_of_what_was_written_into_it(stream, size, data):
    memory = bytearray(size)
    for place, one in enumerate(stream):
        memory[place % size] = one
    count = data.draw(st.integers(0, min(size, len(stream))))
    ring = lr.capture.RingMemory(bytes(memory), len(stream) % size, count)
    assert ring.unrolled() == stream[len(stream) - count :]


def test_the_memory_of_a_ring_shows_where_it_begins_ends_and_wraps():
    shown = list(ring_rows(lr.capture.RingMemory(b"w 12.5\nflo", 7), DumpForm()))
    assert shown[0].endswith("the next is written at 7. The oldest is at 7, the newest at 6; they wrap.")
    assert shown[2].endswith("   77 20 31 32 2E 35 0A|66 6C 6F")
    shown = list(ring_rows(lr.capture.RingMemory(b"w 12.5\nflo", 0, 4), DumpForm()))
    assert shown[2].endswith(" 2E 35[0A 66 6C 6F]")
    shown = list(ring_rows(lr.capture.RingMemory(b"w 12.5\nflo", 7, 0), DumpForm()))
    assert not any(mark in shown[2] for mark in "[]|")


@pytest.mark.parametrize(
    ("arguments", "message"),
    [
        ((b"", 0), "ring buffer has no memory"),
        ((b"abc", 3), "write index is 3. It must be 0 to 2"),
        ((b"abc", 1, 4), "count is 4. It must be 0 to 3"),
    ],
)
def test_a_ring_that_cannot_be_is_refused(arguments, message):
    with pytest.raises(lr.RequestError, match=message):
        lr.capture.RingMemory(*arguments)
