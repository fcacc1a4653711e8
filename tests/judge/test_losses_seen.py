"""Characters that are missing from a capture: found by a pattern that counts up, and by what a driver counted."""

import numpy as np
import pytest

import larkreader as lr

SHEET = lr.parse_sheet('sheet = 1\n[line]\nbaud = 57600\nformat = "8E1"\n[wire.from_pump]')
LINE = SHEET.line


def found_in(what):
    return {one.kind: one for one in lr.read(SHEET, {"from_pump": what}).findings}


def counting(*, lost=(), changed=(), doubled=(), count=600):
    values = np.arange(count) % 256
    values[list(changed)] ^= 0x40
    values = np.repeat(values, [2 if place in doubled else 1 for place in range(count)])
    kept = np.ones(len(values), bool)
    for first, length in lost:
        kept[first : first + length] = False
    return values[kept].astype(np.uint8).tobytes()


def test_characters_missing_from_a_counting_pattern_are_located_and_sized():
    found = found_in(counting(lost=[(100, 17), (300, 1)]))
    assert (found["overflow"].count, found["overflow"].offset) == (2, 100)
    assert "18 characters are missing, 17 at the first place" in found["overflow"].text
    assert "a loss on the line is possible" in found["overflow"].text
    assert not found_in(counting())


def test_a_changed_character_is_not_a_lost_one_and_a_doubled_one_is_told():
    assert "overflow" not in found_in(counting(changed=[50, 200, 599]))
    found = found_in(counting(doubled=[70]))
    assert ("overflow" in found, found["counter-repeat"].offset) == (False, 71)


@pytest.mark.parametrize(
    ("fault", "kind", "shown"),
    [
        (lr.Fault.PARITY, "counter-gap", "lost on the line"),
        (0, "overflow", "The line shows no fault there: they never reached the wire"),
    ],
)
def test_what_the_line_lost_is_told_from_what_a_buffer_lost(fault, kind, shown):
    """Two characters are missing; the one behind them has a parity error, or nothing has."""
    data = counting(lost=[(100, 2)])
    faults = np.zeros(len(data), int)
    faults[100] = fault
    found = found_in(lr.transmit(data, LINE, faults=faults))
    assert shown in found[kind].text
    assert len({"counter-gap", "overflow", "overrun"} & set(found)) == 1


def test_what_a_driver_counted_comes_with_a_recording_and_says_who_lost_it(tmp_path):
    r"""Eight groups of 64 characters; with the third the driver had counted two overruns, and two characters lack."""
    data = counting(lost=[(140, 2)], count=514)
    began = '{"recording": 1, "began": "2026-05-01T08:30:00Z", "wires": {"from_pump": {}}}'
    rows = [
        f'{{"s": {group / 10}, "wire": "from_pump", "hex": "{data[64 * group : 64 * group + 64].hex(" ")}"'
        + (', "counted": {"overrun": 2}' if group == 2 else "") + "}"
        for group in range(8)
    ]  # fmt: skip
    path = tmp_path / "day.jsonl"
    path.write_text("\n".join([began, *rows]) + "\n")
    characters = lr.read(SHEET, path).characters["from_pump"]
    assert characters.counted == ((128, "overrun", 2),)
    found = [one for one in lr.read(SHEET, path).findings if one.kind in ("overrun", "overflow", "counter-gap")]
    assert [(one.kind, one.count, one.offset) for one in found] == [("overrun", 2, 128), ("overrun", 1, 140)]
    assert "driver of the receiving port counted them" in found[0].text
    assert "2 characters are missing" in found[1].text
    again = tmp_path / "again.jsonl"
    from larkreader.capture.files.recording import write_recording

    write_recording(again, {"from_pump": characters})
    assert lr.read(SHEET, again).characters["from_pump"].counted == characters.counted
    path.write_text("\n".join([began, rows[2].replace("overrun", "flow"), rows[3]]) + "\n")
    with pytest.raises(lr.CaptureError, match="line 2"):
        lr.read(SHEET, path)
