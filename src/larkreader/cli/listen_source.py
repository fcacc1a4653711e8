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
        sheet: Sheet | None,
        wire: str | None,
        line_text: str | None,
        replay: Path | None,
        speed: float,
        stack: ExitStack,
    ) -> Source:
        """Open the ports, or the recording."""
        if replay is not None:
            return cls._of_recording(ports, sheet, wire, replay, speed, stack)
        names = _wires_of(ports, sheet, wire)
        lines = [sheet.wire[name].line if sheet else None for name in names]
        if line_text is not None:
            lines = [line_of(line_text)] * len(ports)
        opened = {
            name: stack.enter_context(open_named(port, sheet, line))
            for name, port, line in zip(names, ports, lines, strict=True)
        }
        return cls(names, opened, _candidates(ports, sheet) if sheet else [])

    @classmethod
    def _of_recording(
        cls,
        ports: tuple[str, ...],
        sheet: Sheet | None,
        wire: str | None,
        path: Path,
        speed: float,
        stack: ExitStack,
    ) -> Source:
        from larkreader.capture.files.capture_file import CaptureFile
        from larkreader.errors import RequestError, nearest
        from larkreader.exercise.ports.replayed import Replay, ReplayPort

        file = stack.enter_context(CaptureFile(path, kind="recording"))
        pieces = file.pieces_of_every_wire()
        first = next(pieces)
        there = list(first)
        known = [name for name in there if not sheet or name in sheet.wire]
        chosen = [wire] if wire is not None else list(ports) or known
        if not chosen:
            found = f"has the wires {', '.join(there)}" if there else "names no wire"
            raise RequestError(str(path), found, "must have a wire of the sheet")
        for name in chosen:
            if name not in known:
                where = "on the sheet" if name in there else "in the recording"
                raise RequestError(f'wire "{name}"', f"is not {where}", "", nearest(name, known))
        replay = Replay(chain([first], pieces), chosen, speed)
        lines = {name: sheet.wire[name].line if sheet else None for name in chosen}
        opened: dict[str, Port] = {
            name: ReplayPort(replay, name, lines[name], f"{path}, wire {name}") for name in chosen
        }
        return cls(chosen, opened, [], replay)

    def find_wire(self, sheet: Sheet, seconds: float | None) -> list[Arrived]:
        """Find which wire of the sheet the port is, and return what arrived meanwhile."""
        port = self.opened[self.names[0]]
        name, arrivals = _find_wire(port, sheet, self.candidates, seconds)
        self.opened, self.names = {name: port}, [name]
        return arrivals

    @property
    def is_over(self) -> bool:
        """Whether nothing more can arrive."""
        return self.replay is not None and self.replay.is_over


def _candidates(ports: tuple[str, ...], sheet: Sheet) -> list[str]:
    """Return the wires that a single port may be, where the sheet leaves that open: those with one line and layouts."""
    if len(ports) != 1 or (ports[0] in sheet.port and sheet.port[ports[0]].wire is not None):
        return []
    line = next(iter(sheet.wire.values())).line
    like = [wire for wire, item in sheet.wire.items() if item.line == line and sheet.layouts_of(wire)]
    return like if len(sheet.wire) > 1 else []


def _find_wire(port: Port, sheet: Sheet, candidates: list[str], seconds: float | None) -> tuple[str, list[Arrived]]:
    """Return the wire whose layouts fit what arrives at a port, or the first if that stays open; and what arrived."""
    from larkreader.exercise.talk.wire_finder import WireFinder

    finder = WireFinder(sheet, candidates)
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


def _wires_of(ports: tuple[str, ...], sheet: Sheet | None, wire: str | None) -> list[str]:
    """Name the wire that each port is: as given, as the sheet declares of the port, or in the sheet's order."""
    from larkreader.errors import RequestError, nearest

    if not sheet:
        return ["first", "second"][: len(ports)]
    if wire is not None and (len(ports) != 1 or wire not in sheet.wire):
        advice = nearest(wire, list(sheet.wire)) if len(ports) == 1 else "It goes with one port"
        raise RequestError(f'--wire "{wire}"', "does not show which wire the port is", "", advice)
    stated = [wire or (sheet.port[port].wire if port in sheet.port else None) for port in ports]
    free = [item for item in sheet.wire if item not in stated]
    if stated.count(None) > len(free):
        raise RequestError("sheet", f"declares {len(sheet.wire)} wire", f"must declare {len(ports)}, one for each port")
    return [item if item is not None else free.pop(0) for item in stated]
