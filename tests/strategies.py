"""What hypothesis makes for the tests."""

from hypothesis import strategies as st

import larkreader as lr


@st.composite
def line_settings(draw, most_data_bits=9):
    return lr.LineSettings(
        baud=draw(st.sampled_from([300, 9600, 57600, 115200, 1e6, 31250])),
        format=f"{draw(st.integers(5, most_data_bits))}{draw(st.sampled_from('NEOMS'))}{draw(st.sampled_from(['1', '1.5', '2']))}",
        idle=draw(st.sampled_from(["high", "low"])),
        first_bit=draw(st.sampled_from(["lsb", "msb"])),
    )


@st.composite
def layouts(draw):
    """Make a layout of random fields at random bit positions, filled up to whole bytes."""
    packing = draw(st.sampled_from(["lsb", "msb"]))
    with_checksum = draw(st.booleans())
    fields, bits = [], 0
    for number in range(draw(st.integers(1, 7))):
        kind = draw(st.sampled_from(["uint", "int", "flag", "reserved", "float", "bcd"]))
        width = draw(st.integers(2, 64))
        repeat = draw(st.sampled_from([1, 1, 1, 2, 3]))
        if kind == "reserved":
            fields.append({"reserved": width, "value": draw(st.integers(0, (1 << width) - 1))})
            bits += width
            continue
        if kind == "float":
            width = draw(st.sampled_from([16, 32, 64]))
        width = 1 if kind == "flag" else 4 * max(1, width // 4) if kind == "bcd" else width
        field = {"name": f"f{number}", "type": "flag" if kind == "flag" else f"{kind}{width}", "repeat": repeat}
        if bits % 8 == 0 and width % 8 == 0:
            words = ["big-low-word-first", "little-high-word-first"] if width in (32, 64) else []
            field["order"] = draw(st.sampled_from(["little", "big", *words]))
        if kind == "int":
            field["coding"] = draw(st.sampled_from(["twos-complement", "sign-magnitude", "offset-binary"]))
        fields.append(field)
        bits += width * repeat
    if bits % 8:
        fields.append({"reserved": 8 - bits % 8})
    extra = {}
    if with_checksum:
        fields.append({"name": "crc", "type": "checksum"})
        order = draw(st.sampled_from(["little", "big"]))
        extra["checksum"] = {"algorithm": draw(st.sampled_from(["CRC-16/MODBUS", "CRC-32/BZIP2"])), "order": order}
    boundary = {"kind": "marker", "marker": draw(st.binary(min_size=1, max_size=3)).hex()}
    return lr.FrameLayout(boundary=boundary, packing=packing, fields=fields, **extra)


@st.composite
def values_of(draw, layout):
    """Make values for all fields of a layout that hold some."""
    values = {}
    for name, slot in layout.slot.items():
        low, high = 0, 10 ** (slot.bits // 4) - 1 if slot.kind == "bcd" else (1 << slot.bits) - 1
        if slot.kind == "int":
            high = high // 2
            low = -high - (slot.coding != "sign-magnitude")
        if slot.kind == "checksum" or slot.field.equals is not None:
            continue
        one = st.integers(low, high)
        if slot.kind == "float":
            one = st.floats(width=slot.bits, allow_nan=False)
        if slot.field.is_scaled:
            one = one.map(lambda raw, field=slot.field: raw * field.scale + field.offset)
        items = draw(st.lists(one, min_size=slot.count, max_size=slot.count))
        values[name] = items[0] if slot.count == 1 else items
    return values


@st.composite
def damaged_streams(draw, layout):
    """Frames of a layout with junk between them, bytes changed, lost and inserted, markers in strange places."""
    stream = bytearray()
    for _ in range(draw(st.integers(0, 6))):
        if draw(st.booleans()):
            stream += draw(st.binary(max_size=5)) + layout.marker[: draw(st.integers(0, 3))]
        stream += layout.encode(draw(values_of(layout)))
    for _ in range(draw(st.integers(0, 4))):
        place = draw(st.integers(0, len(stream)))
        kind = draw(st.sampled_from(["change", "lose", "insert", "marker", "cut"]))
        if kind == "change" and place < len(stream):
            stream[place] ^= draw(st.integers(1, 255))
        elif kind == "lose":
            del stream[place : place + draw(st.integers(1, 5))]
        elif kind == "insert":
            stream[place:place] = draw(st.binary(min_size=1, max_size=4))
        elif kind == "marker":
            stream[place:place] = layout.marker
        else:
            del stream[place:]
    return bytes(stream)
