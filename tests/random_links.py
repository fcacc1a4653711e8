"""Random links with known events on them: what a verdict must find, may find, and must not claim.

Each case is made from its number alone. Its truth does not come from the code under test: events are put into the bytes
before they go on the wire, and what they must show follows from the layout by arithmetic.
"""

from dataclasses import dataclass, field
from itertools import chain

import numpy as np

import larkreader as lr

LINE = lr.LineSettings.parse("57600 8E1")
CHARACTER_S = LINE.character_time_s
DAMAGE = frozenset(
    [
        "checksum-mismatch",
        "length-mismatch",
        "truncated-frame",
        "resynchronised",
        "bad-stuffing",
        "undeclared-frame",
        "overlong-frame",
        "terminator-missing",
        "unknown-value",
    ]
)
CAUSES = frozenset(
    ["overflow", "overrun", "counter-gap", "pause-ignored", "sent-while-paused", "setting-suspect", "layout-suspect"]
)
COUNTER = frozenset(["counter-mismatch", "counter-jump", "counter-repeat", "counter-restart"])
BOUNDARIES = {
    "marker": {"kind": "marker", "marker": "A5 5A", "longest": 64},
    "end marker": {"kind": "marker", "marker": "A5 5A", "end": "0D 0A", "longest": 64},
    "length field": {"kind": "length-field", "field": "size", "marker": "A5 5A", "longest": 64},
    "fixed": {"kind": "fixed"},
    "idle": {"kind": "idle", "characters": 3.0, "longest": 64},
    "text": {"kind": "terminator", "terminator": "\n", "longest": 64},
    "break": {"kind": "break", "longest": 64},
    "address mark": {"kind": "address-mark", "longest": 64},
    "cobs": {"kind": "cobs", "longest": 64},
    "slip": {"kind": "slip", "longest": 64},
    "hdlc": {"kind": "hdlc", "longest": 64},
    "escape": {"kind": "escape", "begin": "02", "end": "03", "escape": "10", "xor": 0x20, "longest": 64},
}
FRAMES, SIZES = 30, (2, 5, 9, 14, 20)
FRAME_EVENTS = (
    "flip",
    "framing",
    "parity",
    "hole",
    "lost byte",
    "inserted byte",
    "lost frame",
    "repeated frame",
    "restart",
)
ON_WIRE_EVENTS = ("framing", "parity", "hole")


@dataclass
class Case:
    """A link, what was captured of it, and its truth."""

    family: str
    sheet: lr.Sheet
    capture: dict
    events: list = field(default_factory=list)
    must: list = field(default_factory=list)  # sets of kinds, one of each must be found
    may: set = field(default_factory=set)  # kinds that are no false alarm
    holes: dict = field(default_factory=dict)  # by frame, before which byte the line rests, for how many characters


def make_case(number: int) -> Case:
    """Make the case of a number."""
    random = np.random.default_rng(number)
    makers = (
        [frames_case] * 5 + [layouts_case] + [pairs_case] * 2 + [reads_case, pauses_case, settings_case, counting_case]
    )
    return makers[number % len(makers)](random)


def layout_of(random, name, *, fixed, counter, checksum):
    """Make a layout: kind, counter, data, checksum; or a line of text with a number."""
    boundary = dict(BOUNDARIES[name])
    if name == "text":
        pattern = "flow {n}" if counter else "flow {x}"
        number = (
            {"name": "n", "type": "integer", "counter": True, "wraps": 1000}
            if counter
            else {"name": "x", "type": "integer"}
        )
        return lr.FrameLayout(boundary=boundary, pattern=pattern, fields=[number])
    fields = [{"name": "kind", "type": "uint8", "equals": 0x21}]
    if name == "length field":
        fields.insert(0, {"name": "size", "type": "uint8"})
    fields.append({"name": "n", "type": "uint8", "counter": counter})
    if fixed:
        fields.append({"name": "data", "type": "uint8", "repeat": int(random.choice(SIZES))})
    elif name in ("length field", "end marker") or (random.random() < 0.5 and name not in ("marker", "fixed")):
        fields.append({"name": "data", "type": "uint8", "repeat": "rest"})
    else:
        fields += [{"name": "many", "type": "uint8"}, {"name": "data", "type": "uint8", "repeat": "many"}]
    extra = {}
    if checksum:
        fields.append({"name": "crc", "type": "checksum"})
        extra["checksum"] = {"algorithm": str(random.choice(["CRC-16/MODBUS", "CRC-32/ISO-HDLC", "CRC-16/XMODEM"]))}
    if name == "end marker":
        fields = (
            [one for one in fields if one["name"] != "crc"] + fields[len(fields) - bool(checksum) :]
            if checksum
            else fields
        )
    return lr.FrameLayout(boundary=boundary, fields=fields, **extra)


