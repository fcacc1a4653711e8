"""What the parts of a sheet say of each other: every name that one part uses must be that of another.

The loader checks a document table by table, so that it can report all its mistakes; this checks a sheet as it is, also
a sheet that was built in Python.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator
from typing import Any

from larkreader.declare.common.mistakes import show
from larkreader.declare.frame.boundary import DelimitedBoundary
from larkreader.errors import Mistake, nearest


def reference_mistakes(sheet: Any) -> Iterator[Mistake]:
    """Yield the references of a sheet that lead nowhere.

    Parameters
    ----------
    sheet : Sheet
        What was declared.

    Yields
    ------
    Mistake
        Its place, as the key of a table.
    """
    if not sheet.wire:
        yield Mistake("wire", "", "is missing: a sheet declares at least one wire")
    yield from _of_frames(sheet)
    yield from _of_ports_and_events(sheet)
    yield from _of_ends(sheet)
    for number, traffic in enumerate(sheet.traffic):
        yield from _refer(f"traffic[{number}].wire", traffic.wire, sheet.wire, "wire")
        yield from _refer(f"traffic[{number}].frame", traffic.frame, sheet.frame, "frame")
    for table, paths in (("receive", sheet.receive), ("send", sheet.send)):
        for key in paths:
            yield from _refer(f"{table}.{key}", key, sheet.wire, "wire")
    yield from _refer("loopback.frame", sheet.loopback.frame, sheet.frame, "frame")
    yield from _of_exchanges(sheet)
    yield from _of_pairs(sheet)
    for wire in sheet.timing.shared:
        yield from _refer("timing.shared", wire, sheet.wire, "wire")


def _of_ports_and_events(sheet: Any) -> Iterator[Mistake]:
    for key, port in sheet.port.items():
        for name, table in (("wire", sheet.wire), ("receive", sheet.receive), ("send", sheet.send)):
            yield from _refer(f"port.{key}.{name}", getattr(port, name), table, name)
    for key, event in sheet.event.items():
        yield from _refer(f"event.{key}.wire", event.wire, sheet.wire, "wire")
        if event.to == "frame" and not any(one.wire == event.wire for one in sheet.frame.values()):
            yield Mistake(f"event.{key}.to", '"frame"', f"needs a frame on {show(event.wire)}")


def _of_ends(sheet: Any) -> Iterator[Mistake]:
    """Yield the wrong references of ends, and of what belongs to one."""
    for key, end in sheet.end.items():
        for name, known in (("sends", sheet.wire), ("receives", sheet.wire), ("clock", sheet.clock)):
            for one in getattr(end, name):
                yield from _refer(f"end.{key}.{name}", one, known, "clock" if name == "clock" else "wire")
        yield from _refer(f"end.{key}.generator", end.generator, sheet.generator, "generator")
    for key in sheet.meaning:
        yield from _refer(f"meaning.{key}", key, sheet.end, "end")
    for table, parts in (("register", sheet.registers), ("rule", sheet.rule)):
        for key, part in parts.items():
            yield from _refer(f"{table}.{key}.end", part.end, sheet.end, "end")
    for number, step in enumerate(sheet.step):
        yield from _refer(f"step[{number}].end", step.end, sheet.end, "end")
    pins = [f"{end.key}.{name}" for end in sheet.end.values() for name in end.pin]
    for number, joint in enumerate(sheet.joint):
        for place, pin in enumerate(joint.joins):
            yield from _refer(f"joint[{number}].joins[{place}]", pin, pins, "pin of an end")


def _of_exchanges(sheet: Any) -> Iterator[Mistake]:
    for number, exchange in enumerate(sheet.exchange):
        for name, known, kind in (
            ("at", sheet.port, "port"),
            ("expect_at", sheet.port, "port"),
            ("send_frame", sheet.frame, "frame"),
            ("expect_frame", sheet.frame, "frame"),
        ):
            yield from _refer(f"exchange[{number}].{name}", getattr(exchange, name), known, kind)


def _of_frames(sheet: Any) -> Iterator[Mistake]:
    first: dict[str, str] = {}
    for key, layout in sheet.frame.items():
        if layout.wire is None:
            wanted = f"is missing: name the wire on which the frame travels ({', '.join(sheet.wire)})"
            yield Mistake(f"frame.{key}.wire", "", wanted)
            continue
        yield from _refer(f"frame.{key}.wire", layout.wire, sheet.wire, "wire")
        wire = sheet.wire.get(layout.wire)
        if wire is not None and wire.line.data_bits > 8 and not wire.line.has_address_mark:
            wanted = "carries 9 data bits; frames are cut from bytes, so the ninth must be an address-mark"
            yield Mistake(f"frame.{key}.wire", show(layout.wire), wanted)
        other = sheet.frame[first.setdefault(layout.wire, key)]
        if layout.boundary.kind != other.boundary.kind:
            wanted = f"must be as that of {other.key}, {show(other.boundary.kind)}, which travels on the same wire"
            yield Mistake(f"frame.{key}.boundary.kind", show(layout.boundary.kind), wanted)
        elif isinstance(layout.boundary, DelimitedBoundary) and layout.boundary != other.boundary:
            wanted = f"must be as that of {other.key}, which travels on the same wire"
            yield Mistake(f"frame.{key}.boundary", "", wanted)


def _of_pairs(sheet: Any) -> Iterator[Mistake]:
    known = [*sheet.frame, *sheet.wire]
    for key, pairing in sheet.pair.items():
        for side, fields in (("request", pairing.match.keys()), ("reply", pairing.match.values())):
            for name in getattr(pairing, side):
                yield from _refer(f"pair.{key}.{side}", name, known, "frame or a wire")
                for field in fields if name in known else ():
                    if name not in sheet.frame:
                        yield Mistake(
                            f"pair.{key}.match", show(field), f"needs layouts as {side}, and {name} is a wire"
                        )
                    else:
                        slots = sheet.frame[name].slot
                        yield from _refer(f"pair.{key}.match", field, slots, f"field of {name}", here="")


def _refer(
    where: str, name: str | None, known: Collection[str], kind: str, here: str = " of this sheet"
) -> Iterator[Mistake]:
    if name is not None and name not in known:
        article = "an" if kind[0] in "aeiou" else "a"
        yield Mistake(where, show(name), f"is not {article} {kind}{here}", nearest(name, list(known)))
