"""Sheets and layouts written as TOML, which read back is the same."""

from __future__ import annotations

import json
from collections.abc import Mapping
from typing import Any

from pydantic import BaseModel

from larkreader.declare.frame.fields import FieldGroup
from larkreader.declare.frame.layout import FrameLayout
from larkreader.declare.link.line import LineSettings

from .sheet import TABLES, Sheet
from .wire import Wire

_PLAIN_KEY = frozenset("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789_-")
_IN_HEX = ("equals", "poly", "init", "final_xor", "check")


def sheet_text(sheet: Sheet) -> str:
    r"""Write a sheet as TOML.

    Parameters
    ----------
    sheet : Sheet
        What was declared.

    Returns
    -------
    str
        A document of which `parse_sheet` makes an equal sheet. What has its default is left out.

    Examples
    --------
    >>> sheet = lr.parse_sheet('sheet = 1\n[line]\nbaud = 9600\n[wire.tx]\nsignal = "pump_tx"')
    >>> print(lr.declare.sheet_text(sheet))
    sheet = 1
    <BLANKLINE>
    [line]
    baud = 9600
    <BLANKLINE>
    [wire.tx]
    signal = "pump_tx"
    <BLANKLINE>
    """
    text = "sheet = 1\n"
    text += f"title = {toml_value(sheet.title)}\n" if sheet.title else ""
    for row in TABLES:
        held = getattr(sheet, row.attribute)
        if row.form == "one" and (given := _declared_keys(held)):
            text += f"\n[{row.table}]\n" + _lines(given)
        elif row.form == "named":
            text += "".join(_named_text(row.table, key, model, sheet.line) for key, model in held.items())
        elif row.form == "list":
            text += "".join(f"\n[[{row.table}]]\n" + _lines(_declared_keys(model)) for model in held)
    return text


def _named_text(table: str, key: str, model: BaseModel, line: LineSettings) -> str:
    if isinstance(model, FrameLayout):
        return frame_text(key, model)
    return f"\n[{table}.{_key(key)}]\n" + _lines(
        _wire(model, line) if isinstance(model, Wire) else _declared_keys(model)
    )


def frame_text(key: str, layout: FrameLayout) -> str:
    """Write a layout as the table of a sheet.

    Parameters
    ----------
    key : str
        What it is called there.
    layout : FrameLayout
        The layout.

    Returns
    -------
    str
        TOML.
    """
    declared = _declared_keys(layout)
    text = f"\n[frame.{_key(key)}]\n"
    text += _lines({name: value for name, value in declared.items() if name not in ("fields", "checksum")})
    if layout.fields:
        text += "fields = [\n"
        for entry in layout.fields:
            members = (
                [toml_value(_declared_keys(member)) for member in entry.fields] if isinstance(entry, FieldGroup) else []
            )
            own = {name: value for name, value in _declared_keys(entry).items() if name != "fields"}
            result = toml_value(own)
            if members:
                inner = ",\n".join(f"    {member}" for member in members)
                result = f"{result[:-2]}, fields = [\n{inner},\n  ] }}"
            text += f"  {result},\n"
        text += "]\n"
    return text + (_lines({"checksum": declared["checksum"]}) if layout.checksum is not None else "")


def toml_value(value: Any) -> str:
    """Write a value as TOML has it, tables in one line."""
    if isinstance(value, bool) or value is None:
        return "true" if value else "false"
    if isinstance(value, Mapping):
        parts = [
            f"{_key(str(name))} = {hex(item) if name in _IN_HEX and _is_natural(item) else toml_value(item)}"
            for name, item in value.items()
        ]
        return "{ " + ", ".join(parts) + " }" if parts else "{}"
    if isinstance(value, (list, tuple)):
        return "[" + ", ".join(map(toml_value, value)) + "]"
    if isinstance(value, str):
        return json.dumps(value, ensure_ascii=False).replace("\x7f", "\\u007F")
    if isinstance(value, float):
        return str(int(value)) if abs(value) < 1e15 and value == int(value) else repr(value)
    return str(value)


def _lines(declared: Mapping[str, Any]) -> str:
    return "".join(f"{_key(name)} = {toml_value(value)}\n" for name, value in declared.items())


def _key(name: str) -> str:
    return name if name and set(name) <= _PLAIN_KEY else json.dumps(name, ensure_ascii=False)


def _is_natural(value: Any) -> bool:
    return isinstance(value, int) and not isinstance(value, bool) and value > 9


def _declared_keys(model: BaseModel) -> dict[str, Any]:
    """Return what of a model is not its default, by the keys of a sheet."""
    declared: dict[str, Any] = {}
    for name, info in type(model).model_fields.items():
        value = getattr(model, name)
        if (
            value is None
            or name in ("key", "sheet")
            or (value == info.get_default(call_default_factory=True) and name != "kind")
        ):
            continue
        declared[info.serialization_alias or name] = _plain(value)
    return declared


def _plain(value: Any) -> Any:
    if isinstance(value, BaseModel):
        return _declared_keys(value)
    if isinstance(value, Mapping):
        return {name: _plain(item) for name, item in value.items()}
    if isinstance(value, tuple):
        every = [_plain(item) for item in value]
        return every
    return value


def _wire(wire: Wire, line: LineSettings) -> dict[str, Any]:
    declared = _declared_keys(wire)
    declared.pop("line", None)
    own = {name: getattr(wire.line, name) for name in LineSettings.model_fields}
    differs = {name: value for name, value in own.items() if value != getattr(line, name)}
    return declared | ({"line": differs} if differs else {})
