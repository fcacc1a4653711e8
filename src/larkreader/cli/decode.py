"""``larkreader decode``: read a capture against a sheet."""

from __future__ import annotations

from pathlib import Path

import click

from .common import (
    capture_argument,
    check_output,
    console_form,
    json_option,
    kind_option,
    note,
    print_json,
    read_with_progress,
    samples_option,
    sheet_argument,
    wire_option,
)


@click.command()
@sheet_argument
@capture_argument
@json_option
@click.option(
    "--characters", type=click.Path(path_type=Path), metavar="FILE", help="Write the characters as CSV; - shows them."
)
@click.option(
    "--frames",
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="Write the frames with their fields as CSV.",
)
@wire_option
@kind_option
@samples_option
def decode(
    sheet: Path,
    capture: Path,
    as_json: bool,
    characters: Path | None,
    frames: Path | None,
    wire: str | None,
    kind: str | None,
    samples: str,
) -> int:
    """Read CAPTURE as SHEET declares it: characters, frames, findings.

    The exit status is 1 if there is a finding of severity error.
    """
    shown = characters == Path("-") and not as_json
    characters = None if characters == Path("-") else characters
    check_output(characters)
    check_output(frames)
    reading = read_with_progress(sheet, capture, kind=kind, wire=wire, samples=int(samples))
    if characters is not None:
        from larkreader.capture.files.csv_tables import write_characters

        write_characters(characters, reading.characters)
        note(f"characters written to {characters}")
    if frames is not None:
        from larkreader.present.tables import frames_table

        frames_table(reading).to_csv(frames, index=False, lineterminator="\n")
        note(f"frames written to {frames}")
    if shown:
        from larkreader.present.dump import dump

        pauses_s = {key: 1.5 * reading.sheet.wire[key].line.character_time_s for key in reading.characters}
        width, ascii_only = console_form()
        for row in dump(reading.characters, pauses_s, width=width, ascii_only=ascii_only):
            click.echo(row)
    elif as_json:
        print_json(reading.to_dict())
    else:
        from larkreader.present import terminal

        console = terminal.make_console()
        console.print(f"{capture} read as {sheet}: {reading.sheet.title}".removesuffix(": "), soft_wrap=True)
        console.print()
        console.print(terminal.counts(reading))
        console.print()
        console.print(terminal.findings(reading.findings, reading.verdict))
    return 1 if reading.verdict == "faults" else 0
