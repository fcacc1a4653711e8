"""The dosing rig's service traffic: the controller asks, the pump head answers, over one pair of wires.

Six seconds of both ends' outputs with a known list of faults: requests without an answer, damaged and late replies,
repeats, both ends speaking at once, a turn that is too short, a reply too many, a restart of the controller.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from larkreader.capture.characters import Fault
from larkreader.capture.files.vcd_writer import write_vcd
from larkreader.capture.trace import Trace
from larkreader.declare.document.sheet import Sheet
from larkreader.declare.document.sheet_file import SHIPPED, open_shipped_sheet

from .wires import Injected, Message, on_wire

SERVICE_FILE = SHIPPED / "service.toml"
ASKED = 50  # questions
PERIOD_S = 0.1
GIVES_UP_S = 0.04  # after which the controller repeats
RESTART, RESTART_S = 40, 0.8  # before which question the controller restarts, and how long that takes
BUSY, SPOILT_REQUEST, SPOILT_REPLY, LATE, COLLIDING, HASTY, TWICE = 11, 17, 23, (31, 44), 37, 46, 48
ITEMS = ("flow", "pressure", "temperature", "dosed")
END_S, HEALTHY_END_S = 6.0, 5.1


@dataclass(frozen=True)
class Service:
    """The service link with six seconds of its traffic.

    Parameters
    ----------
    sheet : Sheet
        The declared link.
    traces : mapping of str to Trace
        What each end sent, by the signal's name in the capture.
    injected : tuple of Injected
        The faults that were put there.
    latencies_s : tuple of float
        How long each reply took that answers a request, in order, in seconds.
    """

    sheet: Sheet
    traces: Mapping[str, Trace]
    injected: tuple[Injected, ...]
    latencies_s: tuple[float, ...]


class _Talk:
    """Puts questions and answers down, with the findings that must come out."""

    def __init__(self, sheet: Sheet, seed: int) -> None:
        self.sheet = sheet
        self.rng = np.random.default_rng(seed)
        self.asked: list[Message] = []
        self.answered: list[Message] = []
        self.latencies_s: list[float] = []
        line = sheet.line
        self.ask_s = sheet.frame["ask"].length * line.character_time_s
        self.answer_s = sheet.frame["answer"].length * line.character_time_s

    def ask(self, at_s: float, number: int, *marks: str) -> Message:
        """Ask, and return the question."""
        values = list(self.sheet.frame["ask"].encode({"number": number, "item": ITEMS[number % len(ITEMS)]}))
        self.asked.append(Message(at_s, values, marks=[(kind, 0) for kind in marks]))
        return self.asked[-1]

    def answer(self, asked: Message, number: int, after_s: float, *marks: str, counts: bool = True) -> Message:
        """Answer a question some time after its end, and return the answer."""
        item = ITEMS[number % len(ITEMS)]
        value = {"flow": 120.0, "pressure": 149.3, "temperature": 21.6, "dosed": 0.2 * number}[item]
        value += float(self.rng.normal(0, 0.4))
        values = list(self.sheet.frame["answer"].encode({"number": number, "item": item, "value": value}))
        at_s = asked.at_s + self.ask_s + after_s
        self.answered.append(Message(at_s, values, marks=[(kind, 0) for kind in marks]))
        if counts:
            self.latencies_s.append(after_s)
        return self.answered[-1]

    def again(self, asked: Message, number: int, *marks: str) -> Message:
        """Ask once more, when the controller gives up."""
        return self.ask(asked.at_s + self.ask_s + GIVES_UP_S, number, "repeated-request", *marks)


def service_sheet() -> Sheet:
    """Return the sheet of the service link."""
    return open_shipped_sheet("service")


def make_service(*, seed: int = 5, faulty: bool = True) -> Service:
    """Make six seconds of the service traffic.

    Parameters
    ----------
    seed : int
        Of the values' noise and of the replies' times.
    faulty : bool
        Whether to put the faults there.

    Returns
    -------
    Service
    """
    sheet = service_sheet()
    talk = _Talk(sheet, seed)
    rest_s = 0.0
    for number in range(ASKED):
        if faulty and number == RESTART:
            rest_s = RESTART_S
        at_s, usual_s = 0.02 + number * PERIOD_S + rest_s, float(talk.rng.uniform(0.004, 0.009))
        if faulty:
            _question(talk, number, at_s, usual_s)
        else:
            talk.answer(talk.ask(at_s, number), number, usual_s)
    if faulty:  # the controller was silent behind what was asked last before its restart
        talk.asked[[item.at_s < 0.02 + RESTART * PERIOD_S for item in talk.asked].index(False) - 1].marks.append(
            ("long-silence", sheet.frame["ask"].length - 1)
        )
    traces, injected = {}, []
    for wire, messages in (("to_pump", talk.asked), ("from_pump", talk.answered)):
        trace, marked = on_wire(messages, sheet.wire[wire].line, wire, [], END_S if faulty else HEALTHY_END_S)
        traces[sheet.wire[wire].source] = trace
        injected += [_when_it_began(item, sheet.line.character_time_s) for item in marked]
    return Service(sheet, traces, tuple(injected), tuple(talk.latencies_s))


def _when_it_began(injected: Injected, character_s: float) -> Injected:
    """Return a fault with the time at which it begins: a silence with the end of its last character."""
    return replace(injected, first_s=injected.first_s + character_s) if injected.kind == "long-silence" else injected


def _question(talk: _Talk, number: int, at_s: float, usual_s: float) -> None:
    """Ask and answer one question with the fault that it is to have."""
    if number == BUSY:  # the pump head writes its log, and misses the question
        talk.answer(talk.again(talk.ask(at_s, number, "unanswered-request"), number), number, usual_s)
    elif number == SPOILT_REQUEST:  # a bit is turned over, so that the pump head drops it
        asked = talk.ask(at_s, number, "unanswered-request")
        asked.faults[3] = Fault.PARITY
        asked.marks.append(("parity-error", 3))
        talk.answer(talk.again(asked, number), number, usual_s)
    elif number == SPOILT_REPLY:  # two bits are changed, which parity does not see
        asked = talk.ask(at_s, number)
        spoilt = talk.answer(asked, number, usual_s, "checksum-mismatch", "damaged-reply", counts=False)
        spoilt.values[6] ^= 0x0A
        talk.answer(talk.again(asked, number), number, usual_s)
    elif number in LATE:
        talk.answer(talk.ask(at_s, number), number, 0.028, "late-reply")
    elif number == COLLIDING:  # so late that the controller has begun to ask again, which is then not heard
        asked = talk.ask(at_s, number)
        talk.answer(asked, number, GIVES_UP_S + 0.0009, "late-reply", "collision")
        again = talk.again(asked, number, "unanswered-request")
        talk.answer(talk.again(again, number), number, usual_s)
    elif number == HASTY:
        talk.answer(talk.ask(at_s, number), number, 0.0003, "short-turnaround")
    elif number == TWICE:
        asked = talk.ask(at_s, number)
        talk.answer(asked, number, usual_s)
        talk.answer(asked, number, usual_s + 0.015, "unasked-reply", counts=False)
    else:
        talk.answer(talk.ask(at_s, number), number, usual_s)


def write_service(folder: Path, service: Service) -> dict[str, Path]:
    """Write the sheet and the capture of the service link.

    Parameters
    ----------
    folder : pathlib.Path
        Where to; it must exist.
    service : Service
        What to write.

    Returns
    -------
    dict of str to pathlib.Path
        ``sheet`` and ``capture``.
    """
    files = {"sheet": folder / "service.toml", "capture": folder / "service.vcd"}
    files["sheet"].write_text(SERVICE_FILE.read_text(encoding="utf-8"), encoding="utf-8")
    write_vcd(files["capture"], service.traces, comment="Dosing rig, simulated traffic")
    return files
