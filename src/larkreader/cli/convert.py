"""``larkreader convert``: from one capture format to another."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from .common import InputFile, check_output, json_option, note, print_written, workers
from .forms import Rate, form_of, form_options
from .grouped import command
from .output_file import standard_output

if TYPE_CHECKING:
    from larkreader.capture.characters import Characters
    from larkreader.capture.files.capture_file import CaptureFile
    from larkreader.capture.trace import Trace
    from larkreader.declare.run.capture_form import CaptureForm, CaptureKind

ENDINGS = {".vcd": "vcd", ".csv": "csv", ".npz": "arrays", ".raw": "samples", ".bin": "bytes", ".jsonl": "recording"}
CHARACTER_FORMATS = ("csv", "bytes", "recording")


@command()
@click.argument("capture", metavar="IN", type=InputFile())
@click.argument("output", metavar="OUT", type=click.Path(path_type=Path))
@form_options
@click.option("--signal", "signals", metavar="NAME", multiple=True, help="Take this signal alone; may be repeated.")
@click.option(
    "--to",
    type=click.Choice([ending.removeprefix(".") for ending in ENDINGS]),
    help="The format of standard output, by the ending that a file would have.",
)
@click.option("--out-rate", type=Rate(), metavar="N", help="Samples a second of OUT, where it is a raw file.")
@click.option(
    "--out-bits", type=click.Choice(["1", "8", "16", "32"]), default="8", show_default=True, help="Bits of its samples."
)
@click.option("--out-packing", type=click.Choice(["lsb", "msb"]), default="lsb", help="Where its first sample lies.")
@click.option("--out-order", type=click.Choice(["little", "big"]), default="little", help="Order of its bytes.")
@json_option
def convert(
    capture: Path,
    output: Path,
    kind: CaptureKind | None,
    given: dict[str, Any],
    signals: tuple[str, ...],
    to: str | None,
    out_rate: float | None,
    out_bits: str,
    out_packing: str,
    out_order: str,
    as_json: bool,
) -> int:
    """Write the capture IN in another format, which the ending of OUT selects.

    Levels and voltages: .vcd, .csv, .npz, or .raw for samples. Characters: .csv, .bin for their bytes alone, .jsonl
    for a recording. An existing OUT is never overwritten. OUT may be -, standard output, with --to.
    """
    from larkreader.capture.files.capture_file import CaptureFile
    from larkreader.errors import RequestError

    if output == Path("-"):
        if to is None:
            raise RequestError("OUT", "is standard output", "needs --to, as in --to csv")
        output = standard_output(f".{to}")
    elif to is not None:
        raise RequestError("--to", f"goes with standard output, and OUT is {output}", advice="Write - for OUT")
    ending = output.suffix.lower()
    if ending not in ENDINGS:
        raise RequestError(str(output), f'ends in "{ending}"', f"must end in {', '.join(ENDINGS)}")
    check_output(output)
    if output.exists():
        raise RequestError(str(output), "exists already", advice="Name another file")
    with CaptureFile(capture, kind=kind, form=form_of(None, given), workers=workers()) as file:
        if file.holds_levels:
            out_form = form_of(None, {"bits": int(out_bits), "packing": out_packing, "order": out_order})
            held = _convert_levels(file, output, signals, out_rate, out_form)
        else:
            held = _convert_characters(file, output, signals)
    note(f"{held} written to {output}")
    if as_json:
        print_written({str(output): held})
    return 0


def _convert_levels(
    file: CaptureFile, output: Path, signals: tuple[str, ...], rate: float | None, form: CaptureForm
) -> str:
    """Write levels; return what was written."""
    to = ENDINGS[output.suffix.lower()]
    traces = file.traces({name: name for name in signals or file.signals()})
    write = _trace_writer(to, rate, form)
    early_s = min((trace.begin - 1) * trace.tick_s for trace in traces.values())
    if to == "vcd" and early_s < -min(trace.tick_s for trace in traces.values()):
        note(f"note: IN begins at {early_s:.9g} s; VCD has no time before 0, so that OUT begins there")
        traces = {name: trace.later_by(-round(early_s / trace.tick_s)) for name, trace in traces.items()}
    _written(output, lambda path: write(path, traces))
    _note_breaks({name: trace.truncated for name, trace in traces.items()})
    return f"{sum(map(len, traces.values())):,} changes of {', '.join(traces)}"


def _convert_characters(file: CaptureFile, output: Path, signals: tuple[str, ...]) -> str:
    """Write characters; return what was written."""
    from larkreader.errors import RequestError

    to = ENDINGS[output.suffix.lower()]
    if to not in CHARACTER_FORMATS:
        raise RequestError("OUT", "would hold levels, but IN holds characters", "must end in .csv, .bin or .jsonl")
    passing = _Passing(file, signals, to)
    if to == "recording":
        _write_at_once(output, passing)
    else:
        passing = _write_as_read(output, passing)
    _note_breaks(passing.breaks)
    if to != "recording":
        _note_counted(passing.counted)
    return f"{sum(passing.counts.values()):,} characters of {', '.join(passing.counts)}"


def _write_as_read(output: Path, passing: _Passing) -> _Passing:
    """Write a table or bytes as they are read, or at once what is out of order; return what passed."""
    from larkreader.capture.files.byte_files import write_byte_pieces
    from larkreader.capture.files.csv_characters import write_character_pieces
    from larkreader.capture.files.time_order import OutOfOrderError, in_order_of_time

    if passing.to == "bytes":
        values = (some for piece in passing for some in piece.values())
        _written(output, lambda path: write_byte_pieces(path, values))
        return passing
    try:
        _written(output, lambda path: write_character_pieces(path, in_order_of_time(passing)))
    except OutOfOrderError:
        passing = passing.again()
        _write_at_once(output, passing)
    return passing


def _write_at_once(output: Path, passing: _Passing) -> None:
    """Write a table or a recording of all that there is."""
    from larkreader.capture.files.csv_characters import write_characters
    from larkreader.capture.files.recording import write_recording

    wires = passing.whole()
    write: Callable[[Path, dict[str, Characters]], None]
    write = write_recording if passing.to == "recording" else write_characters
    _written(output, lambda path: write(path, wires))


class _Passing:
    """The wanted wires of a file of characters, piece by piece, with what has to be known of them afterwards."""

    def __init__(self, file: CaptureFile, signals: tuple[str, ...], to: str) -> None:
        self._file, self._signals, self.to = file, signals, to
        self.counts: dict[str, int] = dict.fromkeys(signals, 0)
        self.breaks: dict[str, str] = {}
        self.counted: dict[str, Counter[str]] = {}

    def __iter__(self) -> Iterator[dict[str, Characters]]:
        from larkreader.errors import RequestError, nearest

        seen: dict[str, None] = {}
        for piece in self._file.pieces_of_every_wire():
            seen |= dict.fromkeys(piece)
            chosen = [wire for wire in self._signals or piece if wire in piece]
            for wire in chosen:
                self.counts[wire] = self.counts.get(wire, 0) + len(piece[wire])
                self.breaks[wire] = piece[wire].truncated
                for _, what, count in piece[wire].counted:
                    self.counted.setdefault(wire, Counter())[what] += count
            if self.to == "bytes" and len(self.counts) > 1:
                raise RequestError(
                    "OUT", f"would hold the bytes of {', '.join(self.counts)}", advice="Name one with --signal"
                )
            yield {wire: piece[wire] for wire in chosen}
        if self.to == "bytes" and not self.counts:
            raise RequestError(self._file.name, "holds no wire")
        for name in self._signals:
            if name not in seen:
                raise RequestError(f"--signal {name}", "is not in the capture", advice=nearest(name, list(seen)))

    def again(self) -> _Passing:
        """Return the same from the beginning."""
        return _Passing(self._file, self._signals, self.to)

    def whole(self) -> dict[str, Characters]:
        """Return all of them at once, by wire."""
        from larkreader.capture.characters import Characters

        parts: dict[str, list[Characters]] = {wire: [] for wire in self.counts}
        for piece in self:
            for wire, some in piece.items():
                parts.setdefault(wire, []).append(some)
        return {wire: Characters.joined(held) for wire, held in parts.items()}


def _written(output: Path, write: Callable[[Path], None]) -> None:
    """Write a file; leave none if that fails."""
    try:
        write(output)
    except BaseException:
        output.unlink(missing_ok=True)
        raise


def _trace_writer(to: str, rate: float | None, form: CaptureForm) -> Callable[[Path, dict[str, Trace]], None]:
    from larkreader.capture.files.csv_levels import write_levels
    from larkreader.capture.files.samples import write_samples
    from larkreader.capture.files.trace_arrays import write_trace_arrays
    from larkreader.capture.files.vcd_writer import write_vcd
    from larkreader.errors import RequestError

    if to != "samples" and rate is not None:
        raise RequestError("--out-rate", "is of samples", "must go with a .raw file")
    if to == "samples":
        if rate is None:
            raise RequestError("--out-rate", "is missing", "a raw file needs a rate, as in --out-rate 1M")
        return lambda path, traces: write_samples(path, traces, rate, form)
    writers: dict[str, Callable[[Path, dict[str, Trace]], None]] = {
        "vcd": write_vcd,
        "csv": write_levels,
        "arrays": write_trace_arrays,
    }
    if to not in writers:
        raise RequestError("OUT", "would hold characters, but IN holds levels", advice="Use decode --characters")
    return writers[to]


def _note_counted(counted: dict[str, Counter[str]]) -> None:
    """Name what the driver of a port counted, which OUT has no place for."""
    for name, counts in counted.items():
        found = ", ".join(f"{count:,} {what}" for what, count in counts.items())
        note(f"note: OUT lacks what the port's driver counted on {name}: {found}; a .jsonl file keeps it")


def _note_breaks(breaks: dict[str, str]) -> None:
    """Say where the capture breaks off."""
    for text in dict.fromkeys(filter(None, breaks.values())):
        note(f"note: IN is cut off; {text}")
