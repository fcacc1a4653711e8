"""Random layouts, and frames of them made bit after bit, as the page about sheets lays fields out."""

import random

from reference import slow_crc

import larkreader as lr

BOUNDARIES = [
    {"kind": "slip"},
    {"kind": "cobs"},
    {"kind": "hdlc"},
    {"kind": "escape", "begin": "02", "end": "03", "escape": "10", "xor": 0x20},
    {"kind": "idle", "characters": 2.0},
    {"kind": "break"},
    {"kind": "address-mark"},
    {"kind": "terminator", "terminator": "\r\n"},
    {"kind": "marker", "marker": "A5"},
    {"kind": "marker", "marker": "A5", "end": "5A", "longest": 300},
    {"kind": "length-field", "field": "size", "counts": "all", "longest": 300},
]
TYPES = ("uint8", "int16", "uint24", "int8", "uint32")


class RandomLayout:
    """A layout, and values and frames of it.

    Each field fills whole bytes, but for the members of groups and a count of four bits.
    """

    def __init__(self, seed):
        self.random = one = random.Random(seed)
        self.packing = one.choice(["lsb", "msb"])
        self.boundary = one.choice(BOUNDARIES)
        kind = self.boundary["kind"]
        self.has_count = one.random() < 0.6
        self.fields = [{"name": "size", "type": "uint16"}] if kind == "length-field" else []
        if self.has_count:
            bits = one.choice([4, 8])
            self.fields += [{"name": "n", "type": f"uint{bits}"}] + [{"reserved": 4, "value": 9}] * (bits == 4)
        self.fields += [self.field(f"f{number}") for number in range(one.randrange(5))]
        if kind != "marker" and one.random() < 0.4:
            self.fields.append({"name": "rest", "type": one.choice(["uint8", "int16"]), "repeat": "rest"})
        self.checksum = None
        if not any("type" in field for field in self.fields):
            self.fields.append({"name": "last", "type": "uint8"})
        if one.random() < 0.6:
            self.checksum = {"algorithm": one.choice(["CRC-16/MODBUS", "CRC-8/SMBUS", "xor-8"]), "order": "big"}
            always = [field["name"] for field in self.fields if field.get("name", "n") != "n" and "when" not in field]
            if always and one.random() < 0.3:
                self.checksum["from"] = one.choice(always)
            later = always[always.index(self.checksum["from"]) :] if "from" in self.checksum else always
            if later and one.random() < 0.3:
                self.checksum["to"] = one.choice(later)
            place = len(self.fields)
            if "from" not in self.checksum and "to" not in self.checksum and one.random() < 0.2:
                place = one.randrange(1, len(self.fields) + 1)
            self.fields.insert(place, {"name": "check", "type": "checksum"})
        extra = {"checksum": self.checksum} if self.checksum else {}
        self.layout = lr.FrameLayout(boundary=self.boundary, packing=self.packing, fields=self.fields, **extra)

    def field(self, name):
        one, what = self.random, self.random.choice(["plain", "reserved", "array", "when", "group", "fixed"])
        if what == "reserved":
            return {"reserved": 8, "value": one.randrange(256)}
        if what == "group":
            low = one.randrange(2, 8)
            pair = [
                {"name": "a", "type": f"uint{low}"}
                | ({"equals": one.randrange(1 << low)} if one.random() < 0.3 else {}),
                {"reserved": 8 - low, "value": one.randrange(1 << 8 - low)},
            ]
            one.shuffle(pair)
            more = [{"name": "b", "type": one.choice(TYPES), "repeat": one.choice([1, 2])}] * one.randrange(2)
            repeat = "n" if self.has_count else one.choice([1, 2, 3])
            return {"group": name, "repeat": repeat, "fields": one.choice([pair + more, more + pair])}
        field = {"name": name, "type": one.choice(TYPES), "order": one.choice(["little", "big"])}
        if what == "fixed":
            field["equals"] = one.randrange(128)
        if what == "array":
            field["repeat"] = "n" if self.has_count else one.choice([2, 3])
        if what == "when" and self.has_count:
            field["when"] = {"n": one.choice([0, 1, [0, 2]])}
        return field

    def values(self):
        """Make the values of a frame; those of a group that are fixed are left out."""
        one = self.random
        n = one.randrange(4)
        values = {"n": n} if self.has_count else {}

        def item(field):
            kind, bits = field["type"].rstrip("0123456789"), int(field["type"].lstrip("uint"))
            return one.randrange(1 << bits) if kind == "uint" else one.randrange(-(1 << bits - 1), 1 << bits - 1)

        def items(field, count):
            return [item(field) for _ in range(count)] if count != 1 else item(field)

        for field in self.fields:
            name, repeat = field.get("group", field.get("name")), field.get("repeat", 1)
            count = {"n": n, "rest": one.randrange(4)}.get(repeat, repeat)
            if "group" in field:
                inner = [part for part in field["fields"] if "name" in part and "equals" not in part]
                values[name] = [
                    {part["name"]: items(part, part.get("repeat", 1)) for part in inner} for _ in range(count)
                ]
            elif name not in (None, "n", "size", "check") and "equals" not in field and self.is_there(field, n):
                values[name] = items(field, count) if isinstance(repeat, int) or count != 1 else [item(field)]
        return values

    @staticmethod
    def is_there(field, n):
        wanted = field.get("when", {}).get("n")
        return wanted is None or n == wanted or (isinstance(wanted, list) and n in wanted)

    def encode(self, values):
        """Make the frame of some values; None if one of the counts cannot be."""
        marker = bytes.fromhex(self.boundary.get("marker", ""))
        end = bytes.fromhex(self.boundary.get("end", "")) if self.boundary["kind"] == "marker" else b""
        bits, places = [], {}

        def put(value, width, order=None):
            if order is not None and order != ("little" if self.packing == "lsb" else "big"):
                value = int.from_bytes((value % (1 << width)).to_bytes(width // 8, "little"), "big")
            digits = [value >> place & 1 for place in range(width)]
            bits.extend(digits if self.packing == "lsb" else digits[::-1])

        def put_field(field, held):
            if "reserved" in field:
                put(field["value"], field["reserved"])
                return
            held = field.get("equals", 0) if held is None else held
            for item in held if isinstance(held, list) else [held] * field.get("repeat", 1):
                put(item, int(field["type"].lstrip("uint")), field.get("order"))

        n = values.get("n", 0)
        width = {"CRC-16/MODBUS": 16}.get(self.checksum["algorithm"], 8) if self.checksum else 0
        for field in self.fields:
            name, begin = field.get("group", field.get("name")), len(bits)
            if name == "check":
                put(0, width)
            elif "group" in field:
                for turn in values[name]:
                    for part in field["fields"]:
                        put_field(part, turn.get(part.get("name")))
            elif self.is_there(field, n):
                put_field(field, values.get(name, None if field.get("repeat", 1) not in ("n", "rest") else []))
            places[name] = (len(marker) + begin // 8, len(marker) + -(-len(bits) // 8))
        held = "".join(map(str, bits))
        octets = [held[low : low + 8] for low in range(0, len(held), 8)]
        frame = bytearray(marker + bytes(int(one[::-1] if self.packing == "lsb" else one, 2) for one in octets))
        if "size" in places:
            frame[slice(*places["size"])] = len(frame).to_bytes(2, "little" if self.packing == "lsb" else "big")
        frame += end
        if self.checksum:
            first = places[self.checksum["from"]][0] if "from" in self.checksum else 0
            last = places[self.checksum["to"]][1] if "to" in self.checksum else places["check"][0]
            frame[slice(*places["check"])] = check_of(frame[first:last], self.checksum["algorithm"]).to_bytes(
                width // 8
            )
        return bytes(frame)

    def stretch(self):
        """Make up to ten bytes, half of them such as begin, end or count something."""
        one = self.random
        special = [0xA5, 0x5A, 0xC0, 0x7E, 0x7D, 0x02, 0x03, 0x10, 0x0D, 0x0A, *range(12)]
        return bytes(
            one.choice(special) if one.random() < 0.5 else one.randrange(256) for _ in range(one.randrange(11))
        )


def check_of(data, algorithm):
    """Return a check value, by the parameters of its catalogue entry."""
    if algorithm == "xor-8":
        value = 0
        for byte in data:
            value ^= byte
        return value
    if algorithm == "CRC-8/SMBUS":
        return slow_crc(data, 8, 0x07, 0, False, False, 0)
    return slow_crc(data, 16, 0x8005, 0xFFFF, True, True, 0)
