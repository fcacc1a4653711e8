"""Whether the house is in order: names, imports, documents."""

import ast
import doctest
import importlib
import importlib.util
import inspect
import json
import pkgutil
import re
import runpy
import shutil
import subprocess
import sys
import warnings
from operator import attrgetter
from pathlib import Path

import documents
import numpy as np
import pytest

import larkreader as lr
from larkreader.judge.findings.kinds import KINDS
from larkreader.public_names import STAGES, paths

ROOT = Path(__file__).parents[1]
MODULES = [one.name for one in pkgutil.walk_packages(lr.__path__, "larkreader.") if not one.name.endswith("__main__")]


@pytest.mark.parametrize("stage", ["", *STAGES])
def test_the_public_names_are_those_that_are_loaded_typed_and_completed(stage):
    """The sorted `__all__`, the names for type checkers and `dir` agree; no other name is there."""
    package = importlib.import_module(f"larkreader.{stage}".rstrip("."))
    source = Path(package.__file__).with_suffix(".pyi").read_text(encoding="utf-8")
    typed = {name: home for home, name in re.findall(r"^from \.(\S+) import (\w+) as \2$", source, re.MULTILINE)}
    assert list(package.__all__) == sorted(typed)
    assert set(package.__all__) <= set(dir(package))
    for name, home in typed.items():
        assert getattr(package, name) is getattr(importlib.import_module(f"{package.__name__}.{home}"), name)
    with pytest.raises(AttributeError, match="has no attribute 'nothing'"):
        _ = package.nothing
    if not stage:
        assert set(re.findall(r"^from \. import (\w+) as \1$", source, re.MULTILINE)) == {*STAGES, "errors"}
        assert 60 <= len(package.__all__) <= 80


def test_no_module_is_longer_than_is_read_at_once():
    lengths = {path: path.read_text(encoding="utf-8").count("\n") for path in Path(lr.__file__).parent.rglob("*.py")}
    assert not {path.name: length for path, length in lengths.items() if length > 400}


def attributes_of(node):
    """Name what instances of a class hold: what its methods set, and what it declares."""
    stored = {
        one.attr
        for one in ast.walk(node)
        if isinstance(one, ast.Attribute) and isinstance(one.ctx, ast.Store) and getattr(one.value, "id", "") == "self"
    }
    declared = [one for one in node.body if isinstance(one, ast.AnnAssign) and isinstance(one.target, ast.Name)]
    return stored | {one.target.id for one in declared if "ClassVar" not in ast.unparse(one.annotation)}


MANY_ATTRIBUTES = {
    "Sheet": "each is a table of the sheet",
    "NamedField": "each is a key of a field",
    "End": "each is a key of an end",
    "Exchange": "each is a key of a step",
    "Survey": "each is a measured number",
    "Losses": "each is a column",
    "Replay": "most are columns, one row a character",
    "LoopbackResult": "each is a result of its own",
}


def test_no_class_holds_more_than_is_seen_at_once():
    """Fifteen attributes, but for what the reasons are given of."""
    found = {
        node.name
        for path in Path(lr.__file__).parent.rglob("*.py")
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8")))
        if isinstance(node, ast.ClassDef) and len(attributes_of(node)) > 15
    }
    assert found == set(MANY_ATTRIBUTES)


def test_importing_the_package_loads_nothing_heavy():
    code = "import sys, larkreader; print([one for one in ('numpy', 'click', 'rich', 'pandas') if one in sys.modules])"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.strip() == "[]"


def test_every_public_function_tells_what_it_takes_gives_and_raises():
    for name, path in paths().items():
        thing = attrgetter(path)(lr)
        text = inspect.getdoc(thing)
        assert text, name
        if inspect.isfunction(thing):
            gives = inspect.signature(thing).return_annotation not in (None, "None")
            takes = bool(inspect.signature(thing).parameters)
            assert not takes or "Parameters\n---" in text, f"{name} lacks Parameters"
            assert not gives or re.search(r"(Returns|Yields)\n---", text), f"{name} lacks Returns"
            for parameter in inspect.signature(thing).parameters:
                assert re.search(rf"\b{parameter}\b", text), f"{name} does not tell {parameter}"


@pytest.mark.parametrize("name", MODULES)
def test_examples_in_docstrings_are_true(name):
    found = doctest.DocTestFinder(recurse=True).find(importlib.import_module(name), extraglobs={"lr": lr, "np": np})
    runner = doctest.DocTestRunner(optionflags=doctest.NORMALIZE_WHITESPACE)
    for one in found:
        runner.run(one)
    assert runner.summarize(verbose=False).failed == 0


DOCUMENTS = [ROOT / "README.md", *sorted((ROOT / "docs").rglob("*.md"))]


