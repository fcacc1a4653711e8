"""Slow, plain ways to do what the package does quickly: written from the definitions, one thing at a time."""

from bisect import bisect_right
from fractions import Fraction
from math import floor

import larkreader as lr


def slow_receive(trace, line, samples=1):
    """Read one character after the other; return rows of start tick, value, faults, and the false starts."""
    edges = trace.edges.tolist()
    idle = 1 if line.idle == "high" else 0
    bit = 1 / (Fraction(repr(line.baud)) * Fraction(repr(trace.tick_s)))
    parts = [Fraction(1, 2)] if samples == 1 else [Fraction(7, 16), Fraction(8, 16), Fraction(9, 16)]

    def level(tick):
        return trace.first_level ^ (bisect_right(edges, tick) & 1)

    def judge(start, number):
        """Return bit `number` as a logical level, and whether its samples disagree."""
        seen = [level(start + floor((number + part) * bit)) == idle for part in parts]
        return int(sum(seen) * 2 > len(seen)), len(set(seen)) > 1

    rows, false_starts, free = [], [], -1
    for number, start in enumerate(edges):
        if (trace.first_level ^ ((number + 1) & 1)) == idle or start <= free:
            continue
        if judge(start, 0)[0]:
            false_starts.append(start)
            free = start + floor(parts[-1] * bit)
            continue
        stop = 1 + line.data_bits + line.has_parity
        free = start + floor((stop + parts[-1]) * bit)
        bits, noisy = zip(*(judge(start, place) for place in range(stop + 1)), strict=True)
        data = bits[1 : 1 + line.data_bits]
        if line.first_bit == "msb":
            data = data[::-1]
        value = sum(one << place for place, one in enumerate(data))
        faults = 0
        ones = sum(data)
        if line.has_parity:
            expected = {"E": ones % 2, "O": 1 - ones % 2, "M": 1, "S": 0}[line.parity]
            faults |= lr.Fault.PARITY if bits[stop - 1] != expected else 0
        if not bits[stop]:
            faults |= lr.Fault.FRAMING
        if not any(bits):
            faults = lr.Fault.BREAK
        if any(noisy):
            faults |= lr.Fault.NOISE
        last_known = trace.end
        if last_known is None and trace.last_level != idle:
            last_known = edges[-1]
        if last_known is None or free <= last_known:
            rows.append((start, value, int(faults)))
    return rows, false_starts


def slow_crc(data, width, poly, init, reflect_in, reflect_out, final_xor):
    """Divide bit by bit, as the definition of a CRC says."""
    register = init
    for byte in data:
        for place in range(8):
            bit = byte >> (place if reflect_in else 7 - place) & 1
            top = register >> (width - 1) & 1
            register = register << 1 & ((1 << width) - 1)
            if top ^ bit:
                register ^= poly
    if reflect_out:
        register = sum((register >> place & 1) << (width - 1 - place) for place in range(width))
    return register ^ final_xor


def slow_bits(frame, first_bit, bits, packing):
    """Take bits out of a frame one by one."""
    value = 0
    for place in range(bits):
        byte, within = divmod(first_bit + place, 8)
        if packing == "lsb":
            value |= (frame[byte] >> within & 1) << place
        else:
            value = value << 1 | (frame[byte] >> (7 - within) & 1)
    return value


