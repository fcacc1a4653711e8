"""``larkreader demo``: the whole story on the dosing rig's data."""

from __future__ import annotations

import io
import json
from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from .common import console_form, json_option, print_document
from .grouped import command
from .live_findings import row_of

if TYPE_CHECKING:
    from larkreader.answers.reading import Reading
    from larkreader.demo.rig import Rig

SHOWN_KINDS = ("parity-error", "checksum-mismatch", "overflow")  # of the findings, where the demo is short
LIVE_LOOK_S = 0.5  # between looks at what was found in a recording that is played
SHOWN_S = (3.7, 3.82)  # of the service traffic: a late reply
DRAWN_S = (1.1, 2.4)  # of it
WRONG_CLOCK_PPM = -65_000.0  # of the far end in the second loopback: more than a receiver of 8E1 tolerates


@command()
@click.option(
    "--into",
    type=click.Path(path_type=Path),
    default=Path("larkreader-demo"),
    show_default=True,
    metavar="FOLDER",
    help="Where to write the sheet, the captures, the data and the figure.",
)
@click.option("--all", "show_all", is_flag=True, help="Show the whole tour, on twelve pages.")
@json_option
def demo(into: Path, show_all: bool, as_json: bool) -> int:
    """Run the whole story on the dosing rig: declare, read, judge, exercise.

    A greenhouse controller talks to a pump head. Their link is worked out on paper; ten seconds of both wires are
    simulated, with a known list of faults on them; the capture is read, each fault is found and explained, a loopback
    is run, and a dialogue held. What it shows fits on a screen. The exit status is 0 if exactly the faults on the
    wires were found.
    """
    from larkreader.answers.planning import plan
    from larkreader.answers.reading import read
    from larkreader.demo.rig import make_rig, write_rig
    from larkreader.demo.wires import is_found
    from larkreader.errors import RequestError
    from larkreader.present.tables import finding_views, reading_views
    from larkreader.present.tables.plan_views import margins
    from larkreader.present.text import terminal

    screen = terminal.make_console()
    console = screen if show_all and not as_json else terminal.make_console(into=io.StringIO())
    if into.exists() and not into.is_dir():
        raise RequestError("--into", f'is "{into}", which is a file', "must be a folder")
    into.mkdir(parents=True, exist_ok=True)
    rig = make_rig()
    files = write_rig(into, rig)

    console.print(terminal.heading(f"1  The link, as {files['sheet']} declares it"))
    console.print(reading_views.link(rig.sheet))

    console.print(terminal.heading("2  On paper, before anything is sent"))
    planned = plan(rig.sheet)
    console.print(margins(planned))
    console.print(f"\nThe whole plan is {planned.verdict}: larkreader plan {files['sheet']}", soft_wrap=True)

    console.print(terminal.heading(f"3  Reading the capture {files['capture']}"))
    reading = read(str(files["sheet"]), str(files["capture"]))
    console.print(reading_views.counts(reading))

    console.print(terminal.heading("4  What is wrong, and why"))
    console.print(finding_views.findings(reading.findings, reading.verdict))
    agree = is_found(rig.injected, reading.findings)
    number = len(rig.injected)
    result = f"exactly the {number} faults that were put on the wires" if agree else "not what was put there"
    console.print(f"\nFound: {result}.", style="bold")

    console.print(terminal.heading(f"5  The same bytes as the firmware got them, {files['delivered']}"))
    delivered = read(str(files["sheet"]), str(files["delivered"]), wire="from_pump")
    console.print(finding_views.findings(delivered.findings, delivered.verdict))

    console.print(terminal.heading("6  A burst into a ring that is too small, and the same with flow control"))
    held = _bursts(into, console)

    console.print(terminal.heading("7  Both wires on one timeline: requests and replies"))
    paired = _timeline(into, console)

    console.print(terminal.heading("8  A loopback, through a simulated line"))
    passed = _loopbacks(rig, console)

    console.print(terminal.heading("9  A dialogue with the pump head's stand-in"))
    agreed = _dialogue(rig, console)

    console.print(terminal.heading("10  Live: findings and values as they arrive, here from a recording"))
    heard = _live(into, rig, console)

    stands_out = True
    if show_all:  # it takes as long as all the rest
        console.print(terminal.heading("11  A campaign: 144 captures of six boards and four builds"))
        stands_out = _campaign(into, console)

    written = _write_results(into, rig, reading)
    console.print(terminal.heading("12  Written"))
    shown = {
        str(files["sheet"]): "the sheet",
        str(files["capture"]): "the capture: both wires, as a VCD file",
        str(files["delivered"]): "the bytes that the controller's firmware got",
        str(into / "history.vcd"): "a burst, with history.toml; and history_paused.vcd with its sheet",
        str(into / "service.vcd"): "questions and answers on both wires, with service.toml",
        str(into / "shift.jsonl"): "a recording: larkreader listen --replay plays it as if it were live",
        **({str(into / "campaign"): "a campaign: sheet, list of captures, captures"} if show_all else {}),
        **written,
    }
    console.print(terminal.files(shown))
    console.print(f"\nNow try: larkreader decode {files['sheet']} {files['capture']}", soft_wrap=True)
    console.print(f"and: larkreader report {files['sheet']} {files['capture']} -o {into / 'rig.html'}", soft_wrap=True)
    is_right = agree and passed and agreed and held and paired and heard and stands_out and planned.verdict == "clean"
    if as_json:
        faults = sorted({item.kind for item in rig.injected})
        found = sorted({finding.kind for finding in reading.findings})
        verdict = "pass" if is_right else "fail"
        print_document("demo", {"files": shown, "verdict": verdict, "faults": faults, "found": found})
    elif not show_all:
        _show_in_short(screen, rig, reading, files, into, result, passed=passed)
    return 0 if is_right else 1


