"""VCD files (IEEE 1364-2005, clause 18): the level changes of their signals, piece by piece."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import closing
from dataclasses import replace

from larkreader.capture.trace import Trace

from .content import Content
from .levels import TraceBuilder
from .vcd_header import read_header
from .vcd_scan import Scan
from .vcd_workers import VcdStretches

PIECE = 1 << 23  # bytes of which a piece is made


def vcd_pieces(file: Content, signals: Sequence[str]) -> Iterator[dict[str, Trace]]:
    """Read the level changes of some signals of a VCD file, piece by piece.

    Parameters
    ----------
    file : Content
        At its beginning.
    signals : sequence of str
        Which signals, by their full names or as much of their ends as makes them unique.

    Yields
    ------
    dict of str to Trace
        What happened next, for each of `signals`, or for none as long as its level is not known. A signal that is
        undefined (x) or undriven (z) for a while keeps its level there, and the trace says so in ``unknown``. The end
        of recording is known where the file closes with a time of its own. A file that is cut off is read as far
        as it goes, and the last piece says so in ``truncated``.

    Raises
    ------
    CaptureError
        If the file is not a VCD file, is damaged, or lacks a signal.
    """
    header = read_header(file)
    wanted = {signal: header.find(signal, file.name) for signal in signals}
    scan = Scan(file.name, list(wanted.values()), file.tell())
    builders = [TraceBuilder(header.tick_s, signal) for signal in wanted]
    codes = [variable.code for variable in header.variables.values()]
    read, truncated = 0, ""
    stretches = VcdStretches(file, scan)
    with closing(iter(stretches)) as sizes:
        for size, rest in sizes:
            if rest:  # the last word of the file may not be whole
                whole, truncated = _whole_words(rest, codes, scan.time)
                scan.feed(whole)
            read += size
            if read >= PIECE:
                read = 0
                for builder, result in zip(builders, scan.taken(), strict=True):
                    builder.add(*result)
                pieces = [builder.piece(scan.begin or 0, scan.time) for builder in builders]
                yield {signal: piece for signal, piece in zip(wanted, pieces, strict=True) if piece is not None}
    for builder, result in zip(builders, scan.taken(), strict=True):
        builder.add(*result)
    truncated = truncated or stretches.truncated or scan.truncated or file.truncated
    is_known = scan.ends_with_time or bool(truncated)
    last = [builder.last(scan.begin or 0, scan.time, end_is_known=is_known) for builder in builders]
    yield {signal: replace(piece, truncated=truncated) for signal, piece in zip(wanted, last, strict=True)}


def _whole_words(text: bytes, codes: Sequence[bytes], now: int) -> tuple[bytes, str]:
    """Leave out the last word of a file that does not end with white space, unless it is surely whole.

    Return what is left, and what was found. A time that breaks off is still one until which recording went on.
    """
    *before, last = text.rsplit(None, 2)
    times = [word for word in text.split()[:-1] if word[:1] == b"#" and word[1:].isdigit()]
    if last[:1] == b"#" and last[1:].isdigit():
        reached = (times[-1][1:] if times else b"%d" % now).lstrip(b"0")
        digits = last[1:].lstrip(b"0")
        if (len(digits), digits) >= (len(reached), reached):  # numbers of any length
            return text, ""
    follows_value = bool(before) and before[-1][:1] in b"bBrRsS"
    code = last if follows_value else last[1:] if last[:1] in b"01xXzZ" else b""
    if code in codes and not any(item != code and item.startswith(code) for item in codes):
        return text, ""
    if last == b"$end":
        return text, ""
    cut = text[: text.rfind(last)].rstrip()
    if follows_value:
        cut = cut[: cut.rfind(before[-1])].rstrip()
    return cut + b"\n", f'it ends within "{last.decode("latin-1")[:40]}"'