def frame_of(random, layout, name, number):
    """Make the frame of a number, without a marker or an end of its boundary inside."""
    counted = next((one for one, slot in layout.slot.items() if slot.field is not None and slot.field.counter), None)
    if name == "text":
        return layout.encode({counted or "x": number % 1000}) + b"\n"
    while True:
        size = layout.slot["data"].count if layout.is_fixed else int(random.choice(SIZES))
        values = {"n": number % 256 if counted else int(random.integers(0, 256))}
        frame = layout.encode({**values, "data": random.integers(0, 256, size).tolist()})
        if b"\xa5\x5a" not in frame[1:] and b"\r\n" not in frame[2:-2]:
            return layout.as_sent(frame)


def frames_case(random) -> Case:
    """Frames of one layout on one wire, with none to three events on them."""
    name = str(random.choice(list(BOUNDARIES)))
    fixed = bool(name == "fixed" or (name != "end marker" and random.random() < 0.5))
    counter, checksum = bool(random.random() < 0.75), bool(random.random() < 0.75)
    if name == "fixed":
        checksum = True  # without one nothing tells where the frames begin again
    layout = layout_of(random, name, fixed=fixed, counter=counter, checksum=checksum)
    checksum = checksum and name != "text"
    first = int(random.integers(0, 200))
    frames = [list(frame_of(random, layout, name, first + number)) for number in range(FRAMES)]
    on_wire = name in ("idle", "break", "address mark") or bool(random.random() < 0.6)
    case = Case(f"frames: {name}", None, {})
    faults = [[0] * len(one) for one in frames]
    places = (np.array([6, 14, 22]) + random.integers(0, 3, 3))[: random.choice([0, 1, 1, 1, 2, 3])]
    if len(places) == 1 and random.random() < 0.3:
        places[0] = FRAMES - 1 - random.integers(1, 3)  # near the end
    for place in sorted(places.tolist(), reverse=True):  # from behind, so that places stay where they are
        possible = [
            one for one in FRAME_EVENTS if (on_wire or one not in ON_WIRE_EVENTS) and (counter or one != "restart")
        ]
        happen(case, str(random.choice(possible)), random, frames, faults, place, layout, name,
               fixed=fixed or name == "fixed", counter=counter, checksum=checksum, on_wire=on_wire)  # fmt: skip
    case.events.reverse()
    line = (
        lr.LineSettings.parse("57600 9N1").model_copy(update={"ninth_bit": "address-mark"})
        if name == "address mark"
        else LINE
    )
    case.sheet = lr.Sheet(wire={"pump": lr.declare.Wire(key="pump", line=line)}, frame={"status": layout})
    case.capture = {
        "pump": spoken(random, frames, faults, name, line, case.holes)
        if on_wire
        else bytes(chain.from_iterable(frames))
    }
    return case


