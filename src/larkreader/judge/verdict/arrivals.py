"""What strikes the eye in characters that arrived at a port."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from larkreader.capture.characters import Characters
from larkreader.declare.link.line import LineSettings
from larkreader.judge.findings.finding import Finding
from larkreader.judge.wire.text_checks import judge_exchanges, judge_no_text, judge_text

from .startup import find_startup


def judge_arrivals(
    wire: str,
    characters: Characters,
    *,
    line: LineSettings | None,
    slack_s: float | None,
    framed: bool,
    ending: str | None,
    as_text: bool,
    exchanges: Sequence[tuple[bytes, bytes]] = (),
) -> Iterator[Finding]:
    """Yield what strikes the eye in what arrived.

    Parameters
    ----------
    wire : str
        The wire.
    characters : Characters
        What arrived, with the times of arrival.
    line : LineSettings, optional
        The settings of the port.
    slack_s : float, optional
        How far times of arrival may be off, in seconds; without it nothing is concluded about how the wire began.
    framed : bool
        Whether the wire carries declared frames.
    ending : str or None
        The declared ending of lines.
    as_text : bool
        Whether it is shown as lines of text.
    exchanges : sequence of tuple of bytes and bytes
        What was sent, with what arrived before the next.
    """
    startup = find_startup(characters, line, slack_s=slack_s) if slack_s is not None and line is not None else None
    if startup is not None:
        yield startup.finding(wire, characters)
    if not framed:
        yield from judge_text(wire, characters, ending, begin=0 if startup is None else startup.count)
    if as_text:
        yield from judge_no_text(wire, characters)
    if exchanges:
        yield from judge_exchanges(wire, exchanges)
