"""C from the sheet: compiled, and compared with the codec and the reader that it repeats."""

import random
import shutil
import tempfile
from pathlib import Path

import numpy as np
import pytest
from emitted import Emitted, events_of, expected_members, tokens_of
from hypothesis import Phase, given, settings
from hypothesis import strategies as st
from strategies import BOUNDARIES, examples, layouts, values_of, varying_layouts, varying_values
from streams import SPECIAL, arrived, sent

import larkreader as lr

needs_compiler = pytest.mark.skipif(shutil.which("gcc") is None, reason="there is no C compiler")
STREAMS = 20  # for each wire: to compile it takes longer than to run all of them
FAMILIES = [*BOUNDARIES, "fixed marker", "fixed"]


@st.composite
def judged(draw, layout):
    """Give some fields what is judged of them: names, a range, values that mean nothing, a scale, a fixed value."""
    fields = [entry.model_dump(exclude_defaults=True, by_alias=True) for entry in layout.fields]
    deciding = {"n", "k", "size"}
    for field in fields:
        if field.get("name", "crc") in (*deciding, "crc") or field["type"].rstrip("0123456789") not in ("uint", "int"):
            continue
        bits = int(field["type"].lstrip("uint"))
        some = st.integers(0, min((1 << bits - 1) - 1, 200))
        what = draw(st.sampled_from(["nothing", "nothing", "range", "scaled", "names", "invalid", "equals"]))
        if what == "range":
            field["range"] = (-draw(some) - 1, draw(some))
        elif what == "scaled":
            field |= {"scale": draw(st.sampled_from([0.1, -0.25, 3])), "offset": draw(st.sampled_from([0, -2.5]))}
            field["range"] = (-draw(some) - 1, draw(some))
        elif what == "names":
            field["names"] = {f"name{value}": value for value in draw(st.sets(some, min_size=1, max_size=3))}
        elif what == "invalid":
            field |= {"invalid": (draw(some),), "range": (0, 3)}
        elif what == "equals":
            field["equals"] = draw(some)
    return lr.FrameLayout(
        boundary=layout.boundary, packing=layout.packing, fields=fields, checksum=layout.checksum
    )


@st.composite
def wires(draw):
    """Make the layouts of one wire: of any kind of boundary, sometimes several."""
    family = draw(st.sampled_from(FAMILIES))
    if family in BOUNDARIES:
        first = draw(varying_layouts(family))
    else:
        first = draw(layouts())
        if family == "fixed":
            first = lr.FrameLayout(
                boundary={"kind": "fixed"}, packing=first.packing, fields=first.fields, checksum=first.checksum
            )
    first = draw(judged(first))
    several = [first]
    for number in range(draw(st.sampled_from([0, 0, 1, 2])) if family != "fixed" else 0):
        other = draw(varying_layouts(family) if family in BOUNDARIES else layouts())
        boundary = first.boundary
        if boundary.is_marked and draw(st.booleans()):
            boundary = boundary.model_copy(update={"marker": draw(st.sampled_from(["A5", "A5 A5", "00", "5A"]))})
        fields = [*other.fields]
        fields.insert(draw(st.sampled_from([0, 0, len(fields)])), {"name": "kind", "type": "uint8", "equals": number})
        try:
            several.append(
                lr.FrameLayout(boundary=boundary, packing=other.packing, fields=fields, checksum=other.checksum)
            )
        except ValueError:  # its fields do not fit behind that boundary
            continue
    return [layout.model_copy(update={"key": f"x{place}"}) for place, layout in enumerate(several)]


def frames_of(draw, layout, family_values):
    found = []
    for _ in range(draw(st.integers(1, 3))):
        values = draw(family_values(layout))
        fixed = {name for name, slot in layout.slot.items() if slot.field.equals is not None}
        try:
            found.append(layout.encode({name: value for name, value in values.items() if name not in fixed}))
        except lr.RequestError:
            continue
    return found


def values_for(layout):
    return varying_values if "n" in layout.slot and "k" in layout.slot else values_of