@pytest.mark.parametrize("path", DOCUMENTS, ids=[path.name for path in DOCUMENTS])
def test_python_in_the_documents_is_true(path, rig_files, monkeypatch):
    monkeypatch.chdir(rig_files["sheet"].parent)
    result = doctest.testfile(
        str(path), module_relative=False, globs={"lr": lr, "np": np}, optionflags=doctest.NORMALIZE_WHITESPACE
    )
    assert result.failed == 0


@pytest.mark.parametrize("path", DOCUMENTS, ids=[path.name for path in DOCUMENTS])
def test_sheets_and_links_in_the_documents_are_good(path):
    text = path.read_text(encoding="utf-8")
    for block in re.findall(r"```toml\n(sheet = 1.*?)```", text, re.DOTALL):
        lr.parse_sheet(block, name=path.name)
    for target in re.findall(r"\]\((?!http)([^)#]+)", text):
        assert (path.parent / target).exists(), target


@pytest.mark.parametrize("path", DOCUMENTS, ids=[path.name for path in DOCUMENTS])
def test_commands_in_the_documents_do_what_is_told(path, rig_files, tmp_path, monkeypatch, capsys):
    """In a copy of the demo's folder, in order; those that need hardware are read by the command's own parser."""
    folder = rig_files["sheet"].parent
    for file in folder.iterdir():
        if file.is_file():
            shutil.copy(file, tmp_path)
    if "campaign/" in path.read_text(encoding="utf-8"):
        shutil.copytree(folder / "campaign", tmp_path / "campaign")
    monkeypatch.chdir(tmp_path)
    monkeypatch.setenv("COLUMNS", documents.WIDTH)
    wrong = documents.walk(path, capsys)
    assert not wrong, "\n\n".join(wrong)
    for line in documents.lines_to_type(path.read_text(encoding="utf-8")):
        documents.read_only(line)


def is_part(shown, whole):
    """Tell whether a document holds what is told of it; ``...`` stands for anything."""
    if isinstance(shown, dict):
        return all(key in whole and is_part(value, whole[key]) for key, value in shown.items())
    if isinstance(shown, list):
        return all(any(is_part(one, other) for other in whole) for one in shown)
    return shown == "..." or (shown == pytest.approx(whole, rel=1e-3) if isinstance(shown, float) else shown == whole)


def test_json_in_the_documents_is_what_comes(shell, rig_files, monkeypatch):
    text = (ROOT / "docs" / "reference" / "command.md").read_text(encoding="utf-8")
    monkeypatch.chdir(rig_files["sheet"].parent)
    document = json.loads(shell("decode", "rig.toml", "rig.vcd", "--json")[1])
    blocks = re.findall(r"^```json\n(.*?)^```", text, re.MULTILINE | re.DOTALL)
    assert blocks
    assert all(is_part(json.loads(block), document) for block in blocks)


def test_what_the_documents_take_from_the_code_is_current():
    """The table of findings, all keys of a sheet, every public name; each kind, key and name stands there."""
    loader = importlib.util.spec_from_file_location("generate", ROOT / "docs" / "generate.py")
    generate = importlib.util.module_from_spec(loader)
    loader.loader.exec_module(generate)
    generate.check()
    pages = {path.name: path.read_text(encoding="utf-8") for path in (ROOT / "docs" / "reference").glob("*.md")}
    rows = dict(re.findall(r"^\| `([a-z-]+)` \| (\w+) \|", pages["findings.md"], re.MULTILINE))
    assert rows == {kind: known.severity for kind, known in KINDS.items()}
    assert all(f" larkreader.{path}\n" in pages["names.md"] for path in paths().values())
    for table in lr.sheet_schema()["properties"]:
        assert re.search(rf"^## `\[+{table}[.\]]|^\| `{table}` ", pages["sheet-keys.md"], re.MULTILINE), table


@pytest.mark.parametrize("name", ["constructors", "columns"])
def test_what_consumers_write_runs(name):
    """`tools/check_typing.py` type-checks the same scripts against the installed package."""
    runpy.run_path(str(ROOT / "tests" / "consumers" / f"{name}.py"))


EXAMPLES = sorted((ROOT / "examples").glob("*.py"))


@pytest.mark.parametrize("script", EXAMPLES, ids=[path.stem for path in EXAMPLES])
def test_an_example_runs_and_prints_what_stands_beside_it(script, tmp_path, monkeypatch, capsys):
    """In this process, which has loaded the libraries; `.ci/run` starts each as a reader would."""
    monkeypatch.chdir(tmp_path)
    monkeypatch.setattr(sys, "path", [str(script.parent), *sys.path])
    with warnings.catch_warnings():
        runpy.run_path(str(script), run_name="__main__")
    out, err = capsys.readouterr()
    assert (out, err) == (script.with_suffix(".txt").read_text(encoding="utf-8"), "")
