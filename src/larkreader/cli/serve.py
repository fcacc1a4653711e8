"""``larkreader serve``: offer a stand-in device on a port, to try everything without hardware."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import ExitStack
from functools import partial
from typing import TYPE_CHECKING

import click

from .common import json_option, note, print_document, say_what_is_worth_knowing
from .completed import completed
from .grouped import command
from .interrupts import end_if_interrupted
from .line_option import line_of

if TYPE_CHECKING:
    from larkreader.exercise.devices.device import Device
    from larkreader.exercise.ports.port import Port

FORWARDER = "forwarder"  # the device that has two ends

LOOK_S = 0.02  # between looks whether a device that speaks unasked has something to say


@command()
@click.argument("device")
@click.argument("ports", nargs=-1, required=True, metavar="PORT [PORT]", shell_complete=completed("ports"))
@click.option("--line", "line_text", metavar="TEXT", default="115200 8N1", show_default=True, help="Its settings.")
@click.option(
    "--faults",
    metavar="KIND,...",
    help="Of the pump: send what shows findings of these kinds, one frame in twenty; all for each kind in turn.",
)
@click.option("--seconds", type=float, metavar="SECONDS", help="Stop after this time; by default when interrupted.")
@json_option
def serve(
    device: str,
    ports: tuple[str, ...],
    line_text: str,
    faults: str | None,
    seconds: float | None,
    as_json: bool,
) -> int:
    """Offer the stand-in DEVICE on PORT until interrupted.

    DEVICE is echo, altered-echo, line-answerer, lossy-echo, noisy-echo or pump; or forwarder, which has two ports and
    sends on at each what arrives at the other. PORT is pty, which makes a pseudo terminal and says its path;
    accept:HOST:PORT, to which others connect; or any other port. With --json the document is printed once the ports
    are open.
    """
    from larkreader.errors import PortError, RequestError, nearest
    from larkreader.exercise.devices.stand_ins import STAND_INS
    from larkreader.exercise.ports.open import open_port

    known = [*STAND_INS, FORWARDER]
    if device not in known:
        raise RequestError(f'device "{device}"', "is not a stand-in", advice=nearest(device, known))
    ends = 2 if device == FORWARDER else 1
    if len(ports) != ends:
        raise RequestError("arguments", f"name {len(ports)} ports", f"must name {ends} for {device}")
    if faults is not None and device != "pump":
        raise RequestError("--faults", f"goes with {device}", "must go with pump")
    line = line_of(line_text)
    stand_in = None if device == FORWARDER else _stand_in(device, faults)
    with ExitStack() as stack:
        opened = []
        for port in ports:
            if port.startswith("accept:"):
                note(f"waiting at {port.removeprefix('accept:')} for a connection")
            opened.append(stack.enter_context(open_port(port, line, limit_s=seconds)))
            say_what_is_worth_knowing(opened[-1])
        note(f"{device} serves on {' and '.join(item.name for item in opened)}; interrupt to stop")
        if as_json:
            print_document("serving", {"device": device, "line": str(line), "ports": [item.name for item in opened]})
        look, counts = _forwarding(opened) if stand_in is None else _answering(stand_in, opened[0])
        began_s = opened[0].now_s()
        try:
            while seconds is None or opened[0].now_s() - began_s < seconds:
                end_if_interrupted()
                look()
        except PortError as error:
            if "closed by the other end" not in error.found:
                raise
        except KeyboardInterrupt:
            pass
    note(f"{' and '.join(f'{count:,}' for count in counts)} characters received")
    return 0


def _stand_in(device: str, faults: str | None) -> Device:
    """Make a stand-in, with the faults that are wanted of it."""
    from larkreader.exercise.devices.pump import PUMP_FAULTS, DosingPump
    from larkreader.exercise.devices.stand_ins import STAND_INS

    if faults is None:
        return STAND_INS[device]()
    names = PUMP_FAULTS if faults == "all" else [name.strip() for name in faults.split(",") if name.strip()]
    return DosingPump(names)


def _answering(stand_in: Device, port: Port) -> tuple[Callable[[], object], list[int]]:
    """Return what looks at a port once and lets a stand-in answer, and where it counts what arrived."""
    counts = [0]

    def look() -> None:
        received = port.read_some(4096, LOOK_S).data
        counts[0] += len(received)
        answer = stand_in.react(received, port.now_s())
        if answer:
            port.write(answer)

    return look, counts


def _forwarding(ports: list[Port]) -> tuple[Callable[[], object], list[int]]:
    """Return what looks once at two ports and sends on what arrived, and where it counts that."""
    from larkreader.exercise.talk.forwarder import Forwarder

    forwarder = Forwarder(*ports)
    return partial(forwarder.look, LOOK_S), forwarder.counts
