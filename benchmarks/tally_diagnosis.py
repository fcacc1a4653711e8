"""How often `diagnose` is right: each mistake on captures made at random, and how often it cries wolf on healthy ones.

Traffic is text, frames of the dosing rig, counting or random; pauses, jitter, a clock error within a percent, the
fineness of the capture and the slowness of one edge are drawn anew for each capture. Right means: the likeliest
explanation is the mistake that was made. Healthy captures are of values that are all alike, too.
"""

import argparse
import sys
from collections import Counter
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

import numpy as np

import larkreader as lr
from larkreader.demo.rig import rig_sheet

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))

from random_settings import blind_case, judge_blind

SHEET = rig_sheet()
LAYOUTS = SHEET.layouts_of("from_pump")
TEXT = b"flow 12.5 mL/min pressure 101.3 kPa\r\ntemperature 21.9 degC state dosing\r\n"
KINDS = ("text", "frames", "counting", "random")
MISTAKES = {  # declared, sent, the kind that should be told, traffic that can show it
    "baud twice as high": ("57600 8N1", "115200 8N1", "baud-mismatch", KINDS),
    "baud half as high": ("19200 8E1", "9600 8E1", "baud-mismatch", KINDS),
    "baud a third": ("57600 8N1", "19200 8N1", "baud-mismatch", KINDS),
    "baud 4 % high": ("57600 8N1", "59904 8N1", "baud-mismatch", KINDS),
    "baud 6 % low": ("57600 8E1", "54144 8E1", "baud-mismatch", KINDS),
    "12 MHz fitted, 16 MHz believed": ("9600 8N1", "7200 8N1", "baud-mismatch", KINDS),
    "inverted wire": ("57600 8N1", "57600 8N1 idle-low", "polarity-mismatch", KINDS),
    "inverted wire with parity": ("57600 8E1", "57600 8E1 idle-low", "polarity-mismatch", KINDS),
    "parity sent, none declared": ("57600 8N1", "57600 8E1", "parity-mismatch", KINDS),
    "parity declared, none sent": ("57600 8E1", "57600 8N1", "parity-mismatch", KINDS),
    "odd for even parity": ("57600 8E1", "57600 8O1", "parity-mismatch", KINDS),
    "word counts the parity bit": ("57600 8E1", "57600 7E1", "data-bits-mismatch", ("text", "random", "counting")),
    "7E1 sent, 8N1 declared": ("9600 8N1", "9600 7E1", "data-bits-mismatch", ("text", "random", "counting")),
    "8N1 sent, 7E1 declared": ("9600 7E1", "9600 8N1", "data-bits-mismatch", ("frames", "random")),
    "9 data bits for 8": ("9600 8N1", "9600 9N1", "data-bits-mismatch", ("random",)),
    "highest bit first": ("57600 8N1", "57600 8N1 msb", "bit-order-mismatch", ("text", "frames")),
    "2 stop bits declared, 1 sent": ("57600 8N2", "57600 8N1", "stop-bits-mismatch", KINDS),
    "noise": ("57600 8E1", "57600 8E1", "noisy-line", KINDS),
    "two senders": ("57600 8N1", "57600 8N1", "two-senders", KINDS),
}
HEALTHY = ("57600 8N1", "57600 8E1", "9600 8N1", "9600 7E1", "19200 8O1", "115200 8N2", "9600 8N1 idle-low", "9600 9N1")


def values_of(random, kind, line, count):
    """Return what is sent."""
    largest = (1 << line.data_bits) - 1
    if kind == "text":
        begin = random.integers(len(TEXT))
        return np.resize(np.roll(np.frombuffer(TEXT, np.uint8), begin), count).astype(int)
    if kind == "frames":
        rows = [{"count": n, "flow": 3.1 * n % 300, "dosed": 1.7 * n, "temperature": 21 + n / 9} for n in range(80)]
        frames = b"".join(SHEET.frame["status"].encode(row) for row in rows)
        return np.resize(np.frombuffer(frames, np.uint8), count).astype(int) & largest
    if kind == "alike":
        return np.full(count, random.integers(0, largest + 1))
    if kind == "counting":
        return (np.arange(count) + random.integers(256)) & largest
    return random.integers(0, largest + 1, count)


