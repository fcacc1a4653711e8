"""The pump head's receiver, built from what the sheet emits, on emulated chips: a dialogue, and damage.

Each chip is a row of a table. Two run in a system emulator, which passes whole characters on: it has no bits, so
that bauds are calculated there and not measured. The third is simulated cycle by cycle, at the pace of the line, as a
program that is a port; it writes the levels of its wires, which are read, measured and diagnosed.
"""

from __future__ import annotations

import re
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path
from typing import NamedTuple

from check_board import connect, free_port

import larkreader as lr
from larkreader.exercise.talk.session import start_session
from larkreader.judge.calculate.baud_setting import BaudSetting

HERE = Path(__file__).parent
SHEET = HERE.parent / "firmware" / "bench.toml"
WARNINGS = ("-std=c99", "-Wall", "-Wextra", "-Werror")
CORTEX = ("-mthumb", "-O2", "-ffreestanding", "-nostartfiles", "-nostdlib", "-T", str(HERE / "board.ld"))
AVR = ("-DF_CPU=16000000UL", "-mmcu=atmega328p", "-Os", "-DBENCH_RING_PLACE=uint8_t")
TRIALS = 4
QUIET_S = 1.0  # after which nothing more arrives, on a machine that may be busy
WORST_BAUD = 0.01  # as a share


class Chip(NamedTuple):
    """A chip: the end of the sheet and the source that stand for it, how it is compiled, and what it runs in."""

    end: str
    compiler: str
    flags: tuple[str, ...]
    libraries: tuple[str, ...]
    machine: str


CHIPS = (
    Chip("cortex_m3", "arm-none-eabi-gcc", ("-mcpu=cortex-m3", *CORTEX), ("-lc", "-lgcc"), "lm3s6965evb"),
    Chip("cortex_m4", "arm-none-eabi-gcc", ("-mcpu=cortex-m4", *CORTEX), ("-lc", "-lgcc"), "netduinoplus2"),
    Chip("avr", "avr-gcc", AVR, (), ""),
)


def build(chip: Chip, sheet: lr.Sheet, into: Path, *wrong: str) -> Path:
    """Emit the C of the chip's end, and compile the receiver with it; `wrong` are flags that make a mistake."""
    lr.write_c(into, sheet, chip.end, name="bench")
    firmware = into / "receiver.elf"
    sources = [into / "bench.c", HERE / "chips" / "receiver.c", HERE / "chips" / f"{chip.end}.c"]
    flags = [*chip.flags, *WARNINGS, *wrong, f"-I{into}", f"-I{HERE / 'chips'}"]
    subprocess.run([chip.compiler, *flags, *map(str, sources), "-o", str(firmware), *chip.libraries], check=True)
    return firmware


@contextmanager
def emulated(chip: Chip, firmware: Path) -> Iterator[str]:
    """Run firmware in the system emulator; give the place of its UART."""
    place = f"127.0.0.1:{free_port()}"
    quiet = ["-display", "none", "-monitor", "none", "-serial", f"tcp:{place},server=on,wait=on"]
    command = ["qemu-system-arm", "-M", chip.machine, *quiet, "-kernel", str(firmware)]
    with subprocess.Popen(command, stdin=subprocess.DEVNULL, stderr=subprocess.DEVNULL) as emulator:
        try:
            yield place
        finally:
            emulator.kill()


def simulated(firmware: Path, hertz: float, baud: float) -> str:
    """Build the program that simulates the chip; return its port, which leaves the wires' levels in a file.

    The simulated UART takes characters at the pace of its own divisor, so that the sender has to have that baud.
    """
    machine = firmware.with_name("avr_machine")
    source = str(HERE / "chips" / "avr_machine.c")
    subprocess.run(["gcc", "-O2", "-Wall", source, "-o", str(machine), "-lsimavr"], check=True)
    return f"exec:{machine} {firmware} {hertz:.0f} {baud:.3f} {firmware.with_name('wires.vcd')}"


def rest_of(port: lr.Port) -> bytes:
    """Return what arrives until nothing more does."""
    data = b""
    while piece := port.read_some(4096, QUIET_S).data:
        data += piece
    return data


def levels(chip: Chip, sheet: lr.Sheet, setting: BaudSetting, folder: Path, *wrong: str) -> Path:
    """Let the chip answer a few programs; return the file with the levels of both wires."""
    firmware = build(chip, sheet, folder, *wrong)
    with lr.open_port(simulated(firmware, setting.clock.hertz, float(setting.baud))) as port:
        start_session(port, sheet.port["chip"])
        for flow in range(1, 30):
            port.write(sheet.frame["program"].encode({"flow": flow, "valve": [flow, 7]}), 5.0)
        rest_of(port)
    return folder / "wires.vcd"


