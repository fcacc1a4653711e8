"""What a person sees at first sight in characters: endings, echoes, digits, escape sequences.

None of it needs a layout. It is reported only where it is plain: text must look like text, and a pattern must run
through all that is there.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator, Sequence
from itertools import pairwise

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters, Fault
from larkreader.decode.characters.escapes import find_escapes, strip_escapes
from larkreader.judge.findings.finding import Finding, Places, make_finding, number_of

LOOKED_AT = 1 << 16  # characters; what is not plain in so many is not plain
LONGEST_MESSAGE = 4096  # characters of a message that is compared with its answer
FEWEST = 8  # characters from which anything can be concluded
SAMPLE = 512  # characters that are looked at to find whether they count
MOST_RISING = 0.7  # of the characters of a text that may be one more than the character before
TEXT_SHARE = 0.9  # of the characters that must be text
MOST_NULS = 0.2  # of the characters of a text
MOST_ESCAPES_NAMED = 4

_ENDING = re.compile(rb"(?:\r\r\n|\r\n|\n\r(?=(?:\n\r)*(?!\n))|\r|\n)\0*|\0+")  # LF CR, but not LF and then CR LF
LETTERS = bytes([0x08, 0x09, 0x0A, 0x0D, *range(0x20, 0x7F)])
_DIGITS = b"0123456789"
_AROUND_DIGITS = _DIGITS + b"+-.,;: \t\r\n\0"
_USUAL = ("LF", "CR LF")
Offsets = npt.NDArray[np.int64]


def ending_names(data: bytes) -> list[tuple[str, int]]:
    r"""Find the line endings of a text.

    Parameters
    ----------
    data : bytes
        The text.

    Returns
    -------
    list of tuple of str and int
        What each is made of, as ``"CR LF"`` or ``"CR LF NUL"``, and where it begins. Of several NULs one is named.
    """
    named = {0x0D: "CR", 0x0A: "LF"}
    return [
        (
            " ".join([named[item] for item in match.group() if item] + ["NUL"] * (0 in match.group())),
            match.start(),
        )
        for match in _ENDING.finditer(data)
    ]


def judge_text(wire: str, characters: Characters, ending: str | None = None, *, begin: int = 0) -> Iterator[Finding]:
    """Yield what strikes the eye in characters that are text: endings, doubling, escape sequences.

    Parameters
    ----------
    wire : str
        Where they were.
    characters : Characters
        What was there; a break is not part of the text.
    ending : str, optional
        The ending that is declared, as in `ending_names`; that of most lines by default.
    begin : int
        Where the text begins: behind what the wire did before its first idle time.
    """
    is_text_of = ~characters.has_fault(Fault.BREAK)
    is_text_of[:begin] = False
    offset = np.flatnonzero(is_text_of)[:LOOKED_AT]
    values = characters.value[offset]
    if len(values) and values.max() > 0xFF:
        return
    data = values.astype(np.uint8).tobytes()
    if not is_text(data):
        return
    known = [escape for escape in find_escapes(data) if escape.kind != "unfinished"]
    if not is_doubled(data):
        endings = _without_cut(ending_names(data), data, ending)
        yield from _judge_endings(wire, characters, offset, endings, ending)
    else:
        yield make_finding("doubled-characters", wire, Places.on(characters, offset[::2]))
    if known:
        often = Counter(map(str, known)).most_common(MOST_ESCAPES_NAMED)
        named = [f"{count} {name}" for name, count in often]
        places = Places.on(characters, offset[[item.offset for item in known]])
        yield make_finding("escape-sequence", wire, places, often=named)


def judge_no_text(wire: str, characters: Characters) -> Iterator[Finding]:
    """Yield the finding on a wire from which lines were expected and no text arrived."""
    data = characters.value[:LOOKED_AT].astype(np.uint8).tobytes()
    if len(data) >= FEWEST and not is_text(data):
        yield make_finding("no-text", wire, Places.on(characters, 0), begins=_shown(data))


def judge_no_frames(wire: str, characters: Characters) -> Iterator[Finding]:
    """Yield what strikes the eye where frames are declared and none was found."""
    data = characters.value[:LOOKED_AT].astype(np.uint8).tobytes()
    if len(data) >= FEWEST and not data.translate(None, _AROUND_DIGITS) and _share_of(data, _DIGITS) >= 0.5:
        example = " ".join(data[:24].decode("ascii").split())
        yield make_finding("digits-for-value", wire, Places.on(characters, np.arange(len(data))), begins=example)


def judge_exchanges(wire: str, exchanges: Sequence[tuple[bytes, bytes]]) -> Iterator[Finding]:
    """Yield what strikes the eye when what returned is compared with what was sent.

    Parameters
    ----------
    wire : str
        Of the answers.
    exchanges : sequence of tuple of bytes and bytes
        What was sent, and what returned before the next was sent.
    """
    rows: dict[str, list[int]] = {}
    first: dict[str, tuple[bytes, bytes]] = {}
    for row, (sent, received) in enumerate(exchanges):
        kind = _kind_of_exchange(sent, received)
        if kind:
            rows.setdefault(kind, []).append(row)
            first.setdefault(kind, (sent, received))
    answered = sum(1 for _, received in exchanges if received)
    for kind in rows:
        sent, received = first[kind]
        messages = {"sent": _shown(sent), "received": _shown(received)}
        yield make_finding(kind, wire, Places.at(row=np.array(rows[kind])), answers=answered, **messages)


def is_text(data: bytes) -> bool:
    """Return whether bytes are plainly text: letters, spaces and line endings, with escape sequences and some NULs."""
    if sum(following == item + 1 for item, following in pairwise(data[:SAMPLE])) > MOST_RISING * min(len(data), SAMPLE):
        return False  # a counter or a ramp passes through letters
    plain = strip_escapes(data)
    letters = plain.replace(b"\0", b"")
    if len(data) < FEWEST or len(plain) - len(letters) > MOST_NULS * len(plain):
        return False
    return len(letters.translate(None, LETTERS)) <= (1 - TEXT_SHARE) * len(letters)


def is_doubled(data: bytes) -> bool:
    """Return whether every character is received twice."""
    if len(data) < FEWEST or len(data) % 2 or data[0::2] != data[1::2] or len(set(data)) <= 2:
        return False
    single = data[0::2]  # runs of one character are of even length by chance
    return 2 * sum(item != other for item, other in pairwise(single)) >= len(single)


def _without_cut(endings: list[tuple[str, int]], data: bytes, declared: str | None) -> list[tuple[str, int]]:
    """Return line endings without the last, where the end of the capture may have cut it off."""
    if not endings or endings[-1][1] + len(endings[-1][0].split()) < len(data):
        return endings
    name, others = endings[-1][0], {ending for ending, _ in endings[:-1]} | ({declared} if declared else set())
    is_part = any(other.startswith(f"{name} ") for other in others) or (name == "CR" and not others)
    return endings[:-1] if is_part else endings


def _judge_endings(
    wire: str, characters: Characters, offset: Offsets, endings: list[tuple[str, int]], declared: str | None
) -> Iterator[Finding]:
    if not endings:
        return
    often = Counter(name for name, _ in endings)
    usual = declared or often.most_common(1)[0][0]
    odd = {name: count for name, count in often.items() if name != usual}
    if declared is None and usual not in _USUAL:
        odd = dict(often)
    if not odd:
        return
    yield make_finding(
        "undeclared-ending",
        wire,
        Places.on(characters, offset[[place for name, place in endings if name in odd]]),
        total=len(endings),
        endings=[f"{count:,} {name}" for name, count in odd.items()],
        expected=declared,
        usual=usual if declared is None and usual not in odd else None,
    )


def _kind_of_exchange(sent: bytes, received: bytes) -> str | None:
    """Name what is odd about what returned."""
    if not sent or not received or received == sent or len(sent) > LONGEST_MESSAGE:
        return None
    doubled = bytes(item for item in sent for _ in range(2))
    if received in (sent + sent, doubled):
        return "doubled-characters"
    bare = received.strip(b" \r\n\0")
    written = {
        sign.join(form(item) for item in sent).encode() for sign in ("", " ", ",") for form in (str, "{:02X}".format)
    }
    if sent.strip(_AROUND_DIGITS) and bare in written:
        return "digits-for-value"
    digits = sent.strip(b" \r\n\0")
    if digits.isdigit() and len(digits) < 4 and int(digits) < 0x100 and received == bytes([int(digits)]):
        return "value-for-digits"
    if len(received) > len(sent) and received.startswith(sent):
        return "echo"
    return None


def _share_of(data: bytes, letters: bytes) -> float:
    return 1 - len(data.translate(None, letters)) / len(data)


def _shown(data: bytes) -> str:
    """Write bytes as hexadecimal, the beginning of many."""
    return data[:8].hex(" ").upper() + (f" and {number_of(len(data) - 8, 'more byte')}" if len(data) > 8 else "")