def a_stream(rng, pieces):
    """Mix frames, damage them, and put sound ones inside and across others; as bytes, or with faults of characters."""
    layout = pieces[0][0]
    rows = []
    for _ in range(rng.randrange(1, 5)):
        layout, frames = rng.choice(pieces)
        rows += sent(layout, rng.sample(frames, len(frames)))
    for _ in range(rng.choice([0, 0, 1, 2])):
        layout, frames = rng.choice(pieces)
        place, inner = rng.randrange(len(rows) + 1), sent(layout, frames[:1])
        rows[place : place + len(inner)] = inner
    for _ in range(rng.choice([0, 1, 2, 4])):
        place, what = rng.randrange(len(rows) + 1), rng.choice(["change", "lose", "insert", "cut", "odd", "marker"])
        if what == "change" and place < len(rows):
            rows[place] = (rng.randrange(256), *rows[place][1:])
        elif what == "lose":
            del rows[place : place + rng.randrange(1, 6)]
        elif what == "insert":
            rows[place:place] = [(rng.randrange(256), False, False, False) for _ in range(rng.randrange(1, 5))]
        elif what == "cut":
            del rows[rng.randrange(max(place, 1)) if rng.random() < 0.5 else place :]
        elif what == "odd":
            rows[place:place] = [(rng.choice(SPECIAL), *(rng.random() < 0.5 for _ in range(3)))]
        else:
            ends = layout.marker[: rng.randrange(1, 4)] + layout.end_marker * rng.randrange(5)
            rows[place:place] = [(byte, False, False, False) for byte in ends]
    return with_faults(rng, arrived(layout, rows))


def with_faults(rng, stream):
    """Make some characters faulty, as a receiver flags them."""
    if rng.random() < 0.5:
        return stream
    if isinstance(stream, bytes):
        begin_s = np.arange(len(stream), dtype=float)
        values, faults = np.frombuffer(stream, np.uint8).astype(np.uint16), np.zeros(len(stream), np.uint8)
        stream = lr.Characters(begin_s, begin_s + 1, values, faults, np.empty(0))
    faults = stream.faults.copy()
    for _ in range(rng.randrange(4) if len(faults) else 0):
        place = rng.randrange(len(faults))
        faults[place] = faults[place] or int(lr.Fault.PARITY)
    return lr.Characters(
        stream.begin_s, stream.end_s, stream.value, faults, np.empty(0), address_mark=stream.address_mark
    )


def compare(draw, some, folder, streams=STREAMS, **built):
    """Compile the layouts of some wires, and compare everything that is emitted for them."""
    emitted = Emitted(some, folder, **built)
    rng = random.Random(draw(st.integers(0, 1 << 32)))
    for number, named in enumerate(emitted.wires):
        pieces = [(layout, frames_of(draw, layout, values_for(layout))) for layout in named]
        base = sum(len(layouts) for layouts in emitted.wires[:number])
        for layout, frames in pieces:
            for frame in frames:
                check_frame(emitted, layout, frame)
        for _ in range(streams):
            check_stream(emitted, number, base, a_stream(rng, pieces))
    emitted.run()


def check_stream(emitted, number, base, stream):
    named = emitted.wires[number]
    wanted, skipped = events_of(stream, named)

    def check(events, counters):
        assert [rebased(event, base) for event in events] == wanted, (named, stream)
        assert counters[2:] == [skipped, 0]
        assert counters[0] + counters[1] == sum(event.startswith("F") for event in wanted)

    emitted.ask_parse(number, tokens_of(stream, named), check)


def rebased(event, base):
    """Return an event with the number of its layout counted within its wire."""
    if event.startswith("S"):
        return event
    head, offset, taken, which, *rest = event.split(":")
    return ":".join([head, offset, taken, str(int(which) - base), *rest])


def check_frame(emitted, layout, frame):
    def check(faults, packed, members):
        assert members == expected_members(layout, frame), (layout, frame.hex())
        assert packed == frame, (layout, frame.hex())

    emitted.ask_unpack(layout.key, frame, check)


@needs_compiler
@settings(max_examples=max(settings.default.max_examples // 3, 4), phases=[Phase.explicit, Phase.reuse, Phase.generate])  # to shrink, every attempt would be compiled
@given(data=st.data())
def test_emitted_c_reads_and_writes_as_the_sheet_is_read(data):
    """Pack equals encode, unpack equals decode, and the parser gives the same frames, faults and skipped bytes."""
    some = [data.draw(wires()) for _ in range(6)]
    ways = {"checksums": data.draw(st.sampled_from(["table", "bits"]))}
    ways["values"] = data.draw(st.sampled_from([None, "float", "double"]))
    with tempfile.TemporaryDirectory() as folder:
        compare(data.draw, some, Path(folder), **ways)
