"""The schema lets through what the loader takes, and refuses what it can see to be wrong."""

import json
import re
import tomllib
from importlib.resources import files
from pathlib import Path

import pytest
from jsonschema import Draft202012Validator

import larkreader as lr
from larkreader.declare.document.starter import starter_sheet

ROOT = Path(__file__).parents[2]
SHEETS = {
    f"{path.name}-{number}": block
    for path in [ROOT / "README.md", *sorted((ROOT / "docs").rglob("*.md"))]
    for number, block in enumerate(
        re.findall(r"```toml\n(sheet = 1.*?)```", path.read_text(encoding="utf-8"), re.DOTALL)
    )
}
RIG = (files(lr) / "data" / "rig.toml").read_text(encoding="utf-8")


@pytest.fixture(scope="module")
def validator():
    Draft202012Validator.check_schema(lr.sheet_schema())
    return Draft202012Validator(lr.sheet_schema())


def test_every_sheet_that_ships_or_stands_in_a_document_is_let_through(validator):
    assert len(SHEETS) >= 5
    for name, text in {**SHEETS, "rig": RIG, "starter": starter_sheet()}.items():
        lr.parse_sheet(text)
        assert not [error.message for error in validator.iter_errors(tomllib.loads(text))], name


@pytest.mark.parametrize(
    ("change", "place"),
    [
        (("sheet = 1", "sheet = 2"), ["sheet"]),
        (('format = "8E1"', 'format = "8X1"'), ["line", "format"]),
        (("baud =", "buad ="), ["line"]),
        (('type = "uint12", scale', 'type = "uint128", scale'), None),
        (('kind = "marker"', 'kind = "maker"'), None),
        (("counter = true", 'counter = "yes"'), None),
        (("[wire.to_pump]", "[wires.to_pump]"), []),
    ],
)
def test_what_the_loader_refuses_and_a_schema_can_say_is_refused(validator, change, place):
    assert change[0] in RIG
    text = RIG.replace(*change, 1)
    with pytest.raises(lr.SheetError):
        lr.parse_sheet(text)
    errors = list(validator.iter_errors(tomllib.loads(text)))
    assert errors
    assert place is None or any(list(error.path) == place for error in errors)


def test_each_key_is_told_and_the_command_prints_it(shell):
    status, out, _ = shell("schema")
    assert (status, json.loads(out)) == (0, lr.sheet_schema())
    schema = lr.sheet_schema()
    tables = [schema["properties"]["line"], schema["properties"]["capture"], *schema["$defs"].values()]
    tables += [schema["properties"][name]["additionalProperties"] for name in ("wire", "frame", "port", "event")]
    untold = [key for one in tables for key, found in one.get("properties", {}).items() if "description" not in found]
    assert set(untold) <= {"kind", "signal"}
    assert all("key" not in one.get("properties", {}) for one in tables)


def test_what_the_starter_sheet_comments_out_can_be_used():
    """Prose begins with a capital letter; all else behind the first commented table is TOML."""
    head, frame, rest = starter_sheet().partition("# [frame.status]")
    lines = [line if line[2:3].isupper() else line.removeprefix("# ") for line in (frame + rest).splitlines()]
    sheet = lr.parse_sheet(head + "\n".join(lines))
    assert [*sheet.clock, *sheet.generator, *sheet.end] == ["crystal", "divider", "board", "host"]
    assert lr.plan(sheet).verdict != "faults"
