"""Random traffic as a port delivers it: groups of characters with times and faults, on links with all that is judged.

Each case is made from its number alone.
"""

import random as chances
from dataclasses import dataclass, replace

import numpy as np
from random_links import BOUNDARIES, LINE, frame_of, layout_of

import larkreader as lr

MARKER = {"kind": "marker", "marker": "A5 5A"}
CRC = {"algorithm": "CRC-16/MODBUS"}
DAMAGES = ("flip", "lost", "inserted", "lost frame", "repeated", "fault", "counted", "late")
CHARACTERS = (3000, 16000)


@dataclass
class Traffic:
    """A sheet, and what arrived: when, on which wire, characters, flags of their faults, what the driver counted."""

    sheet: lr.Sheet
    groups: list

    def whole(self):
        """Read all of it at once."""
        of_wire = {wire: [group for group in self.groups if group[1] == wire] for wire in self.sheet.wire}
        return lr.read(self.sheet, {wire: characters_of(groups) for wire, groups in of_wire.items()})


def characters_of(groups):
    counted = [(number, *count) for number, group in enumerate(groups) for count in group[4].items()]
    return lr.Characters.from_groups([(at_s, data, faults) for at_s, _, data, faults, _ in groups], counted)


def make_traffic(number):
    """Make the case of a number."""
    random = np.random.default_rng(number)
    makers = [framed] * 3 + [of_two_layouts] * 2 + [paired] * 2 + [unframed, paused]
    sheet, groups = makers[number % len(makers)](random, float(random.choice([0, 0.002, 0.01, 0.04])))
    groups = [(round(at_s, 6), *rest) for at_s, *rest in groups]
    return Traffic(sheet, sorted(groups, key=lambda group: group[0]))


def with_rests(traffic, number, *, silences=2):
    """Return the same with wires that fall silent for a while, or for good, and with limits of who may speak when.

    Some requests and replies share one wire.
    """
    chance, sheet, groups = chances.Random(number), traffic.sheet, traffic.groups
    frames, names = sheet.frame, list(sheet.wire)
    if sheet.pair and chance.random() < 0.3:
        names = names[:1]
        groups = [(at_s, names[0], *rest) for at_s, _, *rest in groups]
        frames = {key: layout.model_copy(update={"wire": names[0]}) for key, layout in frames.items()}
    wires = {
        name: {key: getattr(sheet.wire[name], key) for key in sheet.wire[name].model_fields_set - {"key"}}
        | ({"silence_s": chance.choice([0.03, 0.2, 1.0])} if chance.random() < 0.5 else {})
        for name in names
    }
    shared = {"shared": names, "turnaround_s": chance.choice([0.001, 0.004])}
    timing = shared if len(names) > 1 and chance.random() < 0.5 else {}
    sheet = lr.Sheet(line=sheet.line, frame=frames, pair=sheet.pair, wire=wires, timing=timing)
    end_s = groups[-1][0]
    for _ in range(chance.randint(0, silences)):
        silent, begin_s = chance.choice(names), chance.uniform(end_s / 5, end_s)
        lasts_s = chance.choice([0.3, 3, 1e9])
        groups = [group for group in groups if group[1] != silent or not begin_s <= group[0] < begin_s + lasts_s]
    return replace(traffic, sheet=sheet, groups=groups)


def damaged(random, frame, share):
    """Return what arrives of a frame: pieces of characters, faults, counts, and by how much they are late."""
    faults, counted, late_s = bytearray(len(frame)), {}, 0.0
    event = str(random.choice(DAMAGES)) if random.random() < share else ""
    place, frame = int(random.integers(0, len(frame))), bytearray(frame)
    if event == "flip":
        frame[place] ^= 1 << int(random.integers(0, 8))
    elif event == "lost":
        del frame[place], faults[place]
    elif event == "inserted":
        frame.insert(place, int(random.integers(0, 256)))
        faults.insert(place, 0)
    elif event == "fault":
        faults[place] = int(random.choice([1, 2, 8, 16]))
    elif event == "counted":
        counted = {str(random.choice(["parity", "overrun", "overrun", "overflow"])): int(random.integers(1, 4))}
    elif event == "late":
        late_s = float(random.choice([0.02, 0.3]))
    often = {"lost frame": 0, "repeated": 2}.get(event, 1)
    return [(bytes(frame), bytes(faults), counted if not copy else {}, late_s) for copy in range(often)]


