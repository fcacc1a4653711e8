"""Which mistake in the settings turns what was sent into the received bytes, and what a message would look like.

There is no capture of the wire here, only the bytes that a receiver made of it. So both ends are simulated bit by bit:
the sender with each mistake in turn, the receiver as it is believed to be set.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from difflib import SequenceMatcher
from itertools import product
from math import ceil
from typing import Literal

import numpy as np

from larkreader.capture.characters import Characters
from larkreader.capture.trace import Trace
from larkreader.declare.frame.layout import FrameLayout
from larkreader.declare.link.line import LineSettings
from larkreader.decode.characters.receive import receive
from larkreader.decode.cut.frames import read_layouts
from larkreader.errors import RequestError

Expected = Literal["text", "counter"]
LOOKED_AT = 512  # bytes; more make no mistake likelier
TICKS_A_BIT = 48  # of the simulated wire, at the faster of the two bauds
LEAD = 12  # bit times of idle before the first character
MOST_GAP = 25  # bit times between characters that the receiver takes one by one, at the least
FACTORS = (1 / 12, 1 / 8, 1 / 6, 1 / 4, 1 / 3, 1 / 2, 2 / 3, 3 / 4, 4 / 3, 3 / 2, 2, 3, 4, 6, 8, 12)
CLOCK_OFFSETS = (0.0, -0.0005, 0.0005, -0.003, 0.003)  # of a sender that is a whole number of times faster
PERCENTS = (-8, -6, -5, -4, 4, 5, 6, 8)
FORMATS = ("8N1", "8E1", "8O1", "7E1", "7O1", "7N1", "8N2", "9N1")
LEAST_LIKENESS, LEAST_TEXT = 0.5, 0.65  # of an explanation worth telling, if what was sent is known, or is text
FEWEST_LETTERS = 5  # different letters, of a text
PRINTED = bytes([0x09, 0x0A, 0x0D, *range(0x20, 0x7F)])
USUAL = frozenset(b" etaoinshrdlu0123456789.,:=\r\n")  # what most texts are mostly made of


@dataclass(frozen=True)
class Garble:
    """What a mistake in the settings makes of a message.

    Parameters
    ----------
    mistake : str
        Of the sender, in words.
    sender, receiver : LineSettings
        What the two ends are set to.
    received : bytes
        What the receiver makes of the message.
    likeness : float
        How much of what was really received this explains, 0 to 1; 1 where nothing is compared.
    recovered : bytes
        What was sent, if the mistake can be undone; nothing if not.
    """

    mistake: str
    sender: LineSettings
    receiver: LineSettings
    received: bytes
    likeness: float = 1.0
    recovered: bytes = b""


def calculate_garbles(message: bytes, line: LineSettings) -> list[Garble]:
    r"""Show what a message would look like under each mistake.

    Parameters
    ----------
    message : bytes
        What is sent, without pauses.
    line : LineSettings
        What the receiver is set to.

    Returns
    -------
    list of Garble
        The first without a mistake.

    Raises
    ------
    RequestError
        If the line has nine data bits, which are not bytes.

    Examples
    --------
    >>> line = lr.LineSettings.parse("9600 8N1")
    >>> next(one.received for one in lr.judge.calculate_garbles(b"2 mL", line) if one.sender.format == "7E1")
    b'\xb2\xa0\xed\xcc'
    """
    _refuse_no_bytes(line)
    return [Garble(mistake, sender, line, _simulated(message, sender, line, 0)) for mistake, sender in _mistakes(line)]


def find_garble(
    received: bytes,
    line: LineSettings,
    sent: bytes | None = None,
    *,
    expect: Expected = "text",
    layouts: Sequence[FrameLayout] = (),
) -> list[Garble]:
    r"""Find which mistake in the sender's settings explains the received bytes.

    Parameters
    ----------
    received : bytes
        What was received.
    line : LineSettings
        What the receiver is set to.
    sent : bytes, optional
        What was sent.
    expect : {"text", "counter"}
        What is known of it, if it is not known itself: that it is text, or bytes that count upwards.
    layouts : sequence of FrameLayout
        The frames that were sent, if it is known that they were some; then it is not text.

    Returns
    -------
    list of Garble
        The likeliest first; only what explains half of it at the least.

    Raises
    ------
    RequestError
        If nothing was received, or the line has nine data bits, which are not bytes.

    Examples
    --------
    >>> line = lr.LineSettings.parse("9600 8N1")
    >>> result = lr.find_garble(b"flow\xa0\xb1\xb2.5\xa0\xed\xcc\xaf\xedi\xee", line)[0]
    >>> result.mistake, result.recovered
    ('7 data bits, even parity', b'flow 12.5 mL/min')
    """
    _refuse_no_bytes(line)
    if not received:
        raise RequestError("received", "is nothing", "must be the bytes that were received")
    arrived = received[:LOOKED_AT]
    if sent is None and expect == "counter":
        sent = bytes(range(256)) * 2
    found = []
    for mistake, sender in _mistakes(line):
        if sent is not None:
            best = _compared(arrived, sender, line, sent)
        else:
            best = _framed(arrived, sender, line, layouts) if layouts else _undone(arrived, sender, line)
        if best is not None and best[0] >= (LEAST_LIKENESS if sent is not None else LEAST_TEXT):
            likeness, predicted, recovered = best
            found.append(Garble(mistake, sender, line, predicted, likeness, recovered))
    return sorted(found, key=lambda item: -item.likeness)


def _mistakes(line: LineSettings) -> Iterator[tuple[str, LineSettings]]:
    """Yield what a sender may be set to by mistake, in words; first no mistake."""
    yield "none", line
    yield "inverted wire", line.model_copy(update={"idle": "low" if line.idle == "high" else "high"})
    other = "msb" if line.first_bit == "lsb" else "lsb"
    yield f"{'highest' if other == 'msb' else 'lowest'} bit first", line.model_copy(update={"first_bit": other})
    for factor in FACTORS:
        result = f"{factor:g} times" if factor >= 1 and factor == int(factor) else f"{factor:.3g} of"
        yield f"baud {result} the declared", line.model_copy(update={"baud": line.baud * factor})
    for percent in PERCENTS:
        yield f"baud {percent:+d} % off", line.model_copy(update={"baud": line.baud * (1 + percent / 100)})
    names = {"N": "no", "E": "even", "O": "odd"}
    for text in FORMATS:
        if text[:2] == line.format[:2]:
            continue
        sender = line.model_copy(update={"format": text})
        yield f"{sender.data_bits} data bits, {names[sender.parity]} parity", sender


def _simulated(message: bytes, sender: LineSettings, line: LineSettings, gap: int) -> bytes:
    """Return what the receiver makes of a message, with so many bit times of the sender between characters."""
    read = _received(message, sender, line, gap)
    return (read.value & 0xFF).astype(np.uint8).tobytes()


def _received(message: bytes, sender: LineSettings, line: LineSettings, gap: int) -> Characters:
    tick_s = 1 / max(sender.baud, line.baud) / TICKS_A_BIT
    return receive(_wire(message, sender, gap, tick_s, behind_s=2 * line.character_time_s), line)


def _alone(sender: LineSettings, line: LineSettings) -> int:
    """Return how many bit times of the sender leave the receiver idle again."""
    return max(MOST_GAP, ceil(1.5 * line.bits_per_character * sender.baud / line.baud))


def _wire(message: bytes, sender: LineSettings, gap: int, tick_s: float, behind_s: float) -> Trace:
    """Return the level changes of a sender that sends a message, with some time behind it."""
    bits = [_character(item, sender) for item in message]
    pause = [1] * gap
    levels = np.array([level for item in bits for level in (*item, *pause)], dtype=np.int8)
    idle = 1 if sender.idle == "high" else 0
    on_wire = levels if idle else 1 - levels
    bit = 1 / (sender.baud * tick_s)
    changes = np.flatnonzero(np.diff(on_wire, prepend=idle))
    edges = np.rint((changes + LEAD) * bit).astype(np.int64)
    end = int(np.ceil((len(levels) + LEAD) * bit + behind_s / tick_s))
    return Trace(edges, tick_s, idle, end=end)


def _character(value: int, line: LineSettings) -> list[int]:
    """Return the bits of a character, 1 for idle level: start, data, parity, stop."""
    data = [value >> place & 1 for place in range(line.data_bits)]
    if line.first_bit == "msb":
        data.reverse()
    ones = sum(data) & 1
    parity = {"N": [], "E": [ones], "O": [1 - ones], "M": [1], "S": [0]}[line.parity]
    return [0, *data, *parity, *([1] * (2 if line.stop_bits > 1 else 1))]


def _compared(
    arrived: bytes, sender: LineSettings, line: LineSettings, sent: bytes
) -> tuple[float, bytes, bytes] | None:
    """Return how much of what was received a mistake explains, given what was sent; with or without pauses."""
    best: tuple[float, bytes, bytes] | None = None
    ratio = sender.baud / line.baud
    some = sent[: LOOKED_AT * ceil(max(ratio, 1.0))]
    # The middle of the receiver's bits falls on edges of a sender that is an even number of times faster: what is read
    # there depends on the least difference of the clocks.
    offsets = CLOCK_OFFSETS if ratio > 1 and abs(ratio - round(ratio)) < 1e-9 else (0.0,)
    for gap, offset in product((0, _alone(sender, line)), offsets):
        actual = sender.model_copy(update={"baud": sender.baud * (1 + offset)})
        predicted = _simulated(some, actual, line, gap)
        same = sum(
            block.size for block in SequenceMatcher(None, predicted, arrived, autojunk=False).get_matching_blocks()
        )
        likeness = same / max(len(arrived), 1)
        if best is None or likeness > best[0]:
            best = (likeness, predicted, sent)
    return best


def _undone(arrived: bytes, sender: LineSettings, line: LineSettings) -> tuple[float, bytes, bytes] | None:
    """Return how much of what was received can be printed letters under a mistake, and the text that it would be.

    Each letter is sent by itself; what the receiver makes of it is looked for in what was received, the longest first.
    What could be anything counts for less: a mistake under which any byte is some letter, or many letters look the
    same, explains little.
    """
    letters = _shapes(sender, line, PRINTED)
    if not letters:
        return None
    longest = max(map(len, letters))
    text, explained, place = bytearray(), 0, 0
    while place < len(arrived):
        for size in range(longest, 0, -1):
            letter = letters.get(arrived[place : place + size], -1)
            if letter >= 0:
                text.append(letter)
                explained += size
                place += size
                break
        else:
            text.append(0x3F)
            place += 1
    chance = len({made[0] for made in letters if len(made) == 1}) / 256
    share = explained / len(arrived)
    usual = sum(letter in USUAL for letter in text) / len(text)
    likeness = max(share - chance, 0.0) / (1.01 - chance)
    likeness *= (0.5 + 0.5 * min(usual / 0.6, 1.0)) * (0.7 + 0.3 * len(letters) / len(PRINTED))
    likeness *= min(len(set(text)) / FEWEST_LETTERS, 1.0)  # one letter again and again is not text
    return min(likeness, 1.0), arrived, bytes(text)


def _framed(
    arrived: bytes, sender: LineSettings, line: LineSettings, layouts: Sequence[FrameLayout]
) -> tuple[float, bytes, bytes] | None:
    """Return the share of received bytes in good frames once a mistake is undone, if each byte keeps its own shape."""
    shapes = _shapes(sender, line, bytes(range(256)))
    if any(len(made) != 1 for made in shapes) or len(shapes) < min(256, 1 << sender.data_bits):
        return None
    undone = bytes(shapes.get(bytes([item]), item) for item in arrived)
    frames = read_layouts(undone, layouts).values()
    good = sum(int(frame.length[frame.faults == 0].sum()) for frame in frames)
    return good / len(arrived), arrived, undone


def _shapes(sender: LineSettings, line: LineSettings, letters: bytes) -> dict[bytes, int]:
    """Return what the receiver makes of each letter sent by itself; of letters that look the same, the usual letter."""
    sent = bytes(letter for letter in letters if letter < 1 << sender.data_bits)
    gap = _alone(sender, line)
    read = _received(sent, sender, line, gap)
    period_s = (len(_character(0, sender)) + gap) / sender.baud
    which = np.floor((read.begin_s * sender.baud - LEAD + 0.5) / (period_s * sender.baud)).astype(np.int64)
    shapes: dict[bytes, int] = {}
    for number, letter in enumerate(sent):
        made = (read.value[which == number] & 0xFF).astype(np.uint8).tobytes()
        if made and (made not in shapes or letter in USUAL):
            shapes[made] = letter
    return shapes


def _refuse_no_bytes(line: LineSettings) -> None:
    if line.data_bits > 8:
        raise RequestError("line", f"is {line}", "must have 8 data bits at most: there are bytes alone")