def capture_of(random, line, values, name):
    """Return what a capture of the wire might look like."""
    count = len(values)
    pauses = [np.zeros(count), random.exponential(5, count), np.where(np.arange(count) % 16 == 0, 60.0, 0.0)]
    gaps = pauses[0] if name.startswith("2 stop bits") else pauses[random.integers(3)]
    tick_s = 1 / line.baud / random.choice([16, 40, 500, 10_000])
    trace = lr.transmit(values, line, gaps=gaps, clock_error_ppm=random.uniform(-1e4, 1e4), tick_s=tick_s)
    bit = 1 / line.baud / tick_s
    edges = trace.edges + random.normal(0, random.choice([0, 0.01, 0.03]) * bit, len(trace.edges))
    edges[(np.arange(len(edges)) + trace.first_level) % 2 == 0] += random.choice([0, 0, 0.08]) * bit
    edges = np.rint(edges).astype(np.int64)
    trace = lr.Trace(np.unique(edges), tick_s, trace.first_level, end=int(edges[-1] + 20 * bit))
    if name == "noise":
        return spiked(random, trace, max(count // 12, 3), 0.3 * bit)
    if name == "two senders":
        other = lr.transmit(random.integers(0, 256, count), line, gaps=random.uniform(0, 3, count), tick_s=tick_s)
        return joined(trace, other)
    return trace


def spiked(random, trace, count, width):
    """Turn the level over for a moment, in some places."""
    places = np.unique(random.integers(trace.edges[0], trace.edges[-1], count))
    ends = places + np.maximum(np.rint(width * random.uniform(0.5, 2.5, len(places))), 1).astype(np.int64)
    times, often = np.unique(np.concatenate([trace.edges, places, ends]), return_counts=True)
    return lr.Trace(times[often % 2 == 1], trace.tick_s, trace.first_level, end=trace.end)


def joined(one, other):
    """Let two outputs pull the same wire low."""
    times = np.unique(np.concatenate([one.edges, other.edges]))
    levels = np.ones(len(times), bool)
    for each in (one, other):
        levels &= (each.first_level + np.searchsorted(each.edges, times, side="right")) % 2 == 1
    changed = np.diff(levels, prepend=True)
    return lr.Trace(times[changed], one.tick_s, 1, end=int(times[-1]))


def voltages_of(random, low, high):
    """Return a healthy wire as an oscilloscope shows it, with levels drawn from two ranges."""
    line = lr.LineSettings.parse("57600 8E1")
    trace = lr.transmit(values_of(random, str(random.choice(KINDS)), line, 100), line, gaps=random.uniform(0, 5, 100))
    rate = line.baud * random.choice([8, 20, 100])
    times = np.arange(int(trace.end_s * rate)) / rate
    levels = trace.first_level ^ (np.searchsorted(trace.edges_s, times, side="right") & 1)
    low_v, high_v = random.uniform(*low), random.uniform(*high)
    volts = np.convolve(np.pad(low_v + (high_v - low_v) * levels, 1, "edge"), [0.2, 0.6, 0.2], "valid")
    noise = random.choice([0.01, 0.05]) * random.standard_normal(len(volts))
    return lr.diagnose(lr.capture.Voltages(volts + noise, rate), line)


def frames_of(random, count):
    """Return the bytes of status frames with counters that go on."""
    begin = int(random.integers(0, 200))
    rows = [{"count": (begin + n) % 256, "flow": 3.1 * n % 300, "dosed": 1.7 * n} for n in range(count // 16 + 1)]
    return b"".join(SHEET.frame["status"].encode(row) for row in rows)


def told_of_frames(random, data, *, early=0, dropout=False):
    """Send frames as the pump head does, and return what reading them tells."""
    line = SHEET.wire["from_pump"].line
    sent = np.concatenate([np.full(early, 0xF8), np.frombuffer(data, np.uint8)])
    gaps = np.full(len(sent), 0.0)
    gaps[early::16] = random.uniform(30, 300)
    trace = lr.transmit(sent, line, gaps=gaps, clock_error_ppm=random.uniform(-1e4, 1e4))
    if dropout:  # a contact that is lost for three to six characters of a frame
        character = 16 * int(random.integers(1, 5)) + random.uniform(3, 8)
        begin_s = np.interp(character, np.arange(len(sent)), lr.receive(trace, line).begin_s)
        begin = int(begin_s / trace.tick_s)
        end = begin + int(random.uniform(3, 6) * line.character_time_s / trace.tick_s)
        low, high = np.searchsorted(trace.edges, [begin, end])
        middle = ([begin] if (low & 1) else []) + ([end] if (high & 1) else [])
        trace = lr.Trace(np.concatenate([trace.edges[:low], middle, trace.edges[high:]]), trace.tick_s, end=trace.end)
    return {one.kind for one in lr.read(SHEET, {"from_pump": trace}).findings}


def told_of_pauses(random):
    """Send on after an XOFF, and return what reading both wires tells."""
    sheet = lr.parse_sheet('sheet = 1\n[line]\nbaud = 57600\nflow_control = "xon-xoff"\n[wire.there]\n[wire.back]')
    line = sheet.line
    sent = lr.transmit(values_of(random, "text", line, 100), line, gaps=random.uniform(0, 3))
    at = random.uniform(0.2, 0.7) * sent.end_s
    asks = lr.transmit([0x13, 0x11], line, begin_s=at, gaps=[0, random.uniform(100, 300)])
    kinds = {one.kind for one in lr.read(sheet, {"there": sent, "back": asks}).findings}
    return kinds - {"pause-ignored"} | ({"sent-while-paused"} if "pause-ignored" in kinds else set())  # both say so


def lossy(random, data):
    """Take out a stretch of bytes that is no whole number of frames, as a buffer that is full does."""
    begin = int(random.integers(20, len(data) - 40))
    return data[:begin] + data[begin + int(random.integers(3, 13)) :]


OTHERS = {  # what is done, what must be told, and what must not
    "low level raised to 0.9 to 1.5 V": (
        lambda random: {one.kind for one in voltages_of(random, (0.9, 1.5), (3.2, 3.4)).findings},
        "level-mismatch",
        "polarity-mismatch",
    ),
    "ground 1 to 2 V off": (
        lambda random: {one.kind for one in voltages_of(random, (-2.0, -1.0), (1.2, 2.2)).findings},
        "level-mismatch",
        "polarity-mismatch",
    ),
    "line driver without a receiver": (
        lambda random: {one.kind for one in voltages_of(random, (-12, -5), (5, 12)).findings},
        "level-mismatch",
        "noisy-line",
    ),
    "start-up character": (
        lambda random: told_of_frames(random, frames_of(random, 100), early=1),
        "startup-character",
        "resynchronised",
    ),
    "lost in a buffer": (
        lambda random: told_of_frames(random, lossy(random, frames_of(random, 100))),
        "overflow",
        "counter-gap",
    ),
    "lost on the line": (
        lambda random: told_of_frames(random, frames_of(random, 100), dropout=True),
        "counter-gap",
        "overflow",
    ),
    "XOFF ignored": (told_of_pauses, "sent-while-paused", "false-start"),
}


def tally(random, name, count, tries):
    """Return how often a mistake is told as what it is, and what was told instead."""
    declared, sent, kind, traffic = MISTAKES[name]
    right, instead = 0, {}
    for _ in range(tries):
        what = str(random.choice(traffic))
        line = lr.LineSettings.parse(sent)
        trace = capture_of(random, line, values_of(random, what, line, count), name)
        layouts = LAYOUTS if what == "frames" and line.data_bits == 8 else ()
        found = lr.diagnose(trace, lr.LineSettings.parse(declared), layouts=layouts).findings[0].kind
        right += found == kind
        if found != kind:
            instead[f"{found} ({what})"] = instead.get(f"{found} ({what})", 0) + 1
    return right, instead


def false_alarms(random, count, tries):
    """Return how many healthy captures are told to be anything else."""
    alarms = []
    for _ in range(tries):
        line = lr.LineSettings.parse(str(random.choice(HEALTHY)))
        what = str(random.choice((*KINDS, "alike")))
        trace = capture_of(random, line, values_of(random, what, line, count), "healthy")
        layouts = LAYOUTS if what == "frames" and line.data_bits == 8 else ()
        found = lr.diagnose(trace, line, layouts=layouts)
        if found.verdict != "clean":
            alarms.append((str(line), what, found.findings[0].kind, found.findings[0].text))
    return alarms


def blind(number):
    """Return how the settings of a wire are stated of which nothing is declared."""
    return judge_blind(*blind_case(number))


def main():
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--characters", type=int, default=100)
    parser.add_argument("--tries", type=int, default=100, help="captures of each mistake")
    parser.add_argument("--healthy", type=int, default=500, help="captures without a mistake")
    parser.add_argument("--blind", type=int, default=3000, help="captures of which nothing is declared")
    parser.add_argument("--seed", type=int, default=1)
    asked = parser.parse_args()
    random = np.random.default_rng(asked.seed)
    print(f"| mistake ({asked.characters} characters) | declared | sent | right of {asked.tries} | told instead |")
    print("|---|---|---|---|---|")
    for name, (declared, sent, _, _) in MISTAKES.items():
        right, instead = tally(random, name, asked.characters, asked.tries)
        others = ", ".join(f"{times} {kind}" for kind, times in instead.items())
        print(f"| {name} | {declared} | {sent} | {right} | {others} |", flush=True)
    for name, (make, kind, rival) in OTHERS.items():
        found = [make(random) for _ in range(asked.tries)]
        right = sum(kind in one and rival not in one for one in found)
        wrong = sorted({", ".join(sorted(one)) for one in found if kind not in one or rival in one})
        print(f"| {name} | | | {right} | {'; '.join(wrong[:3])} |", flush=True)
    alarms = false_alarms(random, asked.characters, asked.healthy)
    print(f"\nFalse alarms on {asked.healthy} healthy captures: {len(alarms)}")
    healthy = [voltages_of(random, (0.0, 0.3), (3.0, 3.5)).verdict for _ in range(asked.tries)]
    print(f"False alarms on {asked.tries} healthy captures of voltages: {sum(one != 'clean' for one in healthy)}")
    frames = [told_of_frames(random, frames_of(random, 100)) for _ in range(asked.tries)]
    print(f"False alarms on {asked.tries} healthy captures of frames: {sum(bool(one) for one in frames)}")
    with ProcessPoolExecutor() as pool:
        stated = Counter(pool.map(blind, range(asked.blind), chunksize=50))
    print(f"Settings found without a declaration, of {asked.blind}: {dict(stated)}")
    for alarm in alarms[:10]:
        print(" ", *alarm)


if __name__ == "__main__":
    main()
