"""``larkreader decode``: read a capture against a sheet."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from larkreader.harmless import harmless

from .builds import build_options, check_build_options, report_to_build
from .common import (
    check_output,
    console_form,
    exit_status,
    json_option,
    judge_large,
    note,
    oversampling_option,
    print_document,
    read_with_progress,
    samples_option,
    stops_option,
    wire_option,
    write_fates_of,
)
from .forms import form_of, form_options
from .grouped import command
from .line_option import sheet_and_capture
from .output_file import OutputFile
from .showing import encoding_option, numbers_option

if TYPE_CHECKING:
    from larkreader.answers.reading import Reading
    from larkreader.answers.summed_reading import SummedReading
    from larkreader.capture.ring import RingMemory
    from larkreader.declare.run.capture_form import CaptureKind


@command()
@sheet_and_capture
@json_option
@click.option("--characters", type=OutputFile(".csv"), metavar="FILE", help="Write the characters as CSV.")
@click.option(
    "--frames",
    type=OutputFile(".csv"),
    metavar="FILE",
    help="Write the frames with their fields: .csv, .jsonl for JSON Lines, or .npz for NumPy arrays.",
)
@click.option(
    "--fates",
    type=OutputFile(".csv"),
    metavar="FILE",
    help="Write as CSV what becomes of each character in the declared receive paths.",
)
@click.option(
    "--write-index",
    type=click.IntRange(0),
    metavar="N",
    help="CAPTURE is the memory of a ring buffer, as bytes or as a hex dump, and N where the next character would be "
    "written.",
)
@click.option("--filled", type=click.IntRange(0), metavar="N", help="How many characters of a ring buffer count.")
@click.option(
    "--explain",
    type=click.IntRange(0),
    metavar="N",
    help="Take frame N apart, counted from 0 in order of time: bits, values, checks.",
)
@click.option("--statistics", is_flag=True, help="Show statistics of fields, and how regularly frames arrive, instead.")
@click.option("--elements", is_flag=True, help="With --statistics: a row for each element of an array.")
@click.option("--bytes", "bytes_", is_flag=True, help="Show the frames in hexadecimal and what each byte does instead.")
@click.option(
    "--moved-at", "moved_at_s", type=float, metavar="SECONDS", help="With --bytes: how they differ before and after."
)
@click.option(
    "--propose", is_flag=True, help="Write the fields that the bytes of the frames suggest as a sheet instead."
)
@click.option("--dump", is_flag=True, help="Show the characters as text and numbers instead.")
@click.option("--changes", is_flag=True, help="Show what changed from one frame to the next instead.")
@numbers_option
@encoding_option
@wire_option
@form_options
@samples_option
@oversampling_option
@stops_option
@build_options
def decode(
    sheet: Path,
    capture: Path,
    as_json: bool,
    junit: Path | None,
    annotations: str | None,
    characters: Path | None,
    frames: Path | None,
    fates: Path | None,
    wire: str | None,
    kind: CaptureKind | None,
    given: dict[str, Any],
    samples: str,
    oversampling: str | None,
    check_stops: bool,
    explain: int | None,
    statistics: bool,
    elements: bool,
    bytes_: bool,
    moved_at_s: float | None,
    dump: bool,
    changes: bool,
    propose: bool,
    write_index: int | None,
    filled: int | None,
    numbers: str,
    encoding: str,
) -> int:
    """Read CAPTURE as SHEET declares it: characters, frames, findings.

    The exit status is 1 if there is a finding of severity error.
    """
    from larkreader.declare.document.sheet_file import open_sheet
    from larkreader.errors import RequestError
    from larkreader.present.text.notation import check_encoding

    views = {"--explain": explain is not None, "--statistics": statistics, "--bytes": bytes_, "--changes": changes,
             "--propose": propose, "--dump": dump}  # fmt: skip
    if len(chosen := [view for view, is_chosen in views.items() if is_chosen]) > 1:
        raise RequestError(" and ".join(chosen), "exclude each other", "choose one view")
    if as_json and (dump or propose):
        raise RequestError(chosen[0], "has no JSON document", advice="Leave out --json, or the view")
    if elements and not statistics:
        raise RequestError("--elements", "gives each element of an array a row", "goes with --statistics")
    if moved_at_s is not None and not bytes_:
        raise RequestError("--moved-at", "compares what bytes do", "goes with --bytes")
    check_output(characters)
    check_output(frames)
    check_output(fates)
    if frames is not None:
        from larkreader.present.documents.frame_tables import check_ending

        check_ending(frames)
    check_build_options(junit, annotations, as_json=as_json)
    encoding = check_encoding(encoding)
    ring = _ring_of(capture, write_index, filled, kind)
    needs_columns = bool(chosen) or any(path is not None for path in (characters, frames, fates))
    if ring is None:
        declared = open_sheet(sheet)
        how: dict[str, Any] = {
            "kind": kind,
            "form": form_of(declared.capture, given),
            "wire": wire,
            "samples": int(samples),
            "oversampling": None if oversampling is None else int(oversampling),
            "check_stops": check_stops,
        }
        if not needs_columns and (summed := judge_large(declared, sheet, capture, how)) is not None:
            return _report(summed, sheet, capture, junit, annotations, as_json=as_json)
        reading = read_with_progress(declared, capture, sheet_name=str(sheet), **how)
    else:
        reading = _read_ring(sheet, capture, ring, wire)
    _write_files(reading, sheet, characters, frames, fates)
    if chosen and not dump:
        from .frame_reports import show_view

        if _is_reported(reading, sheet, capture, junit, annotations):
            return exit_status(reading.verdict)
        show_view(reading, chosen[0], explain, moved_at_s, elements=elements, as_json=as_json)
        return exit_status(reading.verdict)
    if dump:
        if not _is_reported(reading, sheet, capture, junit, annotations):
            for row in _rows_of(reading, ring, numbers, encoding):
                click.echo(row)
        return exit_status(reading.verdict)
    return _report(reading, sheet, capture, junit, annotations, as_json=as_json)


def _is_reported(
    reading: Reading | SummedReading, sheet: Path, capture: Path, junit: Path | None, annotations: str | None
) -> bool:
    """Write what a build server is given; return whether nothing else is printed."""
    name = f"decode {sheet} {capture}"
    return report_to_build(
        junit, annotations, name, reading.findings, sheet=sheet, capture=capture, checked=reading.checked
    )


def _report(
    reading: Reading | SummedReading,
    sheet: Path,
    capture: Path,
    junit: Path | None,
    annotations: str | None,
    *,
    as_json: bool,
) -> int:
    """Print a reading, or what a build server is given of it; return the exit status."""
    if not _is_reported(reading, sheet, capture, junit, annotations):
        if as_json:
            print_document("reading", reading.to_dict())
        else:
            _show(reading, sheet, capture)
    return exit_status(reading.verdict)


def _write_files(
    reading: Reading, sheet: Path, characters: Path | None, frames: Path | None, fates: Path | None
) -> None:
    """Write the tables that were asked for."""
    if characters is not None:
        from larkreader.capture.files.csv_characters import write_characters

        write_characters(characters, reading.characters)
        note(f"characters written to {characters}")
    if frames is not None:
        from larkreader.present.documents.frame_tables import write_frames

        write_frames(frames, reading)
        note(f"frames written to {frames}")
    if fates is not None:
        write_fates_of(reading.paths, fates, str(sheet))


def _show(reading: Reading | SummedReading, sheet: Path, capture: Path) -> None:
    """Show counts and findings."""
    from larkreader.present.tables import finding_views, reading_views
    from larkreader.present.text import terminal

    console = terminal.make_console()
    heading = f"{capture} read as {sheet}: {reading.sheet.title}".removesuffix(": ")
    console.print(harmless(heading, is_name=True), soft_wrap=True)
    console.print()
    console.print(reading_views.counts(reading))
    console.print()
    if reading.pairs:
        from larkreader.present.tables.timeline_views import pairs_table

        console.print(pairs_table(reading.pairs, reading.sheet.pair), "", sep="\n")
    if reading.paths:
        from larkreader.present.tables.path_views import paths_in_short

        console.print(paths_in_short(reading.paths), "", sep="\n")
    if reading.pauses:
        from larkreader.present.tables.path_views import pauses_table

        console.print(pauses_table(reading.pauses), "", sep="\n")
    console.print(finding_views.findings(reading.findings, reading.verdict, reading.checked))


def _ring_of(capture: Path, write_index: int | None, filled: int | None, kind: CaptureKind | None) -> RingMemory | None:
    """Return the ring buffer whose memory the capture is, if the options say that it is one."""
    from larkreader.capture.files.ring_file import open_ring
    from larkreader.errors import RequestError

    if write_index is None:
        if filled is not None:
            raise RequestError("--filled", "gives the level of a ring buffer", "must go with --write-index N")
        return None
    if kind not in (None, "bytes", "hex"):
        raise RequestError("--write-index", f"goes with --kind {kind}", "must go with the bytes of a memory, or a dump")
    return open_ring(capture, write_index, filled, kind=kind)


def _read_ring(sheet: Path, capture: Path, ring: RingMemory, wire: str | None) -> Reading:
    """Read what a ring buffer holds, the oldest character first."""
    from larkreader.answers.reading import read
    from larkreader.declare.document.sheet_file import open_sheet
    from larkreader.errors import RequestError

    declared = open_sheet(sheet)
    if wire is None and len(declared.wire) != 1:
        advice = f"Name the wire with --wire: {', '.join(declared.wire)}"
        raise RequestError(str(capture), "holds bytes of a single wire, but the sheet declares several", "", advice)
    chosen = wire or next(iter(declared.wire))
    reading = read(declared, {chosen: ring.unrolled()}, wire=chosen)
    return replace(reading, capture=str(capture), sheet_name=str(sheet))


def _rows_of(reading: Reading, ring: RingMemory | None, numbers: str, encoding: str) -> Iterator[str]:
    """Yield the rows that show the memory of a ring buffer, if there is one, and the characters of all wires."""
    from larkreader.present.text.dump import DumpForm, dump, ring_rows

    lines = {key: reading.sheet.wire[key].line for key in reading.characters}
    width, ascii_only = console_form()
    form = DumpForm(
        who_width=max(map(len, lines)),
        width=width,
        ascii_only=ascii_only,
        notation=None if numbers == "all" else numbers,  # type: ignore[arg-type]  # as the choices are
        encoding=encoding,
        bits=max(8, *(line.data_bits for line in lines.values())),
    )
    if ring is not None:
        yield from ring_rows(ring, form)
        yield from ("", "In order of arrival:")
    yield from dump(reading.characters, {key: 1.5 * line.character_time_s for key, line in lines.items()}, form)
