import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import larkreader as lr
from larkreader.capture.files import vcd_blocks

HAND_WRITTEN = """$date today $end $version by hand $end
$comment the level of tx is #5 in words: b1 ! $end
$timescale 10 us $end
$scope module rig $end
 $var wire 1 ! tx $end
 $var wire 1 b! rx $end
 $scope module inner $end
  $var reg 8 # bus [7:0] $end
  $var real 64 r level $end
  $var wire 1 ! copy $end
  $var wire 1 ? spare [3] $end
 $upscope $end
$upscope $end
$enddefinitions $end
#0 $dumpvars x! 1b! b10100101 # r1.25 r 0? $end
#3
1!
#5 0! b1 # $comment 1! #6 nothing here counts $end
#7 r-2e3 r
1! 0b!
#9 z!
#11
0! 1! 0!
#12
bx1 #
#20
"""


@pytest.fixture
def by_hand(tmp_path):
    path = tmp_path / "hand.vcd"
    path.write_text(HAND_WRITTEN)
    return path


def test_scopes_aliases_vectors_reals_and_unknown_levels(by_hand):
    """Levels x and z keep the level and are told; several changes at one time are the last; words in comments are none."""
    trace = lr.open_trace(by_hand, "rig.tx")
    assert trace.tick_s == pytest.approx(1e-5)
    assert (trace.first_level, trace.edges.tolist(), trace.end) == (1, [5, 7, 11], 20)
    assert trace.unknown.tolist() == [[0, 3], [9, 11]]
    assert lr.open_trace(by_hand, "copy").edges.tolist() == [5, 7, 11]
    rx = lr.open_trace(by_hand, "rx")
    assert (rx.first_level, rx.edges.tolist(), rx.unknown.tolist()) == (1, [7], [])


@pytest.mark.parametrize(
    ("signal", "first_level", "edges"),
    [("bus[0]", 1, []), ("bus[2]", 1, [5]), ("rig.inner.bus[7]", 1, [5]), ("bus[1]", 0, []), ("spare[3]", 0, [])],
)
def test_a_bit_of_a_vector_is_a_wire(by_hand, signal, first_level, edges):
    """10100101, then 1 extended by zeros, then x1 extended by x."""
    trace = lr.open_trace(by_hand, signal)
    assert (trace.first_level, trace.edges.tolist()) == (first_level, edges)
    assert (len(trace.unknown) > 0) == (signal.endswith(("[2]", "[7]", "[1]")))


@given(
    st.lists(st.lists(st.integers(1, 300), max_size=60), min_size=1, max_size=3),
    st.sampled_from([0, 5, 99_999_990, 1_234_567_890_123]),
    st.sampled_from([32, 100, 1 << 19]),
    st.integers(0, 1),
)
def test_what_is_written_reads_back_in_pieces_of_any_size(tmp_path_factory, steps, begin, block, first_level):
    path = tmp_path_factory.mktemp("vcd") / "some.vcd"
    traces = {}
    for number, one in enumerate(steps):
        edges = begin + np.cumsum(np.array(one, np.int64)) * (number + 1)
        traces[f"top.w{number}"] = lr.Trace(
            edges, 1e-9, first_level, begin=begin, end=begin + 10**6, name=f"top.w{number}"
        )
    lr.write_vcd(path, traces, comment="made up")
    usual = vcd_blocks.BLOCK
    vcd_blocks.BLOCK = block
    try:
        read = lr.open_capture(path, {name: name for name in traces})
    finally:
        vcd_blocks.BLOCK = usual
    for name, trace in traces.items():
        assert np.array_equal(read[name].edges, trace.edges)
        assert (read[name].first_level, read[name].begin, read[name].end) == (first_level, begin, begin + 10**6)


def test_blocks_of_plain_changes_and_of_anything_give_the_same(tmp_path, rig):
    """The quick way for times and scalars alone agrees with the general one, which a vector forces on each block."""
    path, mixed = tmp_path / "plain.vcd", tmp_path / "mixed.vcd"
    lr.write_vcd(path, rig.traces)
    text = path.read_text()
    head, _, body = text.partition("$enddefinitions $end\n")
    lines = [line + ("\nb101 V" if line.startswith("#") else "") for line in body.splitlines()]
    mixed.write_text(head + "$var wire 3 V bus $end\n$enddefinitions $end\n" + "\n".join(lines) + "\n")
    for name in rig.traces:
        plain, general = lr.open_trace(path, name), lr.open_trace(mixed, name)
        assert np.array_equal(plain.edges, rig.traces[name].edges)
        assert np.array_equal(general.edges, plain.edges)
        assert (general.end is None, plain.end) == (True, rig.traces[name].end)


