"""A dialogue: requests, and the replies that must come to them, in order and in time."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Literal

from larkreader.declare.frame.layout import FrameLayout
from larkreader.declare.run.exchange import Exchange, TextReply, bytes_of, text_of_bytes
from larkreader.decode.cut.frames import read_frames
from larkreader.errors import RequestError, nearest
from larkreader.exercise.payload.typed_input import frame_of, hex_of
from larkreader.exercise.ports.borrowed import as_port
from larkreader.exercise.ports.port import Port

from .reply_search import Found, FrameWatch, first_that_fits, unmet

WRITE_LIMIT_S = 10.0  # for what is sent, beyond the time of the line
MOST_HELD = 1 << 16  # characters that are searched for a reply; older characters are given up
LOOK_S = 0.05  # how long a wait lasts at most before what was received is looked at again
SHOWN = 64  # characters of what was received that are shown

_NAMED = re.compile(r"\{\{|\}\}|\{(\w+)\}")


@dataclass(frozen=True)
class StepResult:
    """The result of a step.

    Parameters
    ----------
    name : str
        The step, with its turn where it is done several times.
    outcome : {"pass", "fail", "skipped"}
        ``"skipped"``: never begun, or optional and without its reply.
    why : str
        Why it did not pass, in a line.
    sent, got, passed_over : bytes
        What was sent, what fitted, and what was received before that; or, if nothing fitted, everything that was
        received.
    values : mapping of str to value
        What was kept of the reply.
    awaited : str
        What must come, as it is written.
    duration_s : float
        From the sending, or from the beginning of the wait, to the reply or the end, in seconds on the port's clock.
    tries : int
        How often it was tried.
    """

    name: str
    outcome: Literal["pass", "fail", "skipped"]
    why: str = ""
    sent: bytes = b""
    got: bytes = b""
    passed_over: bytes = b""
    values: Mapping[str, Any] = field(default_factory=dict)
    awaited: str = ""
    duration_s: float = 0.0
    tries: int = 0

    def detail(self) -> str:
        """Say at length what was sent, what was expected, and what was received."""
        rows = []
        if self.sent:
            rows.append(f"sent      {_both(self.sent)}")
        if self.awaited:
            rows.append(f"expected  {self.awaited}")
        if self.got:
            rows.append(f"received  {_both(self.got)}")
        if self.passed_over:
            rows.append(f"{'before it' if self.got else 'received '} {_both(self.passed_over)}")
        elif self.awaited and not self.got:
            rows.append("received  nothing")
        if self.values:
            rows.append("kept      " + ", ".join(f"{name} = {value}" for name, value in self.values.items()))
        return "\n".join(rows)

    def to_dict(self) -> dict[str, Any]:
        """Return the step as JSON has it."""
        return {
            "name": self.name,
            "outcome": self.outcome,
            "why": self.why,
            "sent": self.sent.hex(" "),
            "awaited": self.awaited,
            "got": self.got.hex(" "),
            "passed_over": self.passed_over.hex(" "),
            "values": dict(self.values),
            "duration_s": round(self.duration_s, 9),
            "tries": self.tries,
        }


@dataclass(frozen=True)
class DialogueResult:
    """The result of a dialogue.

    Parameters
    ----------
    steps : tuple of StepResult
        In their order; those that were never begun too.
    values : mapping of str to value
        All that was kept.
    interrupted : bool
        Whether it was interrupted.
    """

    steps: tuple[StepResult, ...]
    values: Mapping[str, Any]
    interrupted: bool = False

    @property
    def verdict(self) -> Literal["pass", "fail"]:
        """``"pass"`` if no step failed, and none was left out."""
        return "fail" if self.interrupted or any(step.outcome == "fail" for step in self.steps) else "pass"

    def to_dict(self) -> dict[str, Any]:
        """Return the result as JSON has it."""
        steps = [step.to_dict() for step in self.steps]
        return {
            "verdict": self.verdict,
            "interrupted": self.interrupted,
            "values": dict(self.values),
            "steps": steps,
        }


def run_dialogue(
    ports: Port | Any | Mapping[str, Port],
    exchanges: Sequence[Exchange],
    layouts: Mapping[str, FrameLayout] | None = None,
    *,
    continue_on_failure: bool = False,
    on_step: Callable[[StepResult], None] | None = None,
) -> DialogueResult:
    r"""Hold a dialogue.

    Parameters
    ----------
    ports : Port, any object with ``read`` and ``write``, or mapping of str to Port
        Where; by name where there are several. Steps that name none are at the first.
    exchanges : sequence of Exchange
        Its steps.
    layouts : mapping of str to FrameLayout, optional
        The frames that they send and expect.
    continue_on_failure : bool
        Whether the steps behind one that failed are done too.
    on_step : callable, optional
        Called with the result of each step.

    Returns
    -------
    DialogueResult
        A missing reply never raises; it is a result. Ctrl-C ends the dialogue and is not an exception either: the step
        fails, those behind it are skipped, and `interrupted` is true.

    Raises
    ------
    RequestError
        If a step names a port, a frame, a field or a value that there is not.
    PortError
        If a port is gone, or takes nothing.

    Examples
    --------
    >>> steps = [lr.Exchange(send=r"flow 12.5\n", expect=r"ok: flow {flow:number}\n", where={"flow": [12, 13]})]
    >>> result = lr.run_dialogue(lr.SimulatedPort(lr.LineSettings(), lambda data: b"ok: " + data), steps)
    >>> result.verdict, result.values
    ('pass', {'flow': '12.5'})
    """
    named = {"": as_port(ports)} if not isinstance(ports, Mapping) else dict(ports)
    talk = _Dialogue(named, layouts or {})
    for exchange in exchanges:
        talk.check(exchange)
    steps: list[StepResult] = []
    todo = [(exchange, turn) for exchange in exchanges for turn in range(1, exchange.times + 1)]
    interrupted = has_failed = False
    for number, (item, turn) in enumerate(todo):
        name = item.title + (f" ({turn} of {item.times})" if item.times > 1 else "")
        if (has_failed and not continue_on_failure) or interrupted:
            why = "interrupted before" if interrupted else "a step before failed"
            steps += [StepResult(each.title, "skipped", why, awaited=each.awaited) for each, _ in todo[number:]]
            break
        try:
            result = talk.do(item, name, turn)
        except KeyboardInterrupt:
            interrupted = True
            result = StepResult(name, "fail", "it was interrupted", awaited=item.awaited)
        has_failed = has_failed or result.outcome == "fail"
        steps.append(result)
        if on_step is not None:
            on_step(result)
    return DialogueResult(tuple(steps), dict(talk.values), interrupted)


class _Dialogue:
    """The ports, what was received at each and was not used, and what was kept."""

    def __init__(self, ports: Mapping[str, Port], layouts: Mapping[str, FrameLayout]) -> None:
        self._ports, self._layouts = ports, layouts
        self._held = {name: bytearray() for name in ports}
        self.values: dict[str, Any] = {}

    def check(self, exchange: Exchange) -> None:
        """Raise `RequestError` if a step cannot be done."""
        for name in (exchange.at, exchange.expect_at):
            if name is not None and name not in self._ports and len(self._ports) > 1:
                raise RequestError(f'port "{name}"', "is not open here", advice=nearest(name, list(self._ports)))
        for key in (exchange.send_frame, exchange.expect_frame):
            if key is not None and key not in self._layouts:
                raise RequestError(f'frame "{key}"', "is not known", advice=nearest(key, list(self._layouts)))
        if exchange.expect_frame is not None:
            known = list(self._layouts[exchange.expect_frame].slot)
            for name in (*exchange.where, *exchange.keep):
                if name not in known:
                    found = f"is not a field of {exchange.expect_frame}"
                    raise RequestError(f'field "{name}"', found, advice=nearest(name, known))

    def do(self, exchange: Exchange, name: str, turn: int) -> StepResult:
        """Do a step."""
        at = self._name_of(exchange.at)
        there = self._name_of(exchange.expect_at) if exchange.expect_at is not None else at
        port, back = self._ports[at], self._ports[there]
        if exchange.pause_s:
            self._gather(there, back.now_s() + exchange.pause_s)
        sent, why, found, arrived = b"", "", Found(), b""
        tries = 0
        begin_s = back.now_s()
        for tries in range(1, exchange.retries + 2):
            sent = self._message(exchange, (turn - 1) + tries)
            if sent and tries == 1:
                self._held[there].clear()  # what was received before does not answer this
                self._take(there, 0.0)
                self._held[there].clear()
            begin_s = back.now_s()
            if sent:
                port.write(sent, WRITE_LIMIT_S + (len(sent) / port.line.characters_per_second if port.line else 0.0))
            if not exchange.awaited:
                return StepResult(name, "pass", sent=sent, tries=tries)
            found, is_refused = self._await(exchange, there, begin_s + exchange.within_s)
            if found.end >= 0:
                break
            arrived, why = found.received, found.why
            if exchange.retry_on is not None and not is_refused:
                break
        took_s = back.now_s() - begin_s
        if found.end < 0:
            self._held[there].clear()
            result = why or (
                f"nothing fits within {_time(exchange.within_s)}"
                if arrived
                else f"nothing within {_time(exchange.within_s)}"
            )
            result += f", {tries} times" if tries > 1 else ""
            if not why and exchange.expect is not None and (fits := exchange.reply.fits_as_far_as(arrived)):
                result += f'; fits as far as "{text_of_bytes(fits[0])}", expected {fits[1]} next'
            outcome: Literal["skipped", "fail"] = "skipped" if exchange.optional else "fail"
            return StepResult(name, outcome, result, sent, b"", arrived, {}, exchange.awaited, took_s, tries)
        before, got = found.received[: found.begin], found.received[found.begin : found.end]
        del self._held[there][: found.end]
        if exchange.strict and before:
            result = f"{len(before):,} other characters before it"
            return StepResult(name, "fail", result, sent, got, before, found.values, exchange.awaited, took_s, tries)
        self.values.update(found.values)
        return StepResult(name, "pass", "", sent, got, before, found.values, exchange.awaited, took_s, tries)

    def _name_of(self, name: str | None) -> str:
        return name if name in self._ports and name is not None else next(iter(self._ports))

    def _message(self, exchange: Exchange, number: int) -> bytes:
        """Return what a step sends."""
        if exchange.send is not None:
            return bytes_of(self._filled(exchange.send, number, is_text=True))
        if exchange.send_hex is not None:
            return hex_of(self._filled(exchange.send_hex, number))
        if exchange.send_frame is None:
            return b""
        fields = []
        for key, value in exchange.values.items():
            items = value if isinstance(value, list) else [value]
            fields.append(f"{key}=" + ",".join(self._filled(str(item), number) for item in items))
        return frame_of(self._layouts[exchange.send_frame], fields, number - 1)

    def _filled(self, text: str, number: int, *, is_text: bool = False) -> str:
        """Put what was kept in its place."""

        def value(match: re.Match[str]) -> str:
            if match[0] in ("{{", "}}"):
                return match[0][0]
            name = match[1]
            if name == "n":
                return str(number)
            if name not in self.values:
                found = "has not been kept by an earlier step"
                raise RequestError(f"{{{name}}}", found, advice=nearest(name, list(self.values)))
            kept = str(self.values[name])
            return kept.replace("\\", "\\\\") if is_text else kept

        return _NAMED.sub(value, text)

    def _gather(self, name: str, until_s: float) -> None:
        """Take in what arrives until a time."""
        port = self._ports[name]
        while (remaining := until_s - port.now_s()) > 0:
            self._take(name, remaining)

    def _take(self, name: str, limit_s: float) -> bytes:
        some = self._ports[name].read_some(4096, limit_s).data
        held = self._held[name]
        held += some
        del held[:-MOST_HELD]
        return some

    def _await(self, exchange: Exchange, name: str, deadline: float) -> tuple[Found, bool]:
        """Wait for what fits; return it, and whether instead the text arrived upon which it is tried again."""
        port, refused = self._ports[name], TextReply(exchange.retry_on) if exchange.retry_on is not None else None
        watch = None if exchange.expect_frame is None else FrameWatch(exchange, self._layouts[exchange.expect_frame])
        held, new, is_quiet = self._held[name], bytes(self._held[name]), False
        is_sought, found = False, Found()
        while True:
            remaining = deadline - port.now_s()
            if watch is None or is_quiet or remaining <= 0:
                if not is_sought:
                    found, is_sought = self._find(exchange, bytes(held)), True
            elif new:
                found = watch.feed(new, len(held))
            found.received = bytes(held)
            if found.end >= 0:
                return found, False
            if new and refused is not None and (match := refused.expression.search(held.decode("latin-1"))):
                found.why = f'"{exchange.retry_on}" received instead'
                del held[: match.end()]
                return found, True
            if remaining <= 0:
                return found, False
            new = self._take(name, min(remaining, max(LOOK_S, remaining / 4)))
            is_quiet, is_sought = not new, is_sought and not new

    def _find(self, exchange: Exchange, held: bytes) -> Found:
        """Find what fits in what was received."""
        if exchange.expect_frame is not None:
            return self._find_frame(exchange, self._layouts[exchange.expect_frame], held)
        if exchange.expect_hex is not None:
            pairs = re.findall("..", re.sub(r"\s", "", exchange.expect_hex))
            expression = b"".join(b"." if pair == "??" else re.escape(bytes.fromhex(pair)) for pair in pairs)
            match = re.search(expression, held, re.DOTALL)
            return Found(match.start(), match.end()) if match else Found()
        why = ""
        for text in exchange.reply.expression.finditer(held.decode("latin-1")):
            values = {key: value.encode("latin-1").decode(errors="replace") for key, value in text.groupdict().items()}
            why = unmet(exchange, values)
            if not why:
                return Found(text.start(), text.end(), values)
        return Found(why=why)

    def _find_frame(self, exchange: Exchange, layout: FrameLayout, held: bytes) -> Found:
        return first_that_fits(exchange, read_frames(held, layout))


def _both(data: bytes) -> str:
    """Write bytes in hexadecimal, and as text where they are some."""
    shown = data[:SHOWN]
    more = f" and {len(data) - SHOWN:,} more" if len(data) > SHOWN else ""
    text = shown.decode("ascii", "replace")
    printable = all(item.isprintable() or item in "\r\n\t" for item in text) and "\ufffd" not in text
    return f"{shown.hex(' ').upper()}{more}" + (f"  {text!r}" if printable else "")


def _time(seconds: float) -> str:
    return f"{seconds:g} s" if seconds >= 1 else f"{seconds * 1e3:g} ms"
