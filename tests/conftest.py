"""Settings and fixtures that all tests share."""

import json
import os
import signal
from pathlib import Path

import jsonschema
import pytest
from hypothesis import HealthCheck, settings

from larkreader.cli import run
from larkreader.demo.campaign import write_campaign
from larkreader.demo.rig import Rig, make_rig, write_history, write_rig
from larkreader.demo.service import make_service, write_service
from larkreader.demo.shift import write_shift
from larkreader.present.documents.schemas import document_schema

USUAL = 30  # examples of a property; `LARKREADER_TESTS=deep` tries many more, and what is marked deep
COMMON = {"deadline": None, "suppress_health_check": [HealthCheck.too_slow], "derandomize": "CI" in os.environ}
settings.register_profile("usual", max_examples=USUAL, **COMMON)
settings.register_profile("deep", max_examples=1000, **COMMON)
if signal.getsignal(signal.SIGINT) == signal.SIG_IGN:  # in the background of a shell, which commands would inherit
    signal.signal(signal.SIGINT, signal.default_int_handler)
PROFILE = os.environ.get("LARKREADER_TESTS", "usual")
settings.load_profile(PROFILE)


def pytest_collection_modifyitems(items):
    """Leave what is marked deep to the nightly run."""
    if PROFILE != "deep":
        for item in items:
            if item.get_closest_marker("deep"):
                item.add_marker(pytest.mark.skip(reason="long: runs with LARKREADER_TESTS=deep (make deep)"))


@pytest.fixture(scope="session")
def rig() -> Rig:
    return make_rig()


@pytest.fixture(scope="session")
def rig_files(rig, tmp_path_factory) -> dict[str, Path]:
    folder = tmp_path_factory.mktemp("rig")
    for paused in (False, True):
        write_history(folder, paused=paused)
    write_service(folder, make_service())
    write_shift(folder, rig.sheet)
    (folder / "campaign").mkdir()
    write_campaign(folder / "campaign")
    return write_rig(folder, rig)


def check_document(document):
    """Every document of the command is as its published schema says."""
    schema = document_schema(document["document"])
    jsonschema.Draft202012Validator(schema).validate(document)


@pytest.fixture
def shell(capsys, monkeypatch):
    """Run the command in this process; return status, standard output and standard error."""
    monkeypatch.setenv("COLUMNS", "80")

    def call(*arguments):
        status = run([str(one) for one in arguments])
        out, err = capsys.readouterr()
        if "--json" in arguments and status in (0, 1) and out and "\n{" not in out:  # those are JSON Lines
            check_document(json.loads(out))
        return status, out, err

    return call
