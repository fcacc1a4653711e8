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


def slow_distance(sent, received):
    """Return the fewest changes, losses and additions that turn one into the other."""
    row = list(range(len(received) + 1))
    for done, wanted in enumerate(sent, 1):
        above, row = row, [done]
        for place, got in enumerate(received, 1):
            row.append(min(above[place - 1] + (wanted != got), above[place] + 1, row[place - 1] + 1))
    return row[-1]
