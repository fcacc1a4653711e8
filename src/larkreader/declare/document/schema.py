"""The sheet's JSON Schema, by which editors complete and check a sheet while it is written."""

from __future__ import annotations

import inspect
import re
from typing import Any

from pydantic import BaseModel

from larkreader.declare.checks.checksum import ALGORITHMS
from larkreader.declare.frame.fields import WIDTHLESS
from larkreader.declare.frame.layout import FrameLayout
from larkreader.declare.link.baud_generator import BaudGenerator
from larkreader.declare.link.clock import Clock
from larkreader.declare.link.end import End, Traffic
from larkreader.declare.link.event import EventSignal
from larkreader.declare.link.line import LineSettings
from larkreader.declare.link.registers import Meanings, Register
from larkreader.declare.link.steps import Rule, Step
from larkreader.declare.link.wiring import Joint
from larkreader.declare.paths.receive_path import ReceivePath
from larkreader.declare.paths.send_path import SendPath
from larkreader.declare.run.capture_form import CaptureForm
from larkreader.declare.run.exchange import Exchange
from larkreader.declare.run.loopback import LoopbackMatrix
from larkreader.declare.run.pairing import Pairing, WireTiming
from larkreader.declare.run.port import DeclaredPort

from .sheet import Sheet, Wire

DIALECT = "https://json-schema.org/draft/2020-12/schema"
_TABLES: dict[str, type[BaseModel]] = {
    "wire": Wire,
    "frame": FrameLayout,
    "port": DeclaredPort,
    "event": EventSignal,
    "clock": Clock,
    "generator": BaudGenerator,
    "end": End,
    "register": Register,
    "meaning": Meanings,
    "rule": Rule,
    "receive": ReceivePath,
    "send": SendPath,
    "pair": Pairing,
}
_LISTS: dict[str, type[BaseModel]] = {"step": Step, "joint": Joint, "traffic": Traffic, "exchange": Exchange}
_PARAMETER = re.compile(r"^(\w[\w, ]*) : .*\n((?:[ ]{4,}.*\n?|\n)*)", re.MULTILINE)


def sheet_schema() -> dict[str, Any]:
    """Return the JSON Schema of a sheet.

    Returns
    -------
    dict
        A schema of the draft 2020-12. What it lets through may still be refused for what it cannot say, such as
        fields that do not add up to whole bytes.

    Examples
    --------
    >>> sorted(lr.sheet_schema()["properties"])[:4]
    ['capture', 'clock', 'end', 'event']
    """
    shared: dict[str, Any] = {}
    properties: dict[str, Any] = {
        "sheet": {"const": 1, "description": "Version of the format."},
        "title": {"type": "string", "description": _told(Sheet).get("title", "")},
        "line": _schema(LineSettings, shared),
        "capture": _schema(CaptureForm, shared),
        "loopback": _schema(LoopbackMatrix, shared),
        "timing": _schema(WireTiming, shared),
    }
    for name, model in _TABLES.items():
        one = _schema(model, shared)
        description = _told(Sheet).get("registers" if name == "register" else name, "")
        properties[name] = {"type": "object", "additionalProperties": one, "description": description}
    for name, model in _LISTS.items():
        description = _told(Sheet).get("registers" if name == "register" else name, "")
        properties[name] = {"type": "array", "items": _schema(model, shared), "description": description}
    properties["wire"]["minProperties"] = 1
    return {
        "$schema": DIALECT,
        "title": "Sheet of a UART link",
        "type": "object",
        "properties": properties,
        "required": ["sheet", "wire"],
        "additionalProperties": False,
        "$defs": shared,
    }


def _schema(model: type[BaseModel], shared: dict[str, Any]) -> dict[str, Any]:
    """Return the schema of a table, without the key that its place gives it; put what it refers to into `shared`."""
    schema = model.model_json_schema(by_alias=True, ref_template="#/$defs/{model}")
    shared |= {name: _refined(name, one) for name, one in schema.pop("$defs", {}).items()}
    schema = _refined(model.__name__, schema)
    schema["properties"].pop("key", None)
    needed = [name for name in schema.get("required", []) if name not in ("key", "wire")]
    schema.pop("required", None)
    return schema | ({"required": needed} if needed else {})


def _refined(name: str, schema: dict[str, Any]) -> dict[str, Any]:
    """Tell of each key what its model's documentation says, and what its validator wants."""
    model = _MODELS.get(name)
    if model is not None:
        told = _told(model)
        aliases = {field.serialization_alias or key: key for key, field in model.model_fields.items()}
        for key, one in schema.get("properties", {}).items():
            one.pop("title", None)
            if text := told.get(key) or told.get(aliases.get(key, key)):
                one["description"] = text
        schema["description"] = (inspect.getdoc(model) or "").split("\n", 1)[0]
    if name == "LineSettings":
        schema["properties"]["format"]["pattern"] = r"^[5-9][NEOMSneoms](1|1\.5|2)$"
    if name == "NamedField":
        schema["properties"]["name"]["pattern"] = r"^[^\W\d]\w*$"
        kinds = r"uint[1-9]\d?|int[1-9]\d?|bcd[1-9]\d?|float(16|32|64)|" + "|".join(WIDTHLESS)
        schema["properties"]["type"]["pattern"] = f"^({kinds})$"
    if name == "FrameChecksum":
        schema["properties"]["algorithm"]["examples"] = list(ALGORITHMS)
    return schema


def _told(model: type[BaseModel]) -> dict[str, str]:
    """Return what a model's documentation says of each parameter."""
    text = (inspect.getdoc(model) or "").partition("Parameters\n----------\n")[2].split("\n\nExamples\n")[0]
    told = {}
    for match in _PARAMETER.finditer(text + "\n"):
        for name in match[1].split(","):
            told[name.strip()] = re.sub(r"\s+", " ", match[2]).strip().replace("`", "")
    return told


def _models_of(model: type[BaseModel], found: dict[str, type[BaseModel]]) -> None:
    """Gather a model and all that its fields hold."""
    found[model.__name__] = model
    for field in model.model_fields.values():
        waiting = [field.annotation]
        while waiting:
            one = waiting.pop()
            if isinstance(one, type) and issubclass(one, BaseModel) and one.__name__ not in found:
                _models_of(one, found)
            waiting += list(getattr(one, "__args__", ()))


_MODELS: dict[str, type[BaseModel]] = {}
_models_of(Sheet, _MODELS)
