"""``larkreader convert``: from one capture format to another."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from .common import InputFile, check_output, json_option, note, print_written, workers
from .forms import Rate, form_of, form_options
from .grouped import command
from .output_file import standard_output

if TYPE_CHECKING:
    from larkreader.capture.files.capture_file import CaptureFile
    from larkreader.declare.run.capture_form import CaptureForm, CaptureKind

ENDINGS = {".vcd": "vcd", ".csv": "csv", ".npz": "arrays", ".raw": "samples", ".bin": "bytes", ".jsonl": "recording"}


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
    from larkreader.capture.files.rewriting import PassingLevels
    from larkreader.errors import RequestError

    to = ENDINGS[output.suffix.lower()]
    if to != "samples" and rate is not None:
        raise RequestError("--out-rate", "is of samples", "must go with a .raw file")
    if to == "samples" and rate is None:
        raise RequestError("--out-rate", "is missing", "a raw file needs a rate, as in --out-rate 1M")
    names = tuple(dict.fromkeys(signals or file.signals()))
    passing = PassingLevels(file, names)
    writers: dict[str, Callable[[Path], None]] = {
        "vcd": passing.write_vcd,
        "csv": passing.write_table,
        "arrays": passing.write_arrays,
        "samples": lambda path: passing.write_samples(path, rate or 0.0, form),
    }
    if to not in writers:
        raise RequestError("OUT", "would hold characters, but IN holds levels", advice="Use decode --characters")
    _written(output, writers[to])
    if passing.began_s is not None:
        note(f"note: IN begins at {passing.began_s:.9g} s; VCD has no time before 0, so that OUT begins there")
    _note_breaks(passing.breaks)
    return f"{passing.count:,} changes of {', '.join(names)}"


def _convert_characters(file: CaptureFile, output: Path, signals: tuple[str, ...]) -> str:
    """Write characters; return what was written."""
    from larkreader.capture.files.rewriting import PassingCharacters
    from larkreader.errors import RequestError

    to = ENDINGS[output.suffix.lower()]
    passing = PassingCharacters(file, tuple(dict.fromkeys(signals)))
    writers: dict[str, Callable[[Path], None]] = {
        "csv": passing.write_table,
        "bytes": passing.write_bytes,
        "recording": passing.write_recording,
    }
    if to not in writers:
        raise RequestError("OUT", "would hold levels, but IN holds characters", "must end in .csv, .bin or .jsonl")
    _written(output, writers[to])
    _note_breaks(passing.breaks)
    if to != "recording":
        _note_counted(passing.counted)
    return f"{sum(passing.counts.values()):,} characters of {', '.join(passing.counts)}"


def _written(output: Path, write: Callable[[Path], None]) -> None:
    """Write a file; leave none if that fails."""
    try:
        write(output)
    except BaseException:
        output.unlink(missing_ok=True)
        raise


def _note_counted(counted: dict[str, Counter[str]]) -> None:
    """Name what the driver of a port counted, which OUT has no place for."""
    for name, counts in counted.items():
        found = ", ".join(f"{count:,} {what}" for what, count in counts.items())
        note(f"note: OUT lacks what the port's driver counted on {name}: {found}; a .jsonl file keeps it")


def _note_breaks(breaks: dict[str, str]) -> None:
    """Say where the capture breaks off."""
    for text in dict.fromkeys(filter(None, breaks.values())):
        note(f"note: IN is cut off; {text}")