def happen(case, event, random, frames, faults, place, layout, name, *, fixed, counter, checksum, on_wire):
    """Put one event on the frames, and note what it must show."""
    case.events.append(event)
    frame = frames[place]
    lossy = {"overflow"} if counter else set()
    if event == "flip":
        at, bit = int(random.integers(0, len(frame))), int(random.integers(0, 8))
        frame[at] ^= 1 << bit
        if checksum:
            case.must.append(DAMAGE)
        case.may |= DAMAGE | (COUNTER if counter and not checksum else set())
        if name in ("cobs", "slip", "hdlc", "escape", "text") or not checksum:
            case.may |= lossy  # a delimiter is gone, or one came about
        if name == "text" and counter:
            case.may |= {"undeclared-ending"}
    elif event == "framing":
        at = int(random.integers(0, len(frame)))
        faults[place][at] = lr.Fault.FRAMING
        case.must.append({"framing-error", "break"})
        case.may |= (
            DAMAGE | {"framing-error", "break", "false-start", "parity-error"} | (COUNTER if not checksum else set())
        )
    elif event == "parity":
        faults[place][int(random.integers(0, len(frame)))] = lr.Fault.PARITY
        if name == "address mark":  # the line has no parity bit
            faults[place] = [0] * len(frame)
            case.events[-1] = "none"
            return
        case.must.append({"parity-error"})
        case.may |= COUNTER if not checksum else set()
    elif event == "hole":
        count = int(random.integers(1, max(min(len(frame) - 4, 6), 1) + 1))
        at = int(random.integers(1, len(frame) - count))
        del frame[at : at + count], faults[place][at : at + count]
        case.holes[place] = (at, count)
        if checksum or (fixed and name != "text"):
            case.must.append(DAMAGE | ({"counter-gap"} if counter else set()))
        case.may |= DAMAGE | {"counter-gap"} | (COUNTER if not checksum else set())
        case.may |= {"late-frame"}
    elif event == "lost byte":
        at = int(random.integers(0, len(frame)))
        del frame[at], faults[place][at]
        is_shared = name in ("hdlc", "slip", "escape") and at in (0, len(frame))  # the next frame's delimiter closes it
        if (checksum or (fixed and name != "text")) and not is_shared:
            case.must.append(DAMAGE | lossy)
        case.may |= DAMAGE | lossy | (COUNTER if not checksum else set())
    elif event == "inserted byte":
        at = int(random.integers(1, len(frame)))
        frame.insert(at, int(random.integers(0, 256)))
        faults[place].insert(at, 0)
        if checksum or (fixed and name not in ("text", "cobs", "slip", "hdlc", "escape")):  # it may be an escape
            case.must.append(DAMAGE)
        case.may |= DAMAGE | (COUNTER if not checksum else set())
    elif event == "lost frame":
        del frames[place], faults[place]
        case.holes = {one - (one > place): hole for one, hole in case.holes.items()}
        if counter:  # of a last frame alone, without a checksum, nobody can tell
            is_last = place >= len(frames) - 1 and not checksum
            case.must.append({"overflow", "counter-jump"} if is_last else {"overflow"})
    elif event == "repeated frame":
        frames.insert(place, list(frame))
        case.holes = {one + (one >= place): hole for one, hole in case.holes.items()}
        faults.insert(place, [0] * len(frame))
        if counter:
            case.must.append({"counter-repeat"})
    elif event == "restart":
        frames[place:] = [list(frame_of(random, layout, name, number)) for number in range(len(frames) - place)]
        faults[place:] = [[0] * len(one) for one in frames[place:]]
        case.events[:], case.must[:] = ["restart"], [{"counter-restart"}]  # what lay behind is written over
        case.may, case.holes = set(), {}


def spoken(random, frames, faults, name, line, holes):
    """Put frames on a wire, with the rests, breaks and address marks that their boundary asks for."""
    values, gaps, flags = [], [], []
    between = float(random.choice([0.0, 3.0, 40.0])) if name != "idle" else 60.0
    for place, (frame, held) in enumerate(zip(frames, faults, strict=True)):
        row, marks = list(frame), list(held)
        if name == "break":
            row, marks = [0, *row], [lr.Fault.BREAK, *marks]
        if name == "address mark" and row:
            row[0] |= 0x100
        values += row
        flags += marks
        rests = [between] + [0.0] * (len(row) - 1) if row else []
        if place in holes:
            at, count = holes[place]
            rests[at + (name == "break")] = count * line.bits_per_character
        gaps += rests
    return lr.transmit(values, line, gaps=np.array(gaps), faults=flags)


