"""A pump head on an emulated controller: a dialogue, loopbacks, and a ring that really loses characters.

Builds the firmware beside this file with a cross compiler, starts it in an emulator whose UART is a TCP port, and
compares what a loopback misses with what the firmware itself has counted. Ends with status 1 if they differ.
"""

from __future__ import annotations

import shutil
import socket
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import larkreader as lr
from larkreader.exercise.talk.session import start_session

HERE = Path(__file__).parent
COMPILER, EMULATOR = "arm-none-eabi-gcc", "qemu-system-arm"
CHARACTERS = 5000
PATIENCE_S = 1.5  # for a character, on a machine that may be busy


def build(into: Path) -> Path:
    """Compile the firmware."""
    firmware = into / "pump_head.elf"
    flags = ["-mcpu=cortex-m3", "-mthumb", "-O2", "-Wall", "-Wextra", "-Werror", "-ffreestanding", "-nostdlib"]
    command = [COMPILER, *flags, "-T", str(HERE / "board.ld"), "-o", str(firmware), str(HERE / "pump_head.c")]
    subprocess.run(command, check=True)
    return firmware


def free_port() -> int:
    """Return a free TCP port."""
    with socket.socket() as one:
        one.bind(("127.0.0.1", 0))
        return int(one.getsockname()[1])


def connect(place: str) -> lr.Port:
    """Connect to the emulator, which may take a moment to start."""
    for _ in range(200):
        try:
            return lr.open_port(place)
        except lr.PortError:
            time.sleep(0.05)
    return lr.open_port(place)


def ask(port: lr.Port, command: str, reply: str) -> dict[str, str]:
    """Send a command and return what is kept of its reply."""
    step = lr.Exchange(send=command + r"\n", expect=reply + r"\n", within_s=20)
    result = lr.run_dialogue(port, [step])
    if result.verdict == "fail":
        sys.exit(f"{command}: {result.steps[0].why}\n{result.steps[0].detail()}")
    return dict(result.values)


def loop(port: lr.Port, mode: str, plan: lr.LoopbackPlan) -> lr.LoopbackResult:
    """Let the firmware take the characters of a plan as data, and send them."""
    ask(port, f"{mode} {plan.characters}", "ok")
    return lr.run_loopback(port, plan)


def main() -> int:
    """Run it all."""
    missing = [tool for tool in (COMPILER, EMULATOR) if shutil.which(tool) is None]
    if missing:
        print(f"cannot be run: {' and '.join(missing)} not found; run.sh beside this file installs them")
        return 2
    sheet = lr.open_sheet(HERE / "board.toml")
    place = f"127.0.0.1:{free_port()}"
    with tempfile.TemporaryDirectory() as folder:
        machine = [
            "-M",
            "lm3s6965evb",
            "-display",
            "none",
            "-monitor",
            "none",
            "-serial",
            f"tcp:{place},server=on,wait=on",
        ]
        command = [EMULATOR, *machine, "-kernel", str(build(Path(folder)))]
        with subprocess.Popen(command, stdin=subprocess.DEVNULL, stderr=subprocess.DEVNULL) as emulator:
            try:
                with connect(place) as port:
                    return checks(port, sheet)
            finally:
                emulator.kill()


def checks(port: lr.Port, sheet: lr.Sheet) -> int:
    """Hold the dialogue of the sheet, and run the loopbacks."""
    started = start_session(port, sheet.port["pump"])
    print("ready:", not started.findings)
    dialogue = lr.run_dialogue(port, sheet.exchange, sheet.frame)
    print("dialogue:", dialogue.verdict)
    for step in dialogue.steps:
        print(f"  {step.name}: {step.outcome}{' ' + step.why if step.why else ''}")

    plan = lr.LoopbackPlan(characters=CHARACTERS, pattern="prbs-15", block=256, limit_s=PATIENCE_S)
    echo = loop(port, "echo", plan)
    print("echo:", echo.verdict, "with", echo.lost, "lost of", echo.sent)

    altered = plan.model_copy(update={"expect": "altered", "alter": lr.declare.Alteration(xor=0x5A)})
    changed = loop(port, "altered", altered)
    print("altered echo:", changed.verdict)
    short = loop(port, "echo", altered)
    print("a plain echo in its place:", short.verdict)

    # bursts of 512 into a ring of 64 that is emptied slowly
    slow = loop(port, "slow", plan.model_copy(update={"block": 512, "pattern": "random"}))
    counted = int(ask(port, "lost?", "lost {lost:integer}")["lost"])
    print("slow ring: loses characters:", counted > 0)
    print("  the firmware counts as many as the loopback misses:", counted == slow.lost)
    print("  none changed, none extra:", (slow.changed, slow.extra) == (0, 0))
    if counted != slow.lost:
        print(f"  {counted} counted, {slow.lost} missed", file=sys.stderr)
    overflow = overflow_of(port, sheet)
    print("  status messages through it: an overflow is found:", overflow is not None)

    good = (echo.verdict, changed.verdict, short.verdict, dialogue.verdict) == ("pass", "pass", "fail", "pass")
    exact = counted == slow.lost > 0 and not slow.changed and not slow.extra
    return 0 if good and exact and overflow is not None else 1


def overflow_of(port: lr.Port, sheet: lr.Sheet) -> lr.Finding | None:
    """Send status messages through the slow ring, and return what a reading of those that come back says of losses."""
    layout = sheet.frame["status"]
    sent, burst, back = lr.exercise.frame_pattern(layout, 80 * layout.longest), 8 * layout.longest, b""
    ask(port, f"slow {len(sent)}", "ok")
    for low in range(0, len(sent), burst):
        port.write(sent[low : low + burst], 30.0)
        while piece := port.read(burst, PATIENCE_S / 5).data:
            back += piece
    reading = lr.read(sheet, {"from_pump": back})
    return next((one for one in reading.findings if one.kind == "overflow"), None)


if __name__ == "__main__":
    sys.exit(main())
