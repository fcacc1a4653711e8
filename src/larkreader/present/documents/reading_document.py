"""The JSON document of a reading, as a JSON Schema (draft 2020-12), made from the table of kinds."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from larkreader.judge.findings.finding import MOST_PLACES
from larkreader.judge.findings.kinds import KINDS
from larkreader.judge.verdict.checked import NOT_CHECKED, PROVEN

TEXT: Mapping[str, Any] = {"type": "string"}
COUNT: Mapping[str, Any] = {"type": "integer", "minimum": 0}
NUMBER_OR_NULL: Mapping[str, Any] = {"type": ["number", "null"]}
COUNT_OR_NULL: Mapping[str, Any] = {"type": ["integer", "null"], "minimum": 0}
EVIDENCE: Mapping[str, Any] = {"type": ["string", "number", "boolean", "array"]}


def reading_schema() -> dict[str, Any]:
    """Return what the JSON document of a reading holds.

    Returns
    -------
    dict
        A JSON Schema (draft 2020-12). For each kind of finding it has the names that its evidence may have.

    Examples
    --------
    >>> lr.present.reading_schema()["properties"]["verdict"]["enum"]
    ['clean', 'warnings', 'faults', 'nothing-read']
    """
    properties = {
        "sheet": TEXT,
        "capture": TEXT,
        "verdict": {"enum": ["clean", "warnings", "faults", "nothing-read"]},
        "checked": _object({"proven": _list(_check(PROVEN)), "not_checked": _list(_check(NOT_CHECKED))}),
        "wires": _by_name(_wire()),
        "frames": _by_name(_object({"count": COUNT, "good": COUNT, "faults": _by_name(COUNT)})),
        "findings": _list({"$ref": "#/$defs/finding"}),
    }
    others = dict.fromkeys(("events", "pairs", "receive", "pauses"), _by_name({"type": "object"}))
    others["timing"] = _by_name({"type": "number"})  # of `listen --timing`
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "A capture read against a sheet",
        "type": "object",
        "properties": {**properties, **others},
        "required": list(properties),
        "additionalProperties": False,
        "$defs": {"finding": finding_schema()},
    }


def finding_schema() -> dict[str, Any]:
    """Return what a finding holds in a JSON document."""
    place = _object({"offset": COUNT_OR_NULL, "time_s": NUMBER_OR_NULL, "row": COUNT_OR_NULL})
    required = {
        "kind": {"enum": list(KINDS)},
        "severity": {"enum": ["error", "warning", "note"]},
        "certainty": {"enum": ["proven", "likely", "possible"]},
        "wire": TEXT,
        "subject": _object(
            {"kind": {"enum": ["wire", "frame", "pair", "path", "end", "register", "pins"]}, "name": TEXT}
        ),
        "count": COUNT,
        "first_s": NUMBER_OR_NULL,
        "offset": COUNT_OR_NULL,
        "places": {**_list(place), "maxItems": MOST_PLACES},
        "evidence": {"type": "object"},
        "text": TEXT,
        "advice": TEXT,
    }
    cause = _object({"kind": TEXT, "wire": TEXT, "offset": COUNT_OR_NULL})
    others = {"frame": TEXT, "score": {"type": "number", "minimum": 0, "maximum": 1}, "caused_by": cause}
    by_kind = [
        {
            "if": {"properties": {"kind": {"const": kind}}},
            "then": {
                "properties": {"evidence": _object(dict.fromkeys((*known.evidence, "frame"), EVIDENCE), all_of=False)}
            },
        }
        for kind, known in KINDS.items()
    ]
    return {
        "type": "object",
        "properties": {**required, **others},
        "required": list(required),
        "additionalProperties": False,
        "allOf": by_kind,
    }


def _wire() -> dict[str, Any]:
    counts = dict.fromkeys(("parity", "framing", "break", "noise", "overrun"), COUNT)
    rates = _object({name: {"type": "number", "minimum": 0, "maximum": 1} for name in counts})
    of_bytes = _object(dict.fromkeys(("total", "good", "faulty", "skipped"), COUNT))
    return _object({"line": TEXT, "characters": COUNT, **counts, "rates": rates, "bytes": of_bytes})


def _check(known: Mapping[str, Any]) -> dict[str, Any]:
    return {
        "type": "object",
        "properties": {"what": {"enum": list(known)}, "text": TEXT},
        "required": ["what", "text"],
    }


def _object(properties: Mapping[str, Any], *, all_of: bool = True) -> dict[str, Any]:
    required = {"required": list(properties)} if all_of else {}
    return {"type": "object", "properties": dict(properties), **required, "additionalProperties": False}


def _list(items: Mapping[str, Any]) -> dict[str, Any]:
    return {"type": "array", "items": dict(items)}


def _by_name(values: Mapping[str, Any]) -> dict[str, Any]:
    return {"type": "object", "additionalProperties": dict(values)}
