"""What hypothesis makes for the tests."""

from hypothesis import settings
from hypothesis import strategies as st

import larkreader as lr

NS = 1e-9


def examples(share):
    """Make the settings of a property that tries a share of the examples that others try."""
    return settings(max_examples=max(round(share * settings.default.max_examples), 4))


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


BOUNDARIES = {
    "marker": [{"kind": "marker", "marker": marker, "longest": 300} for marker in ("A5", "00", "01 02")],
    "end marker": [{"kind": "marker", "marker": "A5", "end": end, "longest": 300} for end in ("5A", "A5", "0D 0A")],
    "length": [
        {"kind": "length-field", "field": "size", "counts": counts, "offset": offset, "longest": 300, **marker}
        for counts, offset in (("all", 0), ("rest", -1), ("payload", 3))
        for marker in ({"marker": "A5"}, {})
    ],
    "idle": [{"kind": "idle", "characters": 2.0}],
    "terminator": [{"kind": "terminator", "terminator": one} for one in ("\r\n", ("\r", "\n", "\r\n"), "\0")],
    "break": [{"kind": "break"}],
    "address": [{"kind": "address-mark"}],
    "cobs": [{"kind": "cobs"}],
    "escaped": [
        {"kind": "slip"},
        {"kind": "hdlc"},
        {"kind": "escape", "begin": "02", "end": "03", "escape": "10", "xor": 0x20},
        {"kind": "escape", "begin": "10 02", "end": "10 03", "escape": "10"},
    ],
}
REPEATS = {"n": lambda n, k: n, "n / 2": lambda n, k: n // 2, "n - 1": lambda n, k: n - 1, "k + 1": lambda n, k: k + 1}


@st.composite
def varying_layouts(draw, family):
    """Make a layout with a boundary of some family, whose frames may have arrays, groups, texts and fields at times."""
    boundary = dict(draw(st.sampled_from(BOUNDARIES[family])))
    fields = [{"name": "n", "type": draw(st.sampled_from(["uint8", "uint4", "uint16", "bcd8"]))}]
    fields.append({"name": "k", "type": "uint4" if fields[0]["type"] == "uint4" else "uint8"})
    if family == "length":
        fields.insert(0, {"name": "size", "type": "uint16"})
    for number in range(draw(st.integers(0, 4))):
        name, what = f"f{number}", draw(st.sampled_from(["array", "packed", "when", "group", "plain", "text"]))
        if what == "group":
            members = [
                {"name": "a", "type": "uint4"},
                {"name": "b", "type": "int12", "repeat": 2},
                {"name": "c", "type": "uint24"},
            ]
            fields.append({"group": name, "repeat": draw(st.sampled_from(["k + 1", 2])), "fields": members})
            continue
        types, extra = {
            "array": (["uint8", "int16", "float32", "uint24"], {"repeat": draw(st.sampled_from(list(REPEATS)))}),
            "packed": (["uint12", "flag", "int5", "bcd12"], {"repeat": "n"}),
            "when": (["uint8", "float64"], {"when": {"k": draw(st.sampled_from([0, 1, (0, 1), (2, 3)]))}}),
            "plain": (["uint8", "int32"], {"order": "big"}),
            "text": (["text"], {"repeat": "n"}),
        }[what]
        fields.append({"name": name, "type": draw(st.sampled_from(types)), **extra})
    if family != "marker" and draw(st.booleans()):
        kind = draw(st.sampled_from(["uint8", "bytes", "int16", "uint12", "text"]))
        fields.append({"name": "rest", "type": kind, "repeat": "rest"})
    extra = {"packing": draw(st.sampled_from(["lsb", "msb"]))}
    if draw(st.booleans()):
        fields.append({"name": "crc", "type": "checksum"})
        algorithm = draw(st.sampled_from(["CRC-16/MODBUS", "CRC-32/BZIP2", "fletcher-16", "sum-16-twos"]))
        extra["checksum"] = {"algorithm": algorithm, "order": draw(st.sampled_from(["little", "big"]))}
    layout = lr.FrameLayout(boundary=boundary, fields=fields, **extra)
    if family in ("end marker", "idle", "terminator", "cobs", "escaped", "break") and draw(st.booleans()):
        boundary["longest"] = max(layout.shortest, draw(st.integers(1, 12)))
    return lr.FrameLayout(boundary=boundary, fields=fields, **extra)


@st.composite
def varying_values(draw, layout):
    """Make values for all fields of such a layout, as many of each as its frame then has."""
    n, k = draw(st.sampled_from([2, 4, 6])), draw(st.integers(0, 3))
    values = {"n": n, "k": k}

    def items(field, count):
        kind, bits = field.kind, field.bits
        one = st.integers(0, (1 << bits) - 1) if kind in ("uint", "flag", "bytes") else st.integers(-(1 << bits - 1), 0)
        one = st.floats(width=bits, allow_nan=False) if kind == "float" else one
        one = st.integers(0, 10 ** (bits // 4) - 1) if kind == "bcd" else one
        one = st.sampled_from("abcXYZ") if kind == "text" else one
        some = [draw(one) for _ in range(count)]
        return "".join(some) if kind == "text" else some

    for entry in layout.fields:
        name = getattr(entry, "name", None) or entry.group
        repeat = entry.repeat
        if name in ("n", "k", "size", "crc"):
            continue
        count = draw(st.integers(0, 9)) if repeat == "rest" else REPEATS[repeat](n, k) if repeat in REPEATS else repeat
        if not hasattr(entry, "group"):
            if not entry.when or k in entry.when["k"]:
                values[name] = items(entry, count) if repeat != 1 else items(entry, 1)[0]
            continue
        turns = [{member.name: items(member, member.repeat) for member in entry.fields} for _ in range(count)]
        for turn in turns:
            turn |= {member: held[0] for member, held in turn.items() if len(held) == 1}
        values[name] = turns
    return values


@st.composite
def receive_paths(draw):
    """Paths of every kind, with times of a few nanoseconds so that everything collides with everything."""
    small = st.integers(0, 12).map(lambda number: number * NS)
    some = st.integers(1, 90).map(lambda number: number * NS)
    costs = {"jitter_s": draw(small), "enter_s": draw(small), "each_s": draw(small), "leave_s": draw(small)}
    size = draw(st.one_of(st.integers(1, 3), st.integers(1, 12)))
    fifo = {
        "size": size,
        "trigger": draw(st.integers(1, size)),
        "idle_characters": draw(st.sampled_from([None, 0.5, 2.0])),
    }
    kind = draw(st.sampled_from(["interrupt", "polling", "dma", "software"]))
    if kind == "interrupt":
        service = costs | {"latency_s": draw(st.one_of(st.just(NS), some)), "most": draw(st.sampled_from([0, 0, 1, 2]))}
    elif kind == "polling":
        every = draw(st.integers(13, 90))
        service = costs | {"every_s": every * NS, "first_s": draw(small), "most": draw(st.sampled_from([0, 0, 1, 2]))}
    elif kind == "dma":
        circular = draw(st.booleans())
        notices = draw(st.sampled_from([["full"], ["half", "full"], ["half", "full", "idle"], ["full", "idle"]]))
        service = costs | {
            "block": draw(st.one_of(st.integers(1, 7), st.integers(8, 20))),
            "notices": notices,
            "circular": circular,
            "latency_s": draw(small),
        }
        service |= {} if circular else {"gap_s": draw(some)}
    else:
        service, fifo = {}, {}
    ring = application = None
    if draw(st.integers(0, 4)):
        ring = {
            "size": draw(st.one_of(st.integers(2, 12), st.integers(13, 40))),
            "full": draw(st.sampled_from(["drop-new", "overwrite-oldest", "wrap", "stop"])),
        }
        which = draw(st.sampled_from(["periodic", "lines", "blocking"]))
        if which == "blocking":
            application = {"length": draw(st.integers(1, 6)), "limit_s": draw(st.none() | some), "busy_s": draw(small)}
            application |= {"partial": draw(st.sampled_from(["given", "dropped"])), "whole": draw(st.booleans())}
        else:
            application = {"every_s": draw(st.integers(5, 200)) * NS, "first_s": draw(small)}
        if which == "periodic":
            application["most"] = draw(st.integers(0, 3))
        if which == "lines":
            application |= {"terminator": draw(st.sampled_from(["00", "01 00"])), "buffer": draw(st.integers(2, 6))}
            application |= {"rest": draw(st.sampled_from(["given", "dropped"]))}
        application["kind"] = which
    deaf = []
    for _ in range(draw(st.integers(0, 2))):
        one = {
            "for_s": draw(st.integers(1, 60)) * NS,
            "first_s": draw(some),
            "stops": draw(st.sampled_from(["service", "everything"])),
        }
        deaf.append(one | ({"every_s": draw(st.integers(130, 400)) * NS} if draw(st.booleans()) else {}))
    pause = None
    watches = draw(st.sampled_from(["ring", "fifo"]))
    if draw(st.booleans()) and (watches == "fifo" or (ring is not None and ring["full"] != "wrap")):
        at = draw(st.integers(1, ring["size"] if watches == "ring" else fifo.get("size", 1)))
        pause = {"at": at, "resume_at": draw(st.integers(0, at - 1)), "watches": watches, "delay_s": draw(small)}
        pause |= {"reaction_characters": draw(st.integers(0, 3)), "sender_holds": draw(st.sampled_from([None, 1, 4]))}
    elif kind != "software":
        fifo["shift_waits"] = draw(st.booleans())
    return lr.ReceivePath(
        fifo=fifo,
        service=service | {"kind": kind},
        ring=ring,
        application=application,
        deaf=deaf,
        pause=pause,
        seed=draw(st.integers(0, 5)),
    )
