"""The sheet's JSON Schema, by which editors complete and check a sheet while it is written."""

from __future__ import annotations

import inspect
import re
from typing import Any

from pydantic import BaseModel

from larkreader.declare.checks.checksum import ALGORITHMS
from larkreader.declare.frame.field_kinds import TYPE_PATTERN

from .sheet import Sheet, tables_of
from .table_row import Row

DIALECT = "https://json-schema.org/draft/2020-12/schema"
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
    result = _descriptions(Sheet)
    properties: dict[str, Any] = {
        "sheet": {"const": 1, "description": "Version of the format."},
        "title": {"type": "string", "description": result.get("title", "")},
    }
    ones = sorted(tables_of("one"), key=lambda row: row.table != "line")
    for row in (*ones, *tables_of("named"), *tables_of("list")):
        properties[row.table] = _table_schema(row, result.get(row.attribute, ""), shared)
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


def _table_schema(row: Row, description: str, shared: dict[str, Any]) -> dict[str, Any]:
    schema = _schema(row.model, shared)
    if row.form == "named":
        return {"type": "object", "additionalProperties": schema, "description": description}
    return {"type": "array", "items": schema, "description": description} if row.form == "list" else schema


def _schema(model: type[BaseModel], shared: dict[str, Any]) -> dict[str, Any]:
    """Return the schema of a table, without the key that its place gives it; put what it refers to into `shared`."""
    schema = model.model_json_schema(by_alias=True, ref_template="#/$defs/{model}")
    shared |= {name: _refined(name, item) for name, item in schema.pop("$defs", {}).items()}
    schema = _refined(model.__name__, schema)
    schema["properties"].pop("key", None)
    needed = [name for name in schema.get("required", []) if name not in ("key", "wire")]
    schema.pop("required", None)
    return schema | ({"required": needed} if needed else {})


def _refined(name: str, schema: dict[str, Any]) -> dict[str, Any]:
    """Add to each key what its model's documentation describes, and what its validator requires."""
    model = _MODELS.get(name)
    if model is not None:
        result = _descriptions(model)
        aliases = {field.serialization_alias or key: key for key, field in model.model_fields.items()}
        for key, item in schema.get("properties", {}).items():
            item.pop("title", None)
            if text := result.get(key) or result.get(aliases.get(key, key)):
                item["description"] = text
        schema["description"] = (inspect.getdoc(model) or "").split("\n", 1)[0]
    if name == "LineSettings":
        schema["properties"]["format"]["pattern"] = r"^[5-9][NEOMSneoms](1|1\.5|2)$"
    if name == "NamedField":
        schema["properties"]["name"]["pattern"] = r"^[^\W\d]\w*$"
        schema["properties"]["type"]["pattern"] = f"^({TYPE_PATTERN})$"
    if name == "FrameChecksum":
        schema["properties"]["algorithm"]["examples"] = list(ALGORITHMS)
    return schema


def _descriptions(model: type[BaseModel]) -> dict[str, str]:
    """Return what a model's documentation says of each parameter."""
    text = (inspect.getdoc(model) or "").partition("Parameters\n----------\n")[2].split("\n\nExamples\n")[0]
    result = {}
    for match in _PARAMETER.finditer(text + "\n"):
        for name in match[1].split(","):
            result[name.strip()] = re.sub(r"\s+", " ", match[2]).strip().replace("`", "")
    return result


def _models_of(model: type[BaseModel], found: dict[str, type[BaseModel]]) -> None:
    """Gather a model and all that its fields hold."""
    found[model.__name__] = model
    for field in model.model_fields.values():
        waiting = [field.annotation]
        while waiting:
            part = waiting.pop()
            if isinstance(part, type) and issubclass(part, BaseModel) and part.__name__ not in found:
                _models_of(part, found)
            waiting += list(getattr(part, "__args__", ()))


_MODELS: dict[str, type[BaseModel]] = {}
_models_of(Sheet, _MODELS)