def _show_in_short(
    console: Any, rig: Rig, reading: Reading, files: Mapping[str, Path], into: Path, result: str, *, passed: bool
) -> None:
    """Show the link, a few findings, and what to try next."""
    from larkreader.present.tables import finding_views, reading_views

    first = {finding.kind: finding for finding in reversed(reading.findings)}
    characters, frames = sum(map(len, reading.characters.values())), sum(map(len, reading.frames.values()))
    console.print(reading_views.link(rig.sheet))
    console.print(f"\n{characters:,} characters and {frames:,} frames read. Three of the findings:\n", style="bold")
    console.print(finding_views.explained([first[kind] for kind in SHOWN_KINDS]))
    console.print(f"\nFound: {result}.", style="bold")
    console.print(f"A parity error, drawn: {into / 'waveform.png'}", soft_wrap=True)
    outcome = "as expected" if passed else "not as expected"
    console.print(
        f"Loopback: passes at {rig.sheet.line}, fails with a clock {-WRONG_CLOCK_PPM / 1e4:g} % slow: {outcome}"
    )
    console.print(f"All findings: larkreader decode {files['sheet']} {files['capture']}", soft_wrap=True)
    console.print("The whole tour: larkreader demo --all")
    console.print("Now your own capture: larkreader diagnose FILE", style="bold")


def _bursts(into: Path, console: Any) -> bool:
    """Read the pump head's history with and without flow control; return whether it is lost without it alone."""
    from larkreader.answers.reading import read
    from larkreader.demo.rig import write_history
    from larkreader.present.tables.path_views import lost_of, receive_paths

    lost = []
    for paused, result in ((False, "Without flow control:"), (True, "With RTS and CTS:")):
        files = write_history(into, paused=paused)
        reading = read(str(files["sheet"]), str(files["capture"]))
        lost.append(lost_of(reading.paths["from_pump"].replay))
        console.print(*([""] if paused else []), f"{result}\n", receive_paths(reading.paths), sep="\n")
        if not paused:
            (finding,) = reading.findings
            console.print(f"{finding.severity} {finding.kind}: {finding.advice}")
    return lost[0] > 0 and lost[1] == 0


def _timeline(into: Path, console: Any) -> bool:
    """Read questions and answers of both wires; return whether what was found is what was put there."""
    from larkreader.answers.reading import read
    from larkreader.demo.service import make_service, write_service
    from larkreader.demo.wires import is_found
    from larkreader.present.figures.style import new_figure, write_figure
    from larkreader.present.figures.timeline import draw_timeline
    from larkreader.present.tables.timeline_rows import TimelineRows
    from larkreader.present.tables.timeline_views import pairs_table, timeline_table

    service = make_service()
    files = write_service(into, service)
    reading = read(str(files["sheet"]), str(files["capture"]))
    rows = TimelineRows(reading)
    shown = rows.between(*SHOWN_S)
    console.print(timeline_table(rows.entries(shown), rows.timeline.wires, pairings=1, width=console.width))
    console.print("", pairs_table(reading.pairs, reading.sheet.pair), sep="\n")
    picture = new_figure()
    draw_timeline(reading, begin_s=DRAWN_S[0], end_s=DRAWN_S[1], ax=picture.add_subplot())
    write_figure(picture, into / "timeline.png")
    kinds = ", ".join(dict.fromkeys(finding.kind for finding in reading.findings))
    console.print(f"\nFound: {kinds}.")
    return is_found(service.injected, reading.findings)


def _live(into: Path, rig: Rig, console: Any) -> bool:
    """Judge a recording as if it arrived now; return whether what was found is what was put there."""
    from larkreader.answers.live_reading import LiveReading
    from larkreader.capture.files.open import open_every_wire
    from larkreader.demo.shift import WIRE, write_shift
    from larkreader.demo.wires import is_found
    from larkreader.exercise.ports.replayed import Replay
    from larkreader.present.tables.reading_views import values
    from larkreader.present.tables.value_view import ValueView
    from larkreader.present.text.dump import DumpForm
    from larkreader.present.text.views import Arrival

    path, injected = write_shift(into, rig.sheet)
    replay = Replay([open_every_wire(path)], [WIRE], float("inf"))
    live = LiveReading(rig.sheet, wires=[WIRE])
    form = DumpForm(who_width=0, width=console.width, ascii_only=console_form()[1])
    view = ValueView(form, {WIRE: [rig.sheet.frame["status"]]})
    looked_s = 0.0
    while (group := replay.take(WIRE, float("inf"))) is not None:
        live.feed(WIRE, group.data, group.time_s, faults=group.faults)
        for _ in view.take(Arrival(WIRE, group.time_s, 0, group.data, group.faults)):
            pass
        if group.time_s >= looked_s + LIVE_LOOK_S:
            looked_s = group.time_s
            for finding in live.changed():
                console.print(row_of(finding, is_new=True), soft_wrap=True)
    live.close()
    console.print("", values(view), sep="\n")
    console.print(f"\nPlay it: larkreader listen --replay {path} --sheet {into / 'rig.toml'}", soft_wrap=True)
    return is_found(injected, live.findings)


