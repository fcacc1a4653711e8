"""``larkreader serve``: offer a stand-in device on a port, to try everything without hardware."""

from __future__ import annotations

import click

from .common import note, say_what_is_worth_knowing

LOOK_S = 0.02  # between looks whether a device that speaks unasked has something to say


@click.command()
@click.argument("device")
@click.argument("port", metavar="PORT")
@click.option("--line", "line_text", metavar="TEXT", default="115200 8N1", show_default=True, help="Its settings.")
@click.option("--seconds", type=float, metavar="SECONDS", help="Stop after this time; when interrupted unless said.")
def serve(device: str, port: str, line_text: str, seconds: float | None) -> int:
    """Offer the stand-in DEVICE on PORT until interrupted.

    DEVICE is echo, altered-echo, line-answerer, lossy-echo, noisy-echo or pump. PORT is pty, which makes a pseudo
    terminal and says its path; accept:HOST:PORT, to which others connect; or any other port.
    """
    from larkreader.declare.line import LineSettings
    from larkreader.errors import PortError, RequestError, nearest
    from larkreader.exercise.ports.open import open_port
    from larkreader.exercise.stand_ins import STAND_INS

    if device not in STAND_INS:
        raise RequestError(f'device "{device}"', "is no stand-in", advice=nearest(device, list(STAND_INS)))
    line = LineSettings.parse(line_text)
    stand_in = STAND_INS[device]()
    if port.startswith("accept:"):
        note(f"waiting at {port.removeprefix('accept:')} for somebody to connect")
    count = 0
    with open_port(port, line, limit_s=seconds) as opened:
        say_what_is_worth_knowing(opened)
        note(f"{device} serves on {opened.name}; interrupt to stop")
        began_s = opened.now_s()
        try:
            while seconds is None or opened.now_s() - began_s < seconds:
                received = opened.read_some(4096, LOOK_S).data
                count += len(received)
                answer = stand_in.react(received, opened.now_s())
                if answer:
                    opened.write(answer)
        except PortError as error:
            if "closed by the other end" not in error.found:
                raise
        except KeyboardInterrupt:
            pass
    note(f"{count:,} characters received")
    return 0