def layouts_case(random) -> Case:
    """Two layouts on one wire, each with a counter of its own; one frame of either is damaged, lost or repeated."""
    boundary = [{"kind": "marker", "marker": "A5 5A"}, {"kind": "cobs"}, {"kind": "slip"}, {"kind": "hdlc"}][
        random.integers(4)
    ]
    layouts = {}
    for key, kind, size in (("status", 0x21, 9), ("alarm", 0x42, int(random.choice([2, 9])))):
        fields = [{"name": "kind", "type": "uint8", "equals": kind}, {"name": "n", "type": "uint8", "counter": True},
                  {"name": "data", "type": "uint8", "repeat": size}, {"name": "crc", "type": "checksum"}]  # fmt: skip
        layouts[key] = lr.FrameLayout(
            wire="pump", boundary=boundary, fields=fields, checksum={"algorithm": "CRC-16/XMODEM"}
        )
    counts, rows = {"status": int(random.integers(0, 250)), "alarm": int(random.integers(0, 250))}, []
    for number in range(40):
        key = "alarm" if number % 4 == 3 else "status"
        while True:
            frame = layouts[key].encode(
                {"n": counts[key] % 256, "data": random.integers(0, 256, layouts[key].slot["data"].count).tolist()}
            )
            if b"\xa5\x5a" not in frame[1:]:
                break
        counts[key] += 1
        rows.append(bytearray(layouts[key].as_sent(frame)))
    case = Case("two layouts", lr.Sheet(wire={"pump": {"line": LINE}}, frame=layouts), {})
    place, event = (
        int(random.integers(8, 32)),
        str(random.choice(["none", "flip", "lost frame", "repeated frame", "lost byte", "inserted byte"])),
    )
    row = rows[place]
    if event == "flip":
        row[int(random.integers(0, len(row)))] ^= 1 << int(random.integers(0, 8))
        case.must, case.may = [DAMAGE], set(DAMAGE)
    elif event == "lost frame":
        del rows[place]
        case.must = [{"overflow"}]
    elif event == "repeated frame":
        rows.insert(place, row)
        case.must = [{"counter-repeat"}]
    elif event == "lost byte":
        del row[int(random.integers(1, len(row) - 1))]
        case.must, case.may = [DAMAGE | {"overflow"}], DAMAGE | {"overflow"}
    elif event == "inserted byte":
        row.insert(int(random.integers(1, len(row) - 1)), int(random.integers(0, 256)))
        case.must, case.may = [DAMAGE], set(DAMAGE)
    case.events = [event] if event != "none" else []
    data = b"".join(rows)
    case.capture = {"pump": lr.transmit(data, LINE) if random.random() < 0.5 else data}
    return case


def pairs_case(random) -> Case:
    """Make requests on one wire and replies on another, with and without limits and fields to match."""
    check = {"checksum": {"algorithm": "CRC-16/MODBUS"}}
    fields = [
        {"name": "kind", "type": "uint8", "equals": 1},
        {"name": "n", "type": "uint8"},
        {"name": "crc", "type": "checksum"},
    ]
    ask = lr.FrameLayout(wire="out", boundary={"kind": "marker", "marker": "A6"}, fields=fields, **check)
    answer = lr.FrameLayout(wire="back", boundary={"kind": "marker", "marker": "D7"}, fields=fields, **check)
    limits = [{}, {"within_s": 0.006}, {"gone_after_s": 0.012}, {"within_s": 0.006, "gone_after_s": 0.012}][
        random.integers(4)
    ]
    pairing = {
        "request": ["ask"],
        "reply": ["answer"],
        **limits,
        **({"match": {"n": "n"}} if random.random() < 0.5 else {}),
    }
    count, latency_s = 20, float(random.uniform(0.0005, 0.003))
    lost = set(random.choice(np.arange(1, count), int(random.choice([0, 0, 1, 2])), replace=False).tolist())
    others = [one for one in range(1, count - 1) if one not in lost]
    spoiled = {int(random.choice(others))} if random.random() < 0.3 else set()
    late = (
        {int(random.choice([one for one in others if one not in spoiled]))}
        if "within_s" in limits and random.random() < 0.4
        else set()
    )
    case = Case("pairs", lr.Sheet(wire={"out": {"line": LINE}, "back": {"line": LINE}}, frame={"ask": ask, "answer": answer},
                                  pair={"question": pairing}), {})  # fmt: skip
    asks, replies, ends_s = [], [], 0.05 * count
    for number in range(count):
        begin_s = 0.01 + 0.05 * number
        asks.append((begin_s, ask.encode({"n": number})))
        reply = bytearray(answer.encode({"n": number}))
        if number in spoiled:
            reply[2] ^= 0x10
        after_s = 0.009 if number in late else latency_s * random.uniform(0.9, 1.1)
        if number not in lost:
            replies.append((begin_s + 5 * CHARACTER_S + after_s, bytes(reply)))
    ends_s = 0.01 + 0.05 * (count - 1) + 0.04
    case.capture = {"out": at_times(asks, ends_s), "back": at_times(replies, ends_s)}
    case.events = ["reply missing"] * len(lost) + ["reply damaged"] * len(spoiled) + ["reply late"] * len(late)
    case.must += (
        [{"unanswered-request"}] * bool(lost) + [{"damaged-reply"}] * bool(spoiled) + [{"late-reply"}] * bool(late)
    )
    case.must += [DAMAGE] * bool(spoiled)
    case.may |= DAMAGE if spoiled else set()
    return case