def arrivals(random, wire, frames, share, period_s):
    """Return how frames arrive: late by a little, cut anywhere, some together."""
    now_s, together, held, groups = 0.01, random.random() < 0.3, [], []
    for frame in frames:
        now_s += period_s * (1 + 0.1 * float(random.random()))
        for data, faults, counted, late_s in damaged(random, frame, share):
            now_s += late_s
            held.append((data, faults, counted))
            if together and random.random() < 0.7:
                continue
            counts = {name: count for _, _, some in held for name, count in some.items()}
            groups += cut(random, now_s, wire, *(b"".join(item[part] for item in held) for part in (0, 1)), counts)
            held = []
    return groups


def cut(random, at_s, wire, data, faults, counted):
    if random.random() < 0.7 or len(data) < 2:
        return [(at_s, wire, data, faults, counted)]
    place = int(random.integers(1, len(data)))
    return [(at_s, wire, data[:place], faults[:place], counted), (at_s + 1e-4, wire, data[place:], faults[place:], {})]


def with_period(layout, period_s):
    return lr.FrameLayout(**{**layout.model_dump(by_alias=True, exclude_unset=True), "period": period_s})


def framed(random, share):
    """One layout of any boundary, with or without counter, checksum and period; the capture may begin in a frame."""
    name = str(random.choice([name for name in BOUNDARIES if name not in ("break", "address mark", "idle")]))
    fixed = bool(name == "fixed" or (name != "end marker" and random.random() < 0.5))
    checksum = bool(random.random() < 0.75) or name == "fixed"
    layout = layout_of(random, name, fixed=fixed, counter=bool(random.random() < 0.75), checksum=checksum)
    layout = with_period(layout, 0.0105) if random.random() < 0.4 else layout
    frames, number, left = [], int(random.integers(0, 200)), int(random.integers(*CHARACTERS))
    while left > 0:
        frames.append(frame_of(random, layout, name, number))
        left, number = left - len(frames[-1]), 0 if random.random() < share / 3 else number + 1
    groups = arrivals(random, "w", frames, share, 0.01)
    if random.random() < 0.3:
        at_s, wire, data, faults, _ = groups[0]
        groups[0] = (at_s, wire, data[len(data) // 2 :], faults[len(faults) // 2 :], {})
    return lr.Sheet(line=LINE, wire={"w": {}}, frame={"f": layout}), groups


def of_two_layouts(random, share):
    """Mix a frequent and a rare layout, with substitutes, names and a range; the rare layout may end for good."""
    valve = {"name": "valve", "type": "uint8", "names": {"shut": 0, "open": 1}}
    flow = {"name": "flow", "type": "uint8", "range": [0, 200]}
    state = {"name": "lost", "type": "flag", "substitutes": {"when": 1, "fields": ["flow"]}}
    number, check = {"name": "n", "type": "uint8", "counter": True}, {"name": "crc", "type": "checksum"}
    kinds = [{"name": "kind", "type": "uint8", "equals": kind} for kind in (1, 2)]
    often = {"boundary": MARKER, "checksum": CRC, "fields": [kinds[0], number, flow, state, {"reserved": 7}, check]}
    seldom = {"boundary": MARKER, "checksum": CRC, "fields": [kinds[1], number, valve, check]}
    every = int(random.choice([5, 40]))
    often, seldom = lr.FrameLayout(**often, period=0.0105), lr.FrameLayout(**seldom, period=0.0105 * every)
    frames, odd = [], False
    last = int(random.integers(200, 4000))
    for place in range(int(random.integers(*CHARACTERS)) // 8):
        odd = odd != (random.random() < share / 10)
        high = random.random() < share / 3
        frames.append(
            often.encode({"n": place % 256, "flow": 250 if high else int(random.integers(0, 201)), "lost": odd})
        )
        if place % every == 0 and place < last:
            unknown = random.random() < share
            frames[-1] += seldom.encode({"n": place // every % 256, "valve": 7 if unknown else place % 2})
    return lr.Sheet(line=LINE, wire={"w": {}}, frame={"often": often, "seldom": seldom}), arrivals(
        random, "w", frames, share, 0.01
    )


def paired(random, share):
    """Make requests and replies, some late, lost, repeated or unasked."""
    number, check = {"name": "n", "type": "uint8"}, {"name": "crc", "type": "checksum"}
    value = {"name": "x", "type": "uint16"}
    request, reply = (
        lr.FrameLayout(wire=wire, boundary=MARKER, checksum=CRC, fields=[{"name": "kind", "type": "uint8", "equals": kind},
                       number | more, value, check])
        for wire, kind, more in (("out", 1, {"counter": True}), ("back", 2, {}))
    )  # fmt: skip
    pair = {"request": ["ask"], "reply": ["answer"], "only_when_asked": bool(random.random() < 0.3)}
    pair |= {"match": {"n": "n"}} if random.random() < 0.6 else {}
    pair |= {"within_s": 0.02} if random.random() < 0.5 else {}
    groups, now_s, left, place = [], 0.01, int(random.integers(*CHARACTERS)), 0
    while left > 0:
        asked, answer = (
            layout.encode({"n": place % 256, "x": int(random.integers(0, 65536))}) for layout in (request, reply)
        )
        latency_s = 0.03 if random.random() < share else 0.003 + 0.004 * float(random.random())
        for data, faults, counted, _ in damaged(random, asked, share):
            groups += cut(random, now_s, "out", data, faults, counted)
        for data, faults, counted, _ in damaged(random, answer, share) if random.random() > share else ():
            groups += cut(random, now_s + latency_s, "back", data, faults, counted)
        left, place, now_s = left - len(asked) - len(answer), place + 1, now_s + 0.05
    return lr.Sheet(
        line=LINE, wire={"out": {}, "back": {}}, frame={"ask": request, "answer": reply}, pair={"p": pair}
    ), groups


def unframed(random, share):
    """Characters that count up, or lines of text."""
    count = int(random.integers(*CHARACTERS)) // 20
    texts = random.random() < 0.5
    frames = [
        f"flow {place * 7 % 100} ml/min\r\n".encode() if texts else bytes((20 * place + n) % 256 for n in range(20))
        for place in range(count)
    ]
    return lr.Sheet(line=LINE, wire={"w": {}, "v": {}}), arrivals(random, "w", frames, share, 0.01)


def paused(random, share):
    """Frames whose sender is asked to pause, and does not always."""
    line = LINE.model_copy(update={"flow_control": "xon-xoff"})
    fields = [{"name": "n", "type": "uint8", "counter": True}, {"name": "x", "type": "uint8", "repeat": 10}]
    layout = lr.FrameLayout(
        wire="w", boundary=MARKER, checksum=CRC, fields=[*fields, {"name": "crc", "type": "checksum"}]
    )
    groups, now_s = [], 0.01
    for place in range(int(random.integers(*CHARACTERS)) // 16):
        now_s += 0.02
        if random.random() < 0.05:
            rest_s = 0.012 + 0.05 * float(random.random())
            groups += [(now_s, "v", b"\x13", b"", {}), (now_s + rest_s, "v", b"\x11", b"", {})]
            now_s += 0.008 if random.random() < 3 * share else rest_s + 0.005
        frame = layout.encode({"n": place % 256, "x": random.integers(0, 256, 10).tolist()})
        for data, faults, counted, _ in damaged(random, frame, share):
            groups += cut(random, now_s, "w", data, faults, counted)
    return lr.Sheet(line=line, wire={"w": {}, "v": {}}, frame={"f": layout}), groups