@pytest.mark.parametrize(
    ("change", "message"),
    [
        (("#7", "#4"), "goes back in time"),
        (("#11", "#1x1"), '"#1x1", which is not a time|"#1x1" is not a time'),
        (("#11", "#99999999999999999999"), "which is not a time|is not a time"),
        (("1! 0b!", "quack"), 'byte .* "quack" is neither a time nor a change'),
        (("1! 0b!", "1"), 'byte .* "1" is neither a time nor a change'),
        (("10 us", "3 us"), r'\$timescale is "3 us". It must be 1, 10 or 100 of s to fs'),
        (("$enddefinitions $end", ""), "its declarations have no \\$enddefinitions"),
        (("1 ! tx", "one ! tx"), r'\$var is "wire one ! tx"'),
    ],
)
def test_a_damaged_file_is_told_and_not_guessed_at(tmp_path, change, message):
    path = tmp_path / "hurt.vcd"
    assert change[0] in HAND_WRITTEN
    path.write_text(HAND_WRITTEN.replace(*change))
    with pytest.raises(lr.CaptureError, match=message):
        lr.open_trace(path, "rig.tx")


@pytest.mark.parametrize(
    ("signal", "message"),
    [
        ("rig.tk", 'is not in the file. Did you mean "rig.tx"?'),
        ("bus", 'is a vector of 8 bits. Name one bit of it, as in "bus[0]".'),
        ("bus[8]", "has no bit 8. It has bits 7 to 0."),
        ("level", "is a real, which has no logic level."),
    ],
)
def test_a_signal_that_cannot_be_had_is_told(by_hand, signal, message):
    with pytest.raises(lr.CaptureError) as caught:
        lr.open_trace(by_hand, signal)
    assert str(caught.value).endswith(f'signal "{signal}" {message}')


def test_ticks_that_a_vcd_has_not_are_rounded_and_a_time_before_0_is_refused(tmp_path):
    """Ticks of 3 ns and of 1 us in one file: 1 ps; of 250 ns: 1 ns."""
    traces = {"a": lr.Trace(np.array([1, 7]), 3e-9), "b": lr.Trace(np.array([2]), 1e-6)}
    lr.write_vcd(tmp_path / "a.vcd", traces)
    read = lr.open_capture(tmp_path / "a.vcd", {"a": "a", "b": "b"})
    assert (read["a"].tick_s, read["a"].edges.tolist(), read["b"].edges.tolist()) == (1e-12, [3000, 21000], [2_000_000])
    lr.write_vcd(tmp_path / "b.vcd", {"a": lr.Trace(np.array([3]), 2.5e-7)})
    assert lr.open_trace(tmp_path / "b.vcd", "a").edges.tolist() == [750]
    with pytest.raises(lr.CaptureError, match="begins at tick -5"):
        lr.write_vcd(tmp_path / "c.vcd", {"a": lr.Trace(np.array([-4]), 1e-9)})


@pytest.mark.parametrize("ending", ["#1234\n1!\n#5", "b01", "1", "#2000\n$en", "#1999\n1!\n#2000\n0"])
def test_a_file_that_ends_anywhere_is_read_to_there(tmp_path, ending):
    """A torn time that would lie before its predecessor, a value without its code, half a keyword."""
    path = tmp_path / "torn.vcd"
    path.write_text("$timescale 1 ns $end\n$var wire 1 !a tx $end\n$var wire 1 ! rx $end\n$enddefinitions $end\n"
                    "#0\n1!a\n1!\n#1000\n0!a\n0!\n" + ending)  # fmt: skip
    read = lr.open_capture(path, {"tx": "tx", "rx": "rx"})
    assert read["tx"].edges.tolist() == [1000]
    assert read["tx"].truncated.startswith("it ends within")