def at_times(messages, end_s):
    """Put messages on a wire at their times."""
    values, gaps, last_s = [], [], 0.0
    for begin_s, data in messages:
        values += list(data)
        gaps += [(begin_s - last_s) * LINE.baud] + [0.0] * (len(data) - 1)
        last_s = begin_s + len(data) * CHARACTER_S
    return lr.transmit(values, LINE, gaps=np.array(gaps), begin_s=0.0, end_s=end_s)


def reads_case(random) -> Case:
    """Make a blocking read of the messages' length, with and without declared frames, and a message that is shorter."""
    length, count = int(random.choice([5, 7, 9, 12])), int(random.integers(6, 14))
    has_frames = bool(random.random() < 0.5)
    frames = {}
    messages = [random.integers(0, 256, length).astype(np.uint8).tobytes() for _ in range(count)]
    if has_frames:
        layout = lr.FrameLayout(boundary={"kind": "idle", "characters": 3.0},
                                fields=[{"name": "data", "type": "uint8", "repeat": length - 2}, {"name": "crc", "type": "checksum"}],
                                checksum={"algorithm": "CRC-16/MODBUS"})  # fmt: skip
        frames = {"status": layout}
        messages = [layout.encode({"data": list(one[: length - 2])}) for one in messages]
    short = int(random.integers(1, count)) if random.random() < 0.6 else None
    if short is not None:
        messages[short] = messages[short][: int(random.integers(1, length))]
    path = lr.ReceivePath(key="pump", service={"kind": "interrupt", "latency_s": 1e-5}, ring={"size": 256},
                          application={"kind": "blocking", "length": length})  # fmt: skip
    sheet = lr.Sheet(wire={"pump": {"line": LINE}}, frame=frames, receive={"pump": path})
    spaced = [(0.01 + 0.01 * number, one) for number, one in enumerate(messages)]
    case = Case("reads", sheet, {"pump": at_times(spaced, 0.01 + 0.01 * count + 0.02)})
    if short is not None:
        case.events = ["read short"]
        case.must.append({"stuck-read", "misaligned-read"})
        case.may |= DAMAGE | {"stuck-read", "misaligned-read"}
    return case


def pauses_case(random) -> Case:
    """Make a sender that is paused by its clear-to-send signal, and stops in time or too late."""
    allowance, bursts = int(random.choice([1, 2, 4])), int(random.integers(3, 8))
    late = bool(random.random() < 0.5)
    values, gaps, changes, now_s, ended_s = [], [], [], 0.001, 0.001
    for burst in range(bursts):
        after = (
            int(random.integers(allowance + 2, allowance + 6))
            if late and burst == bursts // 2
            else int(random.integers(0, allowance + 1))
        )
        before = int(random.integers(15, 40))
        values += [0x40 + burst] * (before + after)
        gaps += [(now_s - ended_s) * LINE.baud] + [0.0] * (before + after - 1)
        ended_s = now_s + (before + after) * CHARACTER_S
        changes += [now_s + (before - 0.5) * CHARACTER_S, ended_s + 0.003]
        now_s = changes[-1] + 0.0005
    wire = lr.declare.Wire(key="pump", clear_to_send="cts", pause_allowance=float(allowance),
                   line=LINE.model_copy(update={"flow_control": "rts-cts"}))  # fmt: skip
    trace = lr.transmit(values, LINE, gaps=np.array(gaps), begin_s=0.001, end_s=now_s + 0.01)
    case = Case(
        "pauses",
        lr.Sheet(wire={"pump": wire}),
        {"pump": trace, "[wire.pump.clear_to_send]": lr.Trace.from_seconds(changes, 0, end_s=now_s + 0.01)},
    )
    if late:
        case.events, case.must = ["pause late"], [{"sent-while-paused", "pause-ignored"}]
    return case


TEXT = b"flow 12.5 mL/min, pressure 101.25 kPa, temperature 21.4 degC, dosed 7.75 mL\r\n"
SETTINGS = [("57600 7E1", "57600 8N1"), ("57600 7O1", "57600 8N1"), ("57600 8E1", "57600 8N1"), ("57600 8N1", "57600 8E1"),
            ("115200 8N1", "57600 8N1"), ("57600 8O1", "57600 8E1"), ("57600 8N1 idle-low", "57600 8N1"), ("57600 8N1 msb", "57600 8N1"),
            ("28800 8N1", "57600 8N1"), ("57600 8N1", "57600 8N1"), ("57600 8E1", "57600 8E1"), ("57600 7E1", "57600 7E1"),
            ("57600 8N2", "57600 8N1"), ("57600 7O1", "57600 7O1"), ("57600 9N1", "57600 9N1")]  # fmt: skip


