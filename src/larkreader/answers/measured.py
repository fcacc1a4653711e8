"""What a file holds of the wires of a sheet, and of its event signals, piece by piece."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from larkreader.capture.files.content import Progress
from larkreader.capture.files.kinds import TRACES, find_kind
from larkreader.capture.files.open import CapturePath, Measured, open_pieces
from larkreader.declare.document.sheet import Sheet
from larkreader.declare.run.capture_form import CaptureForm, CaptureKind
from larkreader.errors import RequestError, nearest
from larkreader.judge.verdict.received import clear_key, event_key


def measured_in(
    path: CapturePath,
    sheet: Sheet,
    *,
    kind: CaptureKind | None,
    form: CaptureForm | None,
    wire: str | None,
    progress: Progress | None,
) -> Iterator[Mapping[str, Measured]]:
    """Yield what a file holds of the wires of a sheet, and of its event signals, piece by piece."""
    wires = [*sheet.wire] if wire is None else [wire]
    if wire is not None and wire not in sheet.wire:
        raise RequestError(f'wire "{wire}"', "is not a wire of the sheet", advice=nearest(wire, list(sheet.wire)))
    form = form or sheet.capture
    if form.mark is None:
        has_parity = sheet.wire[wires[0]].line.has_parity
        form = form.model_copy(update={"mark": "parity" if has_parity else "framing"})
    kind = kind or find_kind(path, form)
    signals = {one: sheet.wire[one].source for one in wires}
    if kind in TRACES:
        signals |= {event_key(event): event.source for event in sheet.event.values() if event.wire in wires}
        signals |= {clear_key(one): signal for one in wires if (signal := sheet.wire[one].clear_to_send)}
    return open_pieces(path, signals, kind=kind, form=form, progress=progress)