def slow_number(frame, slot, place, packing):
    """Read one item of a field by what its order, its coding and its digits are said to mean."""
    bits = slow_bits(frame, slot.first_bit + place * slot.bits, slot.bits, packing)
    if slot.order is not None:
        low, size = (slot.first_bit + place * slot.bits) // 8, slot.bits // 8
        data = frame[low : low + size]
        words = [data[at : at + 2] for at in range(0, size, 2)]
        if slot.order == "big-low-word-first":
            data = b"".join(reversed(words))
        elif slot.order == "little-high-word-first":
            data = b"".join(word[::-1] for word in words)
        bits = int.from_bytes(data, "little" if slot.order == "little" else "big")
    if slot.kind == "bcd":
        return int("".join(f"{bits >> 4 * digit & 15}" for digit in reversed(range(slot.bits // 4))))
    if slot.kind != "int":
        return bits
    negative, rest = bits >> slot.bits - 1, bits & (1 << slot.bits - 1) - 1
    if slot.field.coding == "sign-magnitude":
        return -rest if negative else rest
    if slot.field.coding == "offset-binary":
        return bits - (1 << slot.bits - 1)
    return rest - (1 << slot.bits - 1) if negative else rest


def slow_frames(data, layout, is_genuine, is_right):
    """Cut frames by marker, one candidate after the other, as the module `frames` says in words.

    Return the offsets of the frames, and the stretches between them as (offset, length).
    """
    marker, length, total = layout.marker, layout.length, len(data)

    def stands(place):
        return data[place : place + len(marker)] == marker

    def follows(place):
        return place + length == total or stands(place + length)

    def confirmed(place):
        if not stands(place) or place + length > total or not is_genuine(data[place : place + length]):
            return False
        return is_right(data[place : place + length]) if layout.checksum else follows(place)

    frames, stretches, place, open_since = [], [], 0, 0
    while place < total:
        take = False
        if stands(place) and place + length <= total:
            take = confirmed(place)
            lonely = layout.checksum is None and is_genuine(data[place : place + length])
            if not take and (follows(place) or lonely):
                take = not any(confirmed(inside) for inside in range(place + 1, place + length))
        if take:
            if open_since < place:
                stretches.append((open_since, place - open_since))
            frames.append(place)
            place += length
            open_since = place
        else:
            place += 1
    if open_since < total:
        stretches.append((open_since, total - open_since))
    return frames, stretches


def slow_differences(sent, received):
    """Return the fewest losses, changes and additions that turn one into the other, and of those the fewest losses."""
    row = [(place, 0, 0, place) for place in range(len(received) + 1)]  # differences, lost, changed, extra
    for done, wanted in enumerate(sent, 1):
        above, row = row, [(done, done, 0, 0)]
        for place, got in enumerate(received, 1):
            differs = wanted != got
            ways = [
                (above[place - 1], (differs, 0, differs, 0)),
                (above[place], (1, 1, 0, 0)),
                (row[-1], (1, 0, 0, 1)),
            ]
            row.append(min(tuple(map(sum, zip(before, step, strict=True))) for before, step in ways))
    return row[-1][1:]


def slow_unstuffed(raw, stuffing):
    """Undo escapes byte by byte; None where no sender can have made this."""
    out, place = bytearray(), 0
    while place < len(raw):
        if raw[place] == stuffing.escape:
            place += 1
            if place == len(raw) or stuffing.behind[raw[place]] < 0:
                return None
            out.append(stuffing.behind[raw[place]])
        else:
            out.append(raw[place])
        place += 1
    return bytes(out)


def slow_cobs(raw):
    """Follow the code bytes; None where they do not lead to the end."""
    out, place = bytearray(), 0
    while place < len(raw):
        code, block = raw[place], raw[place + 1 : place + raw[place]]
        if code == 0 or len(block) < code - 1:
            return None
        out += block
        place += code
        if code < 255 and place < len(raw):
            out.append(0)
    return bytes(out)


def slow_packets(data, boundary, rests=(), breaks=(), marks=()):
    """Cut at delimiters, one byte after the other: rows of offset, length, content as it came, and what it is.

    What it is: "whole", "outside" of any packet, "truncated" by the beginning of the next, or "unfinished".
    """
    kind, rows, begin, inner, place, is_open = boundary.kind, [], 0, 0, 0, True
    if kind in ("idle", "break", "address-mark"):
        opens = sorted({"idle": {0, *rests}, "break": set(breaks), "address-mark": set(marks)}[kind])
        for first, behind in zip([0, *opens], [*opens, len(data)], strict=True):
            if behind > first:
                is_outside = first not in opens
                inner = first + (kind == "break" and not is_outside)
                rows.append((first, behind - first, data[inner:behind], "outside" if is_outside else "whole"))
        return rows
    stuffing = boundary.stuffing if kind in ("slip", "hdlc", "escape") else None
    tells_apart = stuffing is not None and not stuffing.is_closed_by_begin
    is_open = not tells_apart
    while place < len(data):
        width, is_begin = 0, False
        if kind == "terminator":
            width = max((len(one) for one in boundary.every if data[place : place + len(one)] == one), default=0)
        elif kind == "cobs":
            width = int(data[place] == 0)
        elif len(stuffing.end) == 1:
            width, is_begin = int(data[place] in stuffing.plain), data[place : place + 1] == stuffing.begin
        elif data[place] == stuffing.escape and place + 1 < len(data):
            width = 2
            is_begin = tells_apart and data[place : place + 2] == stuffing.begin
            if data[place : place + 2] not in (stuffing.begin, stuffing.end):
                place += 2
                continue
        if not width:
            place += 1
            continue
        closes_here = not (tells_apart and is_begin)
        end = place + width if closes_here else place
        state = "outside" if not is_open else "whole" if closes_here else "truncated"
        if end > begin:
            rows.append((begin, end - begin, data[inner:place], state))
        place += width
        begin, inner, is_open = end, place, not tells_apart or is_begin
    if begin < len(data):
        rows.append((begin, len(data) - begin, data[inner:], "unfinished" if is_open else "outside"))
    return rows


def slow_fit(content, layout):
    """Tell whether the fields of a layout add up to some bytes, hold its fixed values, and have a right checksum."""
    try:
        shape = layout.shape_of(content)
    except lr.RequestError:
        return False, False, False
    if shape.length != len(content) or len(content) > layout.longest:
        return False, False, False
    boundary = layout.boundary
    if boundary.kind == "length-field":
        field = shape.slot[boundary.field]
        counted = slow_number(content, field, 0, layout.packing) - boundary.offset
        before = 0 if boundary.counts == "all" else field.end_bit // 8
        behind = 0
        if boundary.counts == "payload" and shape.checksum_slot:
            behind = len(content) - shape.checksum_slot.first_bit // 8
        if counted + before + behind != len(content):
            return False, False, False
    fixed_values_ok = content.startswith(layout.marker) and content.endswith(layout.end_marker)
    for slot in shape.slots:
        wanted = slot.value if slot.field is None else slot.field.equals
        for item in range(slot.count if wanted is not None else 0):
            fixed_values_ok &= slow_bits(content, slot.bit_of(item), slot.bits, layout.packing) == wanted
    right = True
    if layout.checksum:
        begin, end = shape.covered
        right = [layout.checksum.method.of(content[begin:end])] == layout.peek(content, shape.checksum_slot.name)
    return True, fixed_values_ok, right


def slow_claim(data, layout):
    """Return how long the frame is that a length field claims, at least; None where it cannot be that long."""
    boundary, field = layout.boundary, layout.slot[layout.boundary.field]
    if len(data) < field.end_bit // 8:
        return layout.shortest
    counted = slow_number(data, field, 0, layout.packing) - boundary.offset
    before = 0 if boundary.counts == "all" else field.end_bit // 8
    behind = layout.checksum.method.width // 8 if boundary.counts == "payload" and layout.checksum else 0
    claimed = counted + before + behind
    return claimed if layout.shortest <= claimed <= layout.longest else None


def slow_varying(data, layout):
    """Cut frames that tell their length themselves, trying every length at every place; as `slow_frames` otherwise.

    A frame of some length is one that `slow_fit` takes; a layout fits at a place with one length at most.
    """
    total, marker = len(data), layout.marker

    def fits_at(place):
        tried = ((length, slow_fit(data[place : place + length], layout)) for length in range(1, total - place + 1))
        return [(length, fixed_values_ok, right) for length, (fits, fixed_values_ok, right) in tried if fits]

    known = {place: fits_at(place) for place in range(total) if data[place : place + len(marker)] == marker}
    assert all(len(one) <= 1 for one in known.values())

    def follows(end):
        return end == total or data[end : end + len(marker)] == marker

    def confirmed(place):
        return any(
            fixed_values_ok and (right if layout.checksum else follows(place + length))
            for length, fixed_values_ok, right in known.get(place, [])
        )

    def is_unfinished(place):
        """Return whether a length field claims more than there is, where no marker shows that a frame begins."""
        if marker or layout.boundary.kind != "length-field" or any(confirmed(one) for one in range(place + 1, total)):
            return False
        claimed = slow_claim(data[place:], layout)
        return claimed is not None and place + claimed > total

    frames, place = [], 0
    while place < total:
        take = 0
        if not known.get(place) and is_unfinished(place):
            break
        for length, fixed_values_ok, _ in known.get(place, []):
            if confirmed(place) or (follows(place + length) or (fixed_values_ok and not layout.checksum)):
                inside = any(confirmed(one) for one in range(place + 1, place + length))
                take = length if confirmed(place) or not inside else 0
                take = take if marker or layout.checksum or fixed_values_ok else 0
        if take:
            frames.append((place, take))
        place += take or 1
    return frames
