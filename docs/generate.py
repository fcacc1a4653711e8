"""What the documentation takes from the code: keys of sheets, kinds of findings, public names, states of receive paths.

``python docs/generate.py`` writes it into the pages; a test, and each build, fails where that has not been done.
"""

from __future__ import annotations

import json
import re
import sys
from collections.abc import Iterator, Mapping
from operator import attrgetter
from pathlib import Path
from typing import Any

import larkreader as lr
from larkreader.answers.campaign.tables import STORE_VERSION, TABLES
from larkreader.judge.findings.kinds import KINDS
from larkreader.judge.findings.wording import Template, clauses_of
from larkreader.public_names import paths
from larkreader.simulate.application import CALLING, LOOKING
from larkreader.simulate.hardware import DMA, SHIFT_REGISTER
from larkreader.simulate.service import SERVICE

PAGES = Path(__file__).parent
ROOMS = {
    "declare": "What the engineer declares",
    "capture": "What was measured",
    "decode": "From measured to meaning",
    "simulate": "What buffers and services do with characters",
    "judge": "Is it right, and if not, why",
    "exercise": "Make it happen",
    "answers": "What a user asks",
    "present": "Figures, tables and files",
    "errors": "What can be wrong with a request",
}
PLAIN_TYPES = {
    "string": "text",
    "integer": "whole number",
    "number": "number",
    "boolean": "true or false",
    "array": "list",
    "object": "table",
}
MEMBERS = "\n   :members:\n   :exclude-members: model_config, model_post_init, model_fields, model_computed_fields"
KEYS_HEAD = """# All keys of a sheet

Generated from the models that read a sheet, so that it is always all of them; `larkreader schema` prints the same for
editors. What they are for, with examples, stands in [the sheet](sheet.md), [before anything is sent](plan.md),
[what gets lost](paths.md) and [make it happen](exercise.md).
"""
NAMES_HEAD = """# Every public name

Generated from the code. `import larkreader as lr`: the names used daily are `lr.NAME`, all others `lr.STAGE.NAME`, each
loaded when it is first used. [From Python](api.md) shows how they work together.
"""


STORES_HEAD = """# What a store holds

Generated from the code. `larkreader batch --store PATH` and `lr.read_many(..., store=PATH)` keep a row for each
capture, wire, layout, finding and pairing. An SQLite file has these as tables; a folder of Parquet files has a folder
for each, with a file for each part of a run. pandas, DuckDB and spreadsheets read both as they are:

```sql
SELECT labels.value AS build, count(DISTINCT capture) AS captures
FROM findings JOIN labels USING (capture)
WHERE labels.name = 'build' AND kind = 'overflow'
GROUP BY build;
```

The table `about` (of a folder, `about.json`) names the version of this form, VERSION, and the sheet, with a hash of all
that was declared but the policy. The version rises when a column goes or means something else; who reads a store should
pass over columns that it does not know. What is not known is null.
"""


def stores() -> str:
    """Return the page on what a store holds."""
    parts = [STORES_HEAD.replace("VERSION", str(STORE_VERSION))]
    for table, columns in TABLES.items():
        parts += [f"## `{table}`", "", "| column | type | what it is |", "|---|---|---|"]
        parts += [f"| `{column.name}` | {column.type} | {column.meaning} |" for column in columns]
        parts.append("")
    return "\n".join(parts).rstrip() + "\n"


def kinds_table() -> str:
    """Return the kinds of findings as a table."""
    rows = ["| kind | severity | what it means | what to do | evidence |", "|---|---|---|---|---|"]
    for kind, one in KINDS.items():
        names = ", ".join(f"`{name}`" for name in one.evidence if name not in ("wire", "frame", "count", "certain"))
        rows.append(f"| `{kind}` | {one.severity} | {_plain(one.meaning)} | {_plain(one.advice)} | {names} |")
    return "\n".join(rows)


def _plain(template: Template) -> str:
    """Return a template for reading: its conditions left out, its values by their names."""
    clauses = (re.sub(r"\{[?!]\w+\}", "", clause) for clause in clauses_of(template))
    return " ".join(re.sub(r"\{(\w+)(?::[^{}]*)?\}", r"*\1*", clause) for clause in clauses).replace("|", "\\|")


def findings_page() -> str:
    """Return the page of findings with its table as it is to be."""
    text = (PAGES / "reference" / "findings.md").read_text(encoding="utf-8")
    return re.sub(r"^\| kind \| severity .*?(?=\n\n|\Z)", lambda _: kinds_table(), text, flags=re.MULTILINE | re.DOTALL)


def paths_page() -> str:
    """Return the page of receive paths with the table of their states as it is to be."""
    machines = {
        "shift register": SHIFT_REGISTER,
        "DMA that is not circular": DMA,
        "service": SERVICE,
        "application that looks every so often": LOOKING,
        "application that waits in a read": CALLING,
    }
    rows = ["| part | state | event | next state |", "|---|---|---|---|"]
    for machine, table in machines.items():
        rows += [f"| {machine} | {state} | {event} | {following} |" for (state, event), following in table.items()]
    text = (PAGES / "reference" / "paths.md").read_text(encoding="utf-8")
    return re.sub(r"^\| part \| state .*?(?=\n\n|\Z)", "\n".join(rows), text, flags=re.MULTILINE | re.DOTALL)


