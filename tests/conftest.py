"""Settings and fixtures that all tests share."""

import os
from pathlib import Path

import pytest
from hypothesis import HealthCheck, settings

from larkreader.cli import run
from larkreader.demo.rig import Rig, make_rig, write_history, write_rig
from larkreader.demo.service import make_service, write_service

settings.register_profile("quick", max_examples=25, deadline=None)
settings.register_profile("usual", max_examples=100, deadline=None, suppress_health_check=[HealthCheck.too_slow])
settings.register_profile("deep", max_examples=3000, deadline=None)
if "CI" not in os.environ:  # there hypothesis has a profile of its own, which repeats itself
    settings.load_profile("usual")


@pytest.fixture(scope="session")
def rig() -> Rig:
    return make_rig()


@pytest.fixture(scope="session")
def rig_files(rig, tmp_path_factory) -> dict[str, Path]:
    folder = tmp_path_factory.mktemp("rig")
    for paused in (False, True):
        write_history(folder, paused=paused)
    write_service(folder, make_service())
    return write_rig(folder, rig)


@pytest.fixture
def shell(capsys, monkeypatch):
    """Run the command in this process; return status, standard output and standard error."""
    monkeypatch.setenv("COLUMNS", "80")

    def call(*arguments):
        status = run([str(one) for one in arguments])
        out, err = capsys.readouterr()
        return status, out, err

    return call
