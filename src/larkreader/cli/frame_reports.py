"""What `decode` shows of frames instead of findings: one taken apart, what their fields and bytes do, what changed."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import click
import numpy as np

from .common import note, print_document

if TYPE_CHECKING:
    from larkreader.answers.reading import Reading


def show_view(
    reading: Reading, view: str, number: int | None, moved_at_s: float | None, *, elements: bool, as_json: bool
) -> None:
    """Show a view of a reading, by the option that chooses it."""
    if view == "--explain" and number is not None:
        explain(reading, number, as_json=as_json)
    elif view == "--statistics":
        show_statistics(reading, elements=elements, as_json=as_json)
    elif view == "--bytes":
        show_bytes(reading, moved_at_s, as_json=as_json)
    elif view == "--changes":
        show_changes(reading, as_json=as_json)
    else:
        propose(reading)


def show_statistics(reading: Reading, *, elements: bool, as_json: bool) -> None:
    """Show the statistics of all layouts, and of the bursts of samples that they carry."""
    from larkreader.judge.measure.statistics import measure_frames
    from larkreader.present.tables import reading_views
    from larkreader.present.text import terminal

    bursts = _bursts(reading)
    found = dict(reading.statistics)
    if elements:
        found = {
            key: measure_frames(frames, elements=True, resumed=reading.resumed_on(frames))
            for key, frames in reading.frames.items()
        }
    if as_json:
        document: dict[str, Any] = {key: statistics.to_dict() for key, statistics in found.items()}
        for (key, name), rows in bursts.items():
            document[key].setdefault("bursts", {})[name] = rows
        print_document("statistics", {"frames": document})
        return
    console = terminal.make_console()
    console.print(reading_views.statistics(found))
    if bursts:
        console.print()
        console.print(reading_views.bursts(bursts))


def explain(reading: Reading, number: int, *, as_json: bool) -> None:
    """Show one frame of all layouts, in order of time, or of place where there are no times."""
    from dataclasses import asdict

    from larkreader.errors import RequestError
    from larkreader.present.tables import reading_views
    from larkreader.present.tables.frame_explained import headline, parts_of
    from larkreader.present.text import terminal

    every = [
        (0.0 if begin_s != begin_s else begin_s, offset, key, row)
        for key, frames in reading.frames.items()
        for row, (begin_s, offset) in enumerate(zip(frames.begin_s.tolist(), frames.offset.tolist(), strict=True))
    ]
    if number >= len(every):
        wanted = f"must be 0 to {len(every) - 1}" if every else "the capture holds no frame"
        raise RequestError("--explain", f"is {number}", wanted)
    _, offset, key, row = sorted(every)[number]
    frames = reading.frames[key]
    wire = frames.layout.wire or next(iter(reading.characters))
    faults = reading.characters[wire].faults[offset : offset + int(frames.length[row])]
    if as_json:
        parts = [
            {name: value for name, value in asdict(part).items() if name != "place"} for part in parts_of(frames, row)
        ]
        data = frames.data[row].tobytes().hex(" ")
        content = {"frame": key, "summary": headline(frames, row, faults), "hex": data, "fields": parts}
        print_document("frame", content)
    else:
        console = terminal.make_console()
        console.print(reading_views.frame_parts(frames, row, faults, console.width))


def show_bytes(reading: Reading, moved_at_s: float | None, *, as_json: bool) -> None:
    """Show what each byte of the frames does; or how that differs before and after a time."""
    from larkreader.judge.measure.byte_survey import compare_bytes, measure_bytes
    from larkreader.present.tables import byte_tables
    from larkreader.present.text import terminal

    document: dict[str, Any] = {}
    console = terminal.make_console()
    if moved_at_s is not None:
        _check_time(reading, moved_at_s)
    for key, frames in reading.frames.items():
        if not len(frames):
            continue
        if moved_at_s is not None:
            later = frames.begin_s >= moved_at_s
            if later.all() or not later.any():
                continue
            found = compare_bytes(measure_bytes(frames[~later]), measure_bytes(frames[later]))
            document[key] = [vars(item) for item in found]
            parts: list[Any] = [byte_tables.byte_differences(found)]
        else:
            survey = measure_bytes(frames)
            document[key] = [
                {
                    "byte": row,
                    "looks": survey.looks(row),
                    "bits": survey.bits(row),
                    **{name: int(survey.column(name)[row]) for name in ("low", "high", "values", "changes", "step")},
                    "bit_changes": survey.bit_changes[row].tolist(),
                }
                for row in range(len(survey))
            ]
            parts = [byte_tables.frame_rows(frames, width=console.width), "", byte_tables.byte_survey(survey)]
        if not as_json:
            console.print(f"{key}: {len(frames):,} frames", style="bold")
            console.print(*parts, "", sep="\n")
    if as_json:
        print_document("bytes", {"frames": document})


def propose(reading: Reading) -> None:
    """Write the sheet with the fields that the bytes of its frames suggest, as far as they do."""
    from larkreader.declare.document.sheet_text import sheet_text
    from larkreader.decode.cut.frames import read_layouts
    from larkreader.judge.infer.field_proposal import propose_fields

    layouts = dict(reading.sheet.frame)
    for key, frames in reading.frames.items():
        found = propose_fields(frames)
        if found is None:
            note(f"{key}: {len(frames):,} frames, too few different frames to find their fields")
            continue
        layouts[key] = found
        again = read_layouts(reading.characters[found.wire or next(iter(reading.characters))], [found])[key]
        right = int(np.count_nonzero(again.faults == 0))
        note(f"{key}: {right:,} of {len(frames):,} frames are right by the fields that are proposed")
    click.echo(sheet_text(reading.sheet.model_copy(update={"frame": layouts})), nl=False)


def _check_time(reading: Reading, moved_at_s: float) -> None:
    """Raise `RequestError` unless there are frames before and after a time."""
    from larkreader.errors import RequestError

    every = np.concatenate([frames.begin_s for frames in reading.frames.values()] or [np.empty(0)])
    if np.isnan(every).any():
        raise RequestError("--moved-at", "is a time, but the capture has none", "needs a capture with times")
    if not (every < moved_at_s).any() or not (every >= moved_at_s).any():
        span = f"{every.min():.6f} to {every.max():.6f} s" if len(every) else "of which there are none"
        raise RequestError("--moved-at", f"is {moved_at_s:g}", f"must lie within the frames, {span}")


def show_changes(reading: Reading, *, as_json: bool) -> None:
    """Show what changed from one frame to the next of the same layout."""
    from larkreader.judge.measure.changes import find_changes
    from larkreader.present.tables import byte_tables
    from larkreader.present.text import terminal

    every = {key: list(find_changes(frames)) for key, frames in reading.frames.items()}
    if as_json:
        document = {
            key: [
                {
                    "frame": item.row,
                    "offset": item.offset,
                    "begin_s": None if item.begin_s != item.begin_s else item.begin_s,
                    "bytes": item.bytes,
                    "fields": {name: [was, now] for name, was, now in item.fields},
                }
                for item in changed
            ]
            for key, changed in every.items()
        }
        print_document("changes", {"frames": document})
        return
    console = terminal.make_console()
    for key, changed in every.items():
        console.print(byte_tables.changes(key, reading.frames[key], changed), "", sep="\n")


def _bursts(reading: Reading) -> dict[tuple[str, str], list[dict[str, Any]]]:
    """Return the figures of each burst of samples, by layout and field."""
    from larkreader.judge.measure.bursts import read_bursts

    result = {}
    for key, frames in reading.frames.items():
        for name, slot in frames.layout.slot.items():
            if slot.field is None or slot.field.samples is None:
                continue
            found = read_bursts(frames, name)
            columns = {
                "begin_s": found.begin_s,
                "samples": found.count,
                "least_v": found.least,
                "most_v": found.most,
                "peak_to_peak_v": found.peak_to_peak,
                "mean_v": found.mean,
                "frequency_hz": found.frequency_hz,
                "resolution_hz": found.resolution_hz,
            }
            result[key, name] = [
                {label: None if column[row] != column[row] else column[row].item() for label, column in columns.items()}
                for row in range(len(found))
            ]
    return result
