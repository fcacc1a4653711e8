"""The JSON documents that the command prints: what each holds, as a JSON Schema, and the version of its form.

A version rises when a name goes or means something else; new names do not raise it, so that who reads a document should
pass over those it does not know.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from .reading_document import finding_schema, reading_schema

ANY_VALUE: dict[str, Any] = {"type": ["string", "number", "boolean", "array", "null"]}
PLAIN: Mapping[str, Any] = {
    "text": {"type": "string"},
    "count": {"type": "integer", "minimum": 0},
    "integer": {"type": "integer"},
    "number": {"type": "number"},
    "flag": {"type": "boolean"},
    "share": {"type": "number", "minimum": 0},
    "value": ANY_VALUE,
    "verdict": {"enum": ["clean", "warnings", "faults", "nothing-read"]},
    "pass": {"enum": ["pass", "fail", "skipped"]},
    "object": {"type": "object"},
    "finding": {"$ref": "#/$defs/finding"},
}

Content = dict[str, Any]

SETTING: Content = {
    "clock": "text", "hertz": "number", "wanted": "number", "baud": "number", "error": "number",
    "oversampling": "count", "prescaler": "count", "divisor": "count", "fraction": "count", "extra": ["count"],
    "registers": {"*": "value"}, "words": {"*": "count"}, "deviations": ["number"], "samples_within": [["number"]],
}  # fmt: skip
CLOCK: Content = {"end": "text", "line": "text", "setting": (SETTING, None), "alternatives": [SETTING]}
SPREAD: Content = {"count": "count", "least_s": "number", "median_s": "number", "most_s": "number"}
LATENCY: Content = {
    "count": "count",
    "least_s": "number?",
    "median_s": "number?",
    "nearly_all_s": "number?",
    "most_s": "number?",
}
PATH: Content = {
    "characters": "count", "fates": {"*": "count"}, "high_water": {"*": "count"},
    "reads": {"complete": "count", "by_time": "count", "empty": "count", "unfinished": "count"}, "pauses": "count",
    "services": "count", "busy_share": "share", "longest_busy_s": "number", "most_held": "count", "limits": "object",
    "software?": {"missed": "count", "misread": "count", "spurious": "count"},
}  # fmt: skip
FIT: Content = {"line": "text", "characters": "count", "faulty": "count", "cost": "number"}
SURVEY: Content = {
    "edges": "count", "duration_s": "number", "shortest_s": "number?", "idle": "text?", "baud": "number?",
    "baud_uncertainty_ppm": "number?", "deviation_ppm": "number?", "asymmetry_s": "number?", "jitter_s": "number?",
    "glitches": "count", "idle_share": "number?", "characters": "count", "character_gaps": (SPREAD, None),
    "message_gaps": (SPREAD, None), "levels": ("object", None), "first_values": ["count"], "alike": ["text"],
    "best": (FIT, None), "runner_up": (FIT, None),
}  # fmt: skip
RUN: Content = {
    "on": "text", "verdict": "pass", "failures": ["text"], "stopped": "text?", "line": "text?", "pattern": "text",
    "block": "count?", "pause_s": "number", "planned": "count", "sent": "count", "received": "count", "lost": "count",
    "changed": "count", "extra": "count", "doubled": "count", "constant": ("object", None), "before": "count",
    "faults": {"*": "count"},
    "bits": {"compared": "count", "wrong": "count", "wrong_by_position": ["count"], "error_ratio": "number?",
             "error_ratio_95": ["number?"]},
    "duration_s": "number", "characters_per_second": "number", "line_share": "number?",
    "latency_s": ({"*": "number"}, None), "cycle": {"*": "number"},
    "first_difference": ({"offset": "count", "begin": "count", "sent": "text", "received": "text"}, None),
}  # fmt: skip
STEP: Content = {
    "name": "text", "outcome": "pass", "why": "text", "sent": "text", "awaited": "text", "got": "text",
    "passed_over": "text", "values": {"*": "value"}, "duration_s": "number", "tries": "count",
}  # fmt: skip
STATISTICS: Content = {
    "count": "count", "trusted": "count", "rate": "number?", "period_s": "number?", "least_s": "number?",
    "most_s": "number?", "jitter_s": "number?", "late": "count", "missing": "count",
    "fields": {"*": {"count": "count", "least": "number?", "most": "number?", "mean": "number?",
                     "names": {"*": "count"}, "unit": "text"}},
    "bursts?": {"*": [{"*": "number?"}]},
}  # fmt: skip
FIELD: Content = {
    "name": "text?", "type": "text", "first_bit": "count?", "bits": "count", "element_bits": ["count"],
    "count": "count", "moves": "flag",
    "order": "text?", "unit": "text", "scale": "number", "offset": "number", "range": (["number"], None),
    "equals": "value", "names": {"*": "integer"}, "meaning": "text",
}  # fmt: skip
BYTE: Content = {
    "byte": "count", "looks": "text", "bits": "text", "low": "count", "high": "count", "values": "count",
    "changes": "count", "step": "integer", "bit_changes": ["count"],
}  # fmt: skip
BYTE_DIFFERENCE: Content = {
    "place": "count",
    "distance": "number",
    "before": "text",
    "after": "text",
    "bits": ["count"],
}
PAIRS: Content = {
    "requests": "count", "answered": "count", "late": "count", "damaged-reply": "count", "unanswered": "count",
    "open": "count", "repeated": "count", "unasked": "count",
    "latency": {**LATENCY, "histogram": [{"from_s": "number", "to_s": "number", "count": "count"}]},
    "parts": {"*": LATENCY},
}  # fmt: skip
MESSAGE: Content = {
    "begin_s": "number", "end_s": "number", "wire": "text", "is": "text", "offset": "count", "length": "count",
    "faults": ["text"], "text": "text", "collides?": "flag",
    "pairs?": [{"pair": "text", "number": "count?", "role": "text", "state": "text", "latency_s": "number?",
                "again": "flag"}],
}  # fmt: skip

COMPARED: Content = {
    "field": "text", "member": "text", "outcome": "text", "in_sheet": "text", "in_c": "text",
    "sheet_bits": (["count"], None), "c_bits": (["count"], None), "packing": "text", "c_packing": "text",
    "differences": [{"kind": "text", "in_sheet": "value", "in_c": "value", "follows": "flag"}],
    "unseen": ["text"], "line": "count",
}  # fmt: skip
COMPARISON: Content = {
    "verdict": "text", "lengths_differ": "flag", "layout": "text", "struct": "text", "header": "text",
    "target": "text", "begins_at": "count", "sheet_length": "count", "c_length": "count", "is_fixed": "flag",
    "rows": [COMPARED], "left_out": ["text"], "notes": ["text"],
}  # fmt: skip

# What is in each document beside its head. "?" behind a type allows null, behind a name lets it be absent; a list is of
# any length, a tuple gives alternatives, and {"*": ...} is by name.
CONTENT: Mapping[str, Any] = {
    "plan": {
        "sheet": "text", "title": "text", "verdict": "verdict",
        "ends": {"*": [{"end": "text", "role": "text", "line": "text", "stated_in": "text"}]},
        "registers": {"*": {"values": {"*": {"*": "value"}}, "relied": ["text"], "passed_over": ["text"]}},
        "clocks": [CLOCK],
        "margins": {"*": [{"sender": "text", "receiver": "text", "sender_baud": "number", "receiver_baud": "number",
                           "mismatch": "number", "tolerance": ["number"], "left_nominal": ["number"],
                           "left": ["number"], "dominant_end": "text"}]},
        "loads": {"*": {"line": "text", "characters_per_second": "number", "share": "share", "baud_needed": "number",
                        "traffic": [{"name": "text", "characters": "number", "time_s": "number", "per_second": "number",
                                     "share": "share", "delay_s": "number?", "highest_rate": "number?",
                                     "highest_sample_rate": "number?", "limited_by": "text"}]}},
        "receive": {"*": PATH},
        "send": {"*": {"messages": "count", "characters": "count", "fates": {"*": "count"},
                       "blocked_s": {"total": "number", "longest": "number", "share": "share"}}},
        "findings": ["finding"],
    },
    "divisors": {**CLOCK, "standard_bauds": [SETTING]},
    "written": {"files": {"*": "text"}, "verdict?": "verdict"},
    "demo": {"files": {"*": "text"}, "verdict": "pass", "faults": ["text"], "found": ["text"]},
    "serving": {"device": "text", "line": "text", "ports": ["text"]},
    "generators": {
        "line": "text", "hertz": "number", "best": "text", "fit": "text", "other_clocks": ["number"],
        "choices": [{"name": "text", "fit": "text", "left": "number?", "setting": (SETTING, None)}],
    },
    "diagnosis": {
        "sheet": "text?", "capture": "text", "verdict": "verdict",
        "wires": {"*": (
            {"verdict": "verdict", "proposal": "text?", "findings": ["finding"], "survey": SURVEY,
             "looked_at?": {"until_s": "number", "end_s": "number"}},
            {"explanations": [{"mistake": "text", "sender": "text", "likeness": "share", "recovered_hex": "text"}],
             "findings": ["finding"]},
        )},
    },
    "trials": {
        "sheet": "text?", "port": "text", "proposal": "text?",
        "trials": [{"line": "text", "characters": "count", "faulty": "count", "sense": "number", "score": "number"}],
    },
    "flow-probe": {"port": "text", "flow_control": "text"},
    "statistics": {"frames": {"*": STATISTICS}},
    "frame": {
        "frame": "text", "summary": "text", "hex": "text",
        "fields": [{"name": "text", "type": "text", "first_bit": "count?", "width": "count?", "bits": "text",
                    "number": "number?", "raw": "text", "value": "text", "check": "text"}],
    },
    "bytes": {"frames": {"*": ([BYTE], [BYTE_DIFFERENCE])}},
    "changes": {"frames": {"*": [{"frame": "count", "offset": "count", "begin_s": "number?", "bytes": [["integer"]],
                                  "fields": {"*": ["value"]}}]}},
    "layout": {"frames": {"*": {
        "length": "count?", "shortest": "count", "longest": "count?", "packing": "text", "boundary": "object",
        "fields": [FIELD],
    }}},
    "layout-check": {
        "sheet": "text", "header": "text", "verdict": "text", "without_struct": ["text"],
        "comparisons": [COMPARISON],
    },
    "ports": {"ports": [{"path": "text", "stable": "text", "description": "text", "holders": ["text"],
                         "usable": "flag?"}]},
    "port-change": {"added": ["text"], "removed": ["text"]},
    "loopback": {"ports": ["text"], "verdict": "pass", "interrupted": "flag", "fastest_baud": "number?", "runs": [RUN]},
    "tolerance": {"ports": ["text"], "line": "text", "slow_ppm": "number?", "fast_ppm": "number?",
                  "trials": [{"ppm": "number", "verdict": "pass"}]},
    "torture": {"port": "text", "frame": "text", "answered_by": "text", "verdict": "pass", "duration_s": "number",
                "damages": [{"damage": "text", "outcome": "text", "trials": "count", "sound": "count", "lost": "count",
                             "wrong": "count", "longest_loss": "count", "needs_rest": "count", "example": "text",
                             "why": "text"}]},
    "dialogue": {"sheet": "text", "ports": ["text"], "verdict": "pass", "interrupted": "flag",
                 "values": {"*": "value"}, "steps": [STEP]},
    "campaign": {
        "sheet": "text", "captures": "count", "verdicts": {"*": "count"}, "labels": {"*": ["text"]},
        "kinds": [{"kind": "text", "wire": "text", "captures": "count"}],
        "concentrations": [{"kind": "text", "wire": "text", "label": "text", "value": "text", "affected": "count",
                            "of": "count", "elsewhere": "count", "elsewhere_of": "count", "chance": "share"}],
        "trends": [{"measure": "text", "subject": "text", "over": "text", "label": "text", "value": "text",
                    "captures": "count", "slope": "number", "slope_95": ["number"], "from": ["number"],
                    "to": ["number"], "chance": "share", "limit": "number?", "severity": "text",
                    "crossing": ({"at": "number", "low": "number", "high": "number"}, None)}],
        "odd": [{"measure": "text", "subject": "text", "paths": ["text"], "shared": {"*": "text"},
                 "values": ["number"], "median": "number", "score": "number"}],
        "changes": ([{"kind": "text", "wire": "text", "state": "text", "affected": "count", "of": "count",
                      "before": "count", "before_of": "count", "per_1000": "share", "before_per_1000": "share",
                      "chance": "share"}], None),
        "not_read": [{"path": "text", "error": "text"}],
        "policy": ({"verdict": "pass", "allowed": "count", "unused": ["text"], "expired": ["text"],
                    "failed": [{"path": "text", "why": [{"kind": "text", "wire": "text", "count": "count",
                                                         "why": "text"}]}]}, None),
    },
    "timeline": {"sheet": "text", "capture": "text", "verdict": "verdict", "times": "text", "pairs": {"*": PAIRS},
                 "messages": [MESSAGE]},
}  # fmt: skip
FORMATS: Mapping[str, int] = {"reading": 1, **dict.fromkeys(CONTENT, 1)}


def document_of(kind: str, content: Mapping[str, Any]) -> dict[str, Any]:
    """Return a document with its head: its kind, and the version of its form.

    Parameters
    ----------
    kind : str
        A key of `FORMATS`.
    content : mapping of str to value
        What it holds.
    """
    return {"document": kind, "format": FORMATS[kind], **content}


def document_schema(kind: str) -> dict[str, Any]:
    """Return what a JSON document of the command holds.

    Parameters
    ----------
    kind : str
        What the document gives as ``document``: ``reading`` (of ``decode --json``), ``plan``, ``divisors`` (of ``plan
        --clock``), ``diagnosis``, ``trials`` and ``flow-probe`` (of ``diagnose PORT``), ``statistics``, ``frame``,
        ``bytes`` and ``changes`` (of ``decode``), ``layout``, ``ports``, ``port-change`` (of ``ports --wait``),
        ``loopback``, ``tolerance``, ``torture``, ``dialogue``, ``timeline`` or ``campaign`` (of ``batch``).

    Returns
    -------
    dict
        A JSON Schema (draft 2020-12).

    Raises
    ------
    KeyError
        If there is no such document.

    Examples
    --------
    >>> lr.present.document_schema("ports")["properties"]["format"]
    {'const': 1}
    """
    head = {"document": {"const": kind}, "format": {"const": FORMATS[kind]}}
    schema = reading_schema() if kind == "reading" else _schema(CONTENT[kind])
    schema |= {"properties": {**head, **schema["properties"]}, "required": [*head, *schema["required"]]}
    about = {"$schema": "https://json-schema.org/draft/2020-12/schema", "title": f"larkreader: {kind}"}
    return {**about, **schema, "$defs": {"finding": finding_schema()}}


def _schema(content: Any) -> dict[str, Any]:
    """Return the schema of what `CONTENT` describes."""
    if content is None:
        return {"type": "null"}
    if isinstance(content, str):
        if not content.endswith("?"):
            return dict(PLAIN[content])
        return {"anyOf": [dict(PLAIN[content[:-1]]), {"type": "null"}]}
    if isinstance(content, list):
        return {"type": "array", "items": _schema(content[0])}
    if isinstance(content, tuple):
        return {"anyOf": [_schema(item) for item in content]}
    if set(content) == {"*"}:
        return {"type": "object", "additionalProperties": _schema(content["*"])}
    return {
        "type": "object",
        "properties": {name.removesuffix("?"): _schema(item) for name, item in content.items()},
        "required": [name for name in content if not name.endswith("?")],
        "additionalProperties": False,
    }