def _campaign(into: Path, console: Any) -> bool:
    """Read the captures of many boards and builds; return whether the regression and the drift stand out."""
    from larkreader.answers.campaign.reading_many import read_many
    from larkreader.demo.campaign import BROKEN_BUILD, DRIFTING_BOARD, write_campaign
    from larkreader.present.tables.campaign_views import overview

    folder = into / "campaign"
    folder.mkdir(exist_ok=True)
    files = write_campaign(folder)
    with read_many(files["sheet"], files["captures"]) as campaign:
        console.print(overview(campaign, ["build"]))
        regressions = campaign.concentrations()[:1]
        drifts = [item.value for item in campaign.trends() if item.severity != "note"]
    console.print(f"\nAsk more in {folder}: larkreader batch campaign.toml captures.csv", soft_wrap=True)
    return [item.value for item in regressions] == [BROKEN_BUILD] and drifts == [DRIFTING_BOARD]


def _loopbacks(rig: Rig, console: Any) -> bool:
    """Run one loopback that must pass, and one with a wrong clock at the far end that must fail."""
    from larkreader.declare.run.loopback import LoopbackPlan
    from larkreader.exercise.devices.device import Device
    from larkreader.exercise.loopback.run import run_loopback
    from larkreader.exercise.ports.simulated import SimulatedPort
    from larkreader.present.tables import loopback_views

    plan = LoopbackPlan(characters=4096)
    good = run_loopback(SimulatedPort(rig.sheet.line, Device()), plan)
    console.print(f"An echo at {rig.sheet.line}, 4,096 characters of a counting pattern:\n")
    console.print(loopback_views.loopback(good))
    bad = run_loopback(SimulatedPort(rig.sheet.line, Device(), clock_error_ppm=WRONG_CLOCK_PPM), plan)
    console.print(f"\nThe same echo, its transmitter's clock {-WRONG_CLOCK_PPM / 1e4:g} % slow:\n")
    console.print(loopback_views.loopback(bad))
    return good.verdict == "pass" and bad.verdict == "fail"


def _dialogue(rig: Rig, console: Any) -> bool:
    """Hold the dialogue of the sheet."""
    from larkreader.exercise.ports.open import open_by_name
    from larkreader.exercise.talk.dialogue import run_dialogue
    from larkreader.present.tables.dialogue_views import dialogue

    with open_by_name("pump", rig.sheet) as port:
        result = run_dialogue({"pump": port}, rig.sheet.exchange, rig.sheet.frame)
    console.print(dialogue(result))
    return result.verdict == "pass"


def _write_results(into: Path, rig: Rig, reading: Reading) -> dict[str, str]:
    """Write characters, frames, findings and a figure; return what each file holds."""
    from larkreader.answers.reading import read
    from larkreader.capture.files.csv_characters import write_characters
    from larkreader.present.documents.frame_tables import write_frames
    from larkreader.present.figures.fill import draw_fill
    from larkreader.present.figures.style import new_figure, write_figure
    from larkreader.present.figures.waveform import draw_waveform
    from larkreader.sources import write_whole

    write_characters(into / "characters.csv", reading.characters)
    write_frames(into / "frames.csv", reading)
    write_whole(into / "reading.json", json.dumps(reading.to_dict(), indent=2) + "\n")
    first = next(
        finding.offset for finding in reading.findings if finding.kind == "parity-error" and finding.wire == "from_pump"
    )
    wire = rig.sheet.wire["from_pump"]
    picture = new_figure()
    draw_waveform(
        rig.traces[wire.source],
        reading.characters["from_pump"],
        wire.line,
        first=max((first or 0) - 1, 0),
        count=4,
        ax=picture.add_subplot(),
    )
    write_figure(picture, into / "waveform.png")
    picture = new_figure()
    result = read(str(into / "history_paused.toml"), str(into / "history_paused.vcd"))
    draw_fill(result.paths["from_pump"], ax=picture.add_subplot())
    write_figure(picture, into / "fill.png")
    return {
        str(into / "characters.csv"): "every character with its time and faults",
        str(into / "frames.csv"): "every frame with its fields",
        str(into / "reading.json"): "counts and findings",
        str(into / "waveform.png"): "a parity error, drawn",
        str(into / "timeline.png"): "requests joined to their replies",
        str(into / "fill.png"): "how full FIFO and ring get while the sender is paused in time",
    }
