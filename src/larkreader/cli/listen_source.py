"""Where what is listened to arrives: at ports, or from a recording; and which wire of the sheet each is."""

from __future__ import annotations

from contextlib import ExitStack
from dataclasses import dataclass
from itertools import chain
from pathlib import Path
from typing import TYPE_CHECKING

from .common import note
from .line_option import line_of
from .live import open_named

if TYPE_CHECKING:
    from larkreader.declare.document.sheet import Sheet
    from larkreader.exercise.ports.port import Port, Received
    from larkreader.exercise.ports.replayed import Replay

    Arrived = tuple[float, float, Received]  # from when to when, and what

LOOK_S = 0.02  # at a port whose wire is looked for


@dataclass
class Source:
    """Where what is shown arrives: ports by wire, or a recording."""

    names: list[str]
    opened: dict[str, Port]
    candidates: list[str]
    replay: Replay | None = None

    @classmethod
    def of(
        cls,
        ports: tuple[str, ...],
        declared: Sheet | None,
        wire: str | None,
        line_text: str | None,
        replay: Path | None,
        speed: float,
        stack: ExitStack,
    ) -> Source:
        """Open the ports, or the recording."""
        if replay is not None:
            return cls._of_recording(ports, declared, wire, replay, speed, stack)
        names = _wires_of(ports, declared, wire)
        lines = [declared.wire[name].line if declared else None for name in names]
        if line_text is not None:
            lines = [line_of(line_text)] * len(ports)
        opened = {
            name: stack.enter_context(open_named(port, declared, line))
            for name, port, line in zip(names, ports, lines, strict=True)
        }
        return cls(names, opened, _candidates(ports, declared) if declared else [])

    @classmethod
    def _of_recording(
        cls,
        ports: tuple[str, ...],
        declared: Sheet | None,
        wire: str | None,
        path: Path,
        speed: float,
        stack: ExitStack,
    ) -> Source:
        from larkreader.capture.files.capture_file import CaptureFile
        from larkreader.exercise.ports.replayed import Replay, ReplayPort

        file = stack.enter_context(CaptureFile(path, kind="recording"))
        pieces = file.pieces_of_every_wire()
        first = next(pieces)
        there = list(first)
        known = [name for name in there if declared is None or name in declared.wire]
        chosen = [wire] if wire is not None else list(ports) or known
        for name in chosen:
            if name not in known:
                from larkreader.errors import RequestError, nearest

                where = "on the sheet" if name in there else "in the recording"
                raise RequestError(f'wire "{name}"', f"is not {where}", "", nearest(name, known))
        replay = Replay(chain([first], pieces), chosen, speed)
        lines = {name: declared.wire[name].line if declared else None for name in chosen}
        opened: dict[str, Port] = {
            name: ReplayPort(replay, name, lines[name], f"{path}, wire {name}") for name in chosen
        }
        return cls(chosen, opened, [], replay)

    def is_open_which_wire(self, wire: str | None, declared: Sheet | None, replay: Path | None) -> bool:
        """Return whether what arrives shows which wire of the sheet a single port is."""
        return wire is None and declared is not None and replay is None and bool(self.candidates)

    def find_wire(self, declared: Sheet | None, seconds: float | None) -> list[Arrived]:
        """Find which wire of the sheet the port is, and return what arrived meanwhile."""
        assert declared is not None
        port = self.opened[self.names[0]]
        name, arrivals = _find_wire(port, declared, self.candidates, seconds)
        self.opened, self.names = {name: port}, [name]
        return arrivals

    @property
    def is_over(self) -> bool:
        """Whether nothing more can arrive."""
        return self.replay is not None and self.replay.is_over


def _candidates(ports: tuple[str, ...], declared: Sheet) -> list[str]:
    """Return the wires that a single port may be, where the sheet leaves that open: those with one line and layouts."""
    if len(ports) != 1 or (ports[0] in declared.port and declared.port[ports[0]].wire is not None):
        return []
    line = next(iter(declared.wire.values())).line
    like = [wire for wire, item in declared.wire.items() if item.line == line and declared.layouts_of(wire)]
    return like if len(declared.wire) > 1 else []


def _find_wire(port: Port, declared: Sheet, candidates: list[str], seconds: float | None) -> tuple[str, list[Arrived]]:
    """Return the wire whose layouts fit what arrives at a port, or the first if that stays open; and what arrived."""
    from larkreader.exercise.talk.wire_finder import WireFinder

    finder = WireFinder(declared, candidates)
    arrivals: list[Arrived] = []
    began_s = since_s = port.now_s()
    try:
        goes_on = True
        while goes_on and (seconds is None or since_s - began_s < seconds):
            received = port.read_some(4096, LOOK_S)
            now_s = port.now_s()
            arrivals.append((since_s, now_s, received))
            since_s = now_s
            goes_on = finder.feed(received.data, now_s)
    except KeyboardInterrupt:
        pass
    if finder.found is not None:
        note(f"note: what arrives fits the frames of {finder.found}")
    else:
        what = "what arrives fits no frame" if any(arrival.data for _, _, arrival in arrivals) else "nothing arrived"
        note(f"note: {what} of {', '.join(candidates)}; name the wire with --wire")
    return finder.found or candidates[0], arrivals


def _wires_of(ports: tuple[str, ...], declared: Sheet | None, wire: str | None) -> list[str]:
    """Name the wire that each port is: as given, as the sheet declares of the port, or in the sheet's order."""
    from larkreader.errors import RequestError, nearest

    if declared is None:
        return ["first", "second"][: len(ports)]
    if wire is not None and (len(ports) != 1 or wire not in declared.wire):
        advice = nearest(wire, list(declared.wire)) if len(ports) == 1 else "It goes with one port"
        raise RequestError(f'--wire "{wire}"', "does not show which wire the port is", "", advice)
    stated = [wire or (declared.port[port].wire if port in declared.port else None) for port in ports]
    free = [item for item in declared.wire if item not in stated]
    if stated.count(None) > len(free):
        raise RequestError(
            "sheet", f"declares {len(declared.wire)} wire", f"must declare {len(ports)}, one for each port"
        )
    return [item if item is not None else free.pop(0) for item in stated]