def settings_case(random) -> Case:
    """Text or bytes sent under some settings, declared under the same or others."""
    sent, declared = SETTINGS[random.integers(len(SETTINGS))]
    true, line = lr.LineSettings.parse(sent), lr.LineSettings.parse(declared)
    size = int(random.integers(60, 300))
    needs_text = "msb" in sent or true.data_bits == 7
    values = (
        np.resize(np.frombuffer(TEXT, np.uint8), size)
        if needs_text or random.random() < 0.4
        else random.integers(0, 1 << true.data_bits, size)
    )
    trace = lr.transmit(values, true, gaps=random.exponential(4.0, size) if random.random() < 0.5 else 2.0)
    case = Case("settings", lr.Sheet(wire={"pump": {"line": line}}), {"pump": trace})
    if str(true) != str(line) and sent != "57600 8N2":
        case.events, case.must = ["wrong settings"], [{"setting-suspect"}]
        case.may |= {"setting-suspect", "parity-error", "framing-error", "break", "false-start", "noise", "undeclared-ending",
                     "escape-sequence", "baud-mismatch", "startup-character", "doubled-characters"}  # fmt: skip
    return case


def counting_case(random) -> Case:
    """Alphabets, ramps and counters without any frame; of the counters some characters are lost."""
    what = str(random.choice(["alphabet", "ramp", "counter", "text", "noise"]))
    case = Case("counting", None, {})
    size = int(random.integers(300, 1200))
    if what == "alphabet":
        values = np.resize(np.arange(65, 91), size)
    elif what == "ramp":
        low = int(random.integers(0, 100))
        values = np.resize(np.arange(low, low + int(random.integers(30, 150))), size)
    elif what == "text":
        values = np.resize(np.frombuffer(TEXT, np.uint8), size)
    elif what == "noise":
        values = random.integers(0, 256, size)
    else:
        values = (np.arange(size) + int(random.integers(0, 256))) % 256
        if random.random() < 0.6:
            at, gone = int(random.integers(30, size - 30)), int(random.integers(1, 20))
            values = np.delete(values, np.arange(at, min(at + gone, size - 20)))
            if ((values[:-1] == 255) & (values[1:] == 0)).any():  # else it may be a ramp
                case.events, case.must = ["lost characters"], [{"overflow"}]
    on_wire = bool(random.random() < 0.5)
    case.sheet = lr.Sheet(wire={"pump": {"line": LINE}})
    case.capture = {"pump": lr.transmit(values, LINE) if on_wire else bytes(values.astype(np.uint8))}
    return case


@dataclass(frozen=True)
class Judged:
    """What a verdict was worth in one case."""

    missed: list
    false_alarms: list
    wrong_causes: list
    is_false_clean: bool

    @property
    def is_right(self) -> bool:
        return not (self.missed or self.false_alarms or self.wrong_causes or self.is_false_clean)


def judge(case: Case) -> Judged:
    """Read a case and compare its verdict with its truth."""
    capture, clear = dict(case.capture), {}
    for key in [one for one in capture if one.startswith("[")]:
        clear[key] = capture.pop(key)
    reading = read_with_signals(case.sheet, capture, clear) if clear else lr.read(case.sheet, capture)
    kinds = {one.kind for one in reading.findings if one.severity != "note"}
    missed = [sorted(one) for one in case.must if not kinds & one]
    allowed = set().union(*case.must, case.may)
    strange = kinds - allowed
    wrong_causes = sorted(strange & CAUSES) if case.events else []
    false_alarms = sorted(strange - set(wrong_causes))
    return Judged(missed, false_alarms, wrong_causes, bool(case.must) and reading.verdict == "clean")


def read_with_signals(sheet, capture, signals):
    """Read a capture together with clear-to-send signals, as from a file."""
    import tempfile
    from pathlib import Path

    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "a.vcd"
        lr.write_vcd(path, {**capture, "cts": next(iter(signals.values()))})
        return lr.read(sheet, path)
