"""What the JSON document of a reading holds, with columns or without."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from larkreader.capture.characters import Fault
from larkreader.declare.document.sheet import Sheet
from larkreader.judge.verdict.counts import WireCounts

COUNTED = ("parity", "framing", "break", "noise", "overrun")  # in the JSON document, each a name of `Fault`


def reading_document(reading: Any) -> dict[str, Any]:
    """Return a reading as the JSON document has it: counts and findings, not the columns.

    Parameters
    ----------
    reading : object
        A `Reading`, or another that has its counts, findings and verdict.
    """
    return {
        "sheet": reading.sheet_name,
        "capture": reading.capture,
        "verdict": reading.verdict,
        "checked": reading.checked.to_dict(),
        "wires": {
            wire: _wire_document(reading.sheet, wire, counts, reading.bytes_of(wire))
            for wire, counts in reading.counts.items()
        },
        "frames": {key: counts.to_dict() for key, counts in reading.frame_counts.items()},
        **({"events": _each(reading.events)} if reading.sheet.event else {}),
        **({"pairs": _each(reading.pairs)} if reading.pairs else {}),
        **({"receive": _each(reading.paths)} if reading.paths else {}),
        **({"pauses": _each(reading.pauses)} if reading.pauses else {}),
        "findings": [finding.to_dict() for finding in reading.findings],
    }


def _wire_document(sheet: Sheet, wire: str, counts: WireCounts, bytes_of: Mapping[str, int]) -> dict[str, Any]:
    total = counts.characters
    faulty = {name: counts.by_fault.get(Fault[name.upper()], 0) for name in COUNTED}
    return {
        "line": str(sheet.wire[wire].line),
        "characters": total,
        **faulty,
        "rates": {name: count / total if total else 0.0 for name, count in faulty.items()},
        "bytes": bytes_of,
    }


def _each(items: Mapping[str, Any]) -> dict[str, Any]:
    return {key: item.to_dict() for key, item in items.items()}
