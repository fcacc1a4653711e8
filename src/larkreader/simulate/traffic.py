"""The characters that declared traffic puts on a wire, when all of it begins at once."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters
from larkreader.declare.document.sheet import Sheet
from larkreader.declare.link.end import Traffic

from .buffers import characters_at

Seconds = npt.NDArray[np.float64]
Counts = npt.NDArray[np.int64]
LONGEST_S = 3600.0
MOST_CHARACTERS = 20_000
PERIODS = 2
LETTER = b"\x41"  # what a message is filled with


def traffic_messages(
    sheet: Sheet, wire: str, *, span_s: float | None = None, most: int = MOST_CHARACTERS
) -> tuple[Seconds, Counts]:
    """Return which messages declared traffic asks a wire to carry.

    All of them are to begin at 0, the worst moment of all, and again after their periods.

    Parameters
    ----------
    sheet : Sheet
        What was declared; its ``[[traffic]]`` counts.
    wire : str
        The wire.
    span_s : float, optional
        Of how many seconds; twice the longest period by default.
    most : int
        How many characters at most: whole messages, or as much of the first message.

    Returns
    -------
    ndarray of float64, shape (n_messages,)
        When each is to be sent, in seconds, ascending.
    ndarray of int64, shape (n_messages,)
        How many characters each has.
    """
    messages = _messages(sheet, wire, span_s, most)
    return np.array([at for at, _, _ in messages]), np.array([len(content) for _, _, content in messages], np.int64)


def traffic_characters(
    sheet: Sheet, wire: str, *, span_s: float | None = None, most: int = MOST_CHARACTERS
) -> tuple[Characters, Counts]:
    """Make the characters that declared traffic puts on a wire, one message behind the other.

    Parameters
    ----------
    sheet : Sheet
        As of `traffic_messages`.
    wire : str
        As of `traffic_messages`.
    span_s : float, optional
        As of `traffic_messages`.
    most : int
        As of `traffic_messages`.

    Returns
    -------
    Characters
        In order of time; none if the sheet declares no traffic on the wire.
    ndarray of int64, shape (n_messages,)
        Number of the first character of each message.
    """
    line = sheet.wire[wire].line
    messages = _messages(sheet, wire, span_s, most)
    lengths = np.array([len(content) for _, _, content in messages], dtype=np.int64)
    wanted_s = np.repeat([at for at, _, _ in messages], lengths).astype(np.float64)
    place_s = np.arange(len(wanted_s)) * line.character_time_s
    begin_s = np.maximum.accumulate(wanted_s - place_s) + place_s if len(wanted_s) else wanted_s
    values = np.frombuffer(b"".join(content for _, _, content in messages), np.uint8)
    return characters_at(begin_s, values, line), np.cumsum(lengths) - lengths


def _messages(sheet: Sheet, wire: str, span_s: float | None, most: int) -> list[tuple[float, int, bytes]]:
    """Return when each message is to be sent, whose it is, and its characters, in order."""
    declared = [item for item in sheet.traffic if item.wire == wire]
    if span_s is None:
        span_s = min(PERIODS * max((item.every_s for item in declared), default=0.0), LONGEST_S)
    messages: list[tuple[float, int, bytes]] = []
    for order, item in enumerate(declared):
        content = _content(item, sheet)[:most]
        wanted = most // len(content) + 1  # messages; more are cut off below
        bursts = min(max(int(np.ceil(span_s / item.every_s - 1e-9)), 1), -(-wanted // item.burst))
        times = np.repeat(np.arange(bursts) * item.every_s, min(item.burst, wanted))
        messages += [(at, order, content) for at in times.tolist()]
    messages.sort(key=lambda message: message[:2])
    within = np.cumsum([len(content) for _, _, content in messages]) <= most
    return messages[: max(int(np.count_nonzero(within)), 1)]


def _content(traffic: Traffic, sheet: Sheet) -> bytes:
    """Return the characters of a message, with the delimiters that its boundary adds."""
    assert traffic.length is not None
    layout = sheet.frame.get(traffic.frame or "")
    content = LETTER * traffic.length
    return content if layout is None else layout.as_sent(content)