def keys_page() -> str:
    """Return the page with every key of a sheet."""
    schema = lr.sheet_schema()
    parts = [KEYS_HEAD, _table("Top", {key: schema["properties"][key] for key in ("sheet", "title")}, schema)]
    for name, one in schema["properties"].items():
        if "properties" in one:
            parts.append(_table(f"`[{name}]`", one["properties"], schema, one.get("description", "")))
        elif "additionalProperties" in one and isinstance(one["additionalProperties"], Mapping):
            model = one["additionalProperties"]
            head = f"`[{name}.NAME]`"
            parts.append(_table(head, model["properties"], schema, one["description"], model.get("required")))
        elif "items" in one:
            model = one["items"]
            head = f"`[[{name}]]`"
            parts.append(_table(head, model["properties"], schema, one["description"], model.get("required")))
    parts.append("## Tables inside of others\n\nThe value of a key that says *table* above.\n")
    for name, model in sorted(schema["$defs"].items()):
        if "properties" in model:
            told = model.get("description", "")
            parts.append(_table(f"### {name}", model["properties"], schema, told, model.get("required")))
    return "\n".join(parts)


def names_page() -> str:
    """Return the page with every public name: those at the root, then the others stage by stage."""
    parts = [NAMES_HEAD, "## At the root: what is used daily\n"]
    parts += [_name_entry(path) for path in sorted(paths().values()) if "." not in path]
    for stage, purpose in ROOMS.items():
        parts.append(f"## {stage}: {purpose}\n")
        parts += [_name_entry(path) for path in sorted(paths().values()) if path.startswith(f"{stage}.")]
    return "\n".join(parts)


def _name_entry(path: str) -> str:
    kind = _directive(attrgetter(path)(lr))
    members = MEMBERS if kind == "autoclass" else ""
    return f"```{{eval-rst}}\n.. {kind}:: larkreader.{path}{members}\n```\n"


GENERATED = {
    "reference/findings.md": findings_page,
    "reference/sheet-keys.md": keys_page,
    "reference/names.md": names_page,
    "reference/stores.md": stores,
    "reference/paths.md": paths_page,
}


def _directive(thing: Any) -> str:
    """Return what the generator is reported to make of a public name."""
    if isinstance(thing, type):
        return "autoexception" if issubclass(thing, Exception) else "autoclass"
    return "autofunction" if callable(thing) else "autodata"


def check() -> None:
    """Raise if a page is not as the code is."""
    stale = [name for name, make in GENERATED.items() if (PAGES / name).read_text(encoding="utf-8") != make()]
    if stale:
        raise SystemExit(f"{', '.join(stale)}: not as the code is. Run python docs/generate.py")


def _table(
    title: str, properties: Mapping[str, Any], schema: Mapping[str, Any], told: str = "", required: Any = ()
) -> str:
    head = title if title.startswith("#") else f"## {title}"
    rows = ["| key | what it holds | default | meaning |", "|---|---|---|---|"]
    rows += [
        f"| `{key}` | {_type(one, schema)} | {_default(key, one, required or ())} | {_cell(one.get('description'))} |"
        for key, one in properties.items()
    ]
    return f"{head}\n\n{_cell(told) + chr(10) + chr(10) if told else ''}" + "\n".join(rows) + "\n"


def _default(key: str, one: Mapping[str, Any], required: Any) -> str:
    if "default" not in one:
        return "required" if key in required or key == "sheet" else ""
    value = one["default"]
    if value in (None, "", [], {}):
        return ""
    return "" if isinstance(value, dict) and len(value) > 3 else f"`{json.dumps(value)}`"


def _type(one: Mapping[str, Any], schema: Mapping[str, Any]) -> str:
    return ", or ".join(dict.fromkeys(_types(one, schema)))


def _types(one: Mapping[str, Any], schema: Mapping[str, Any]) -> Iterator[str]:
    """Yield what a key may hold, in words."""
    if "$ref" in one:
        name = one["$ref"].rsplit("/", 1)[1]
        model = schema["$defs"][name]
        if "properties" in model:
            yield f"table [{name}](#{name.lower()})"
        else:
            yield from _types(model, schema)
        return
    for way in ("anyOf", "oneOf", "allOf"):
        for part in one.get(way, ()):
            if part.get("type") != "null":
                yield from _types(part, schema)
    if "const" in one:
        yield f"`{json.dumps(one['const'])}`"
    elif "enum" in one:
        yield " ".join(f"`{json.dumps(value)}`" for value in one["enum"])
    elif one.get("type") == "array":
        inner = one.get("items") or {}
        told = ", or ".join(dict.fromkeys(_types(inner, schema))) if isinstance(inner, Mapping) else ""
        yield f"list of {told}" if told else "list"
    elif one.get("type") == "object":
        inner = one.get("additionalProperties")
        told = ", or ".join(dict.fromkeys(_types(inner, schema))) if isinstance(inner, Mapping) else ""
        yield f"table of {told} by name" if told else "table"
    elif "type" in one and one["type"] != "null":
        several = one["type"] if isinstance(one["type"], list) else [one["type"]]
        yield from (PLAIN_TYPES[name] for name in several if name in PLAIN_TYPES)


def _cell(text: str | None) -> str:
    return " ".join((text or "").replace("|", r"\|").replace("<", "&lt;").split())


def main() -> None:
    """Write the pages; with ``--check`` fail if they are not as they would be written."""
    if "--check" in sys.argv:
        check()
        return
    for name, make in GENERATED.items():
        (PAGES / name).write_text(make(), encoding="utf-8")


if __name__ == "__main__":
    main()