def check_losses(chip: Chip, sheet: lr.Sheet, setting: BaudSetting) -> bool:
    """Let the chip be deaf for a while; compare what is lost with what it has received and what its UART reports."""
    program, accepted = sheet.frame["program"], sheet.frame["accepted"]
    sent, answers = 0, b""
    with tempfile.TemporaryDirectory() as folder:
        firmware = build(chip, sheet, Path(folder))
        with lr.open_port(simulated(firmware, setting.clock.hertz, float(setting.baud))) as port:
            start_session(port, sheet.port["chip"])
            for _ in range(3):  # a flow of 0 makes it deaf for 3 ms; the last program is answered in any case
                for burst in ([0, 1, 2, 3, 4, 5, 6, 7], [8]):
                    data = b"".join(program.encode({"flow": flow, "valve": [1, 2, 3]}) for flow in burst)
                    port.write(data, 5.0)
                    answers += rest_of(port)
                    sent += len(data)
        reading = lr.read(sheet, Path(folder) / "wires.vcd")
    frames = lr.read_frames(answers, accepted)
    missed = sent - int(frames["arrived"][-1])
    lost = int(re.search(r"(\d+) characters lost", " ".join(port.notes))[1])  # type: ignore[index]
    unanswered = next((finding for finding in reading.findings if finding.kind == "unanswered-request"), None)
    results = {
        "its UART loses characters while it is deaf, and reports it": lost > 0 < int(frames["overruns"][-1]),
        "  as many as the chip has not received": missed == lost,
        "  the wires show as many requests without an answer": unanswered is not None
        and len(unanswered.places) == 27 - len(frames),
    }
    for text, is_so in results.items():
        print(f"  {text}: {is_so}")
    if not all(results.values()):
        print(f"  {missed} missed, {lost} lost, {len(frames)} answers, {reading.findings}", file=sys.stderr)
    return all(results.values())


def check_wires(chip: Chip, sheet: lr.Sheet, setting: BaudSetting) -> bool:
    """Read the levels that the chip makes: as it should be, with a wrong divisor, and with a wrong parity."""
    results = {}
    with tempfile.TemporaryDirectory() as folder:
        wires = levels(chip, sheet, setting, Path(folder))
        measured = lr.measure_wire(lr.open_trace(wires, "from_pump")).baud or 0.0
        results["reading the wires is clean"] = lr.read(sheet, wires).verdict == "clean"
        results["the measured baud is that of the divisor, within 50 ppm"] = (
            abs(measured / float(setting.baud) - 1) < 50e-6
        )
        for flag, kind in (("-DDIVISOR_MORE=4", "baud-mismatch"), ("-DPARITY=0x30", "parity-mismatch")):
            wires = levels(chip, sheet, setting, Path(folder), flag)
            kinds = {finding.kind for finding in lr.answers.diagnose_capture(wires, sheet).wires["from_pump"].findings}
            results[f"a wrong setting is diagnosed as {kind}"] = kind in kinds
    for text, is_so in results.items():
        print(f"  {text}: {is_so}")
    return all(results.values())


def check(chip: Chip, sheet: lr.Sheet) -> bool:
    """Try one chip; return whether all is as it should be."""
    setting = next(clock.setting for clock in lr.plan(sheet).clocks if clock.end.key == chip.end)
    assert setting is not None
    is_near = abs(setting.error) < WORST_BAUD
    print(f"{chip.end}: the divisor makes the baud within 1 %: {is_near}")
    with tempfile.TemporaryDirectory() as folder, ExitStack() as stack:
        firmware = build(chip, sheet, Path(folder))
        if chip.machine:
            place = stack.enter_context(emulated(chip, firmware))
        else:
            place = simulated(firmware, setting.clock.hertz, float(setting.baud))
        port = stack.enter_context(connect(place))
        ready = not start_session(port, sheet.port["chip"]).findings
        dialogue = lr.run_dialogue(port, sheet.exchange, sheet.frame)
        torture = lr.exercise.run_torture(port, sheet, trials=TRIALS, quiet_s=QUIET_S)
    print("  ready:", ready)
    print("  dialogue:", dialogue.verdict)
    print(f"  under {len(torture.rows)} kinds of damage: {torture.verdict}")
    for row in torture.rows:
        if row.outcome != "pass":
            print(f"  {row.damage}: {row.outcome}, {row.lost} lost, {row.wrong} wrong", file=sys.stderr)
    is_read = bool(chip.machine) or check_wires(chip, sheet, setting) & check_losses(chip, sheet, setting)
    return is_near and is_read and ready and dialogue.verdict == torture.verdict == "pass"


def missing_for(chip: Chip) -> list[str]:
    """Return what is not there that a chip needs."""
    tools = [chip.compiler, "qemu-system-arm"] if chip.machine else [chip.compiler, "gcc"]
    gone = [tool for tool in tools if shutil.which(tool) is None]
    if not chip.machine and not Path("/usr/include/simavr/sim_avr.h").exists():
        gone.append("libsimavr")
    return gone


def main() -> int:
    """Try all chips for which everything is there."""
    sheet = lr.open_sheet(SHEET)
    done = []
    for chip in CHIPS:
        if gone := missing_for(chip):
            print(
                f"{chip.end}: left out, as {' and '.join(gone)} cannot be found; run.sh beside this file installs them"
            )
        else:
            done.append(check(chip, sheet))
    return 2 if not done else 0 if all(done) else 1


if __name__ == "__main__":
    sys.exit(main())
