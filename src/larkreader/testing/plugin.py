"""The pytest plugin: a sheet and a port for the tests of a firmware team, given by options or the project's settings.

What passes is recorded; the recording of a test that fails is kept.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Generator, Iterator
from contextlib import ExitStack
from pathlib import Path
from typing import TYPE_CHECKING, Any

import pytest

if TYPE_CHECKING:
    from larkreader.declare.document.sheet import Sheet
    from larkreader.declare.link.line import LineSettings
    from larkreader.exercise.ports.port import Port

SETTINGS = {
    "sheet": "the sheet of the link",
    "port": "the port: a device, HOST:PORT, a name of the sheet, or stand-in:NAME",
    "line": 'settings such as "57600 8E1", instead of the sheet\'s',
    "recordings": "the folder for the recordings of tests that failed (larkreader-recordings unless given)",
}
_IN_USE = pytest.StashKey[bool]()
_FAILED = pytest.StashKey[bool]()


def pytest_addoption(parser: pytest.Parser) -> None:
    """Add the options, each with a setting of the same name for the configuration file."""
    group = parser.getgroup("larkreader", "Lark Reader: a UART link under test")
    for name, result in SETTINGS.items():
        group.addoption(f"--larkreader-{name}", metavar=name.upper(), help=result)
        parser.addini(f"larkreader_{name}", result)


def pytest_configure(config: pytest.Config) -> None:
    """Make the marker known."""
    result = "larkreader(sheet=..., port=..., line=...): the link of this test, instead of the link given by options"
    config.addinivalue_line("markers", result)


@pytest.hookimpl(wrapper=True)
def pytest_runtest_makereport(item: pytest.Item) -> Generator[None, pytest.TestReport, pytest.TestReport]:
    """Note whether a test failed, for the fixture that keeps its recording."""
    report = yield
    if report.failed:
        item.stash[_FAILED] = True
    return report


def pytest_assertrepr_compare(config: pytest.Config, op: str, left: object, right: object) -> list[str] | None:
    """Show how bytes differ, in a test that uses a port of ours."""
    if op != "==" or not config.stash.get(_IN_USE, False):
        return None
    if not isinstance(left, bytes | bytearray) or not isinstance(right, bytes | bytearray):
        return None
    from .checks import difference

    return ["received == expected", *difference(bytes(left), bytes(right))]


def _setting(request: pytest.FixtureRequest, name: str) -> str | None:
    """Return what a marker says, else an option, else the configuration file."""
    for marker in request.node.iter_markers("larkreader"):
        if marker.kwargs.get(name) is not None:
            return str(marker.kwargs[name])
    declared = request.config.getoption(f"--larkreader-{name}") or request.config.getini(f"larkreader_{name}")
    return str(declared) if declared else None


@pytest.fixture
def larkreader_sheet(request: pytest.FixtureRequest) -> Sheet:
    """Give the sheet of the link; the test is skipped if none is given."""
    from larkreader.declare.document.sheet_file import open_sheet

    declared = _setting(request, "sheet")
    if declared is None:
        pytest.skip("no sheet: give --larkreader-sheet FILE, or larkreader_sheet in the configuration")
    path = Path(declared)
    return open_sheet(path if path.is_absolute() or path.exists() else request.config.rootpath / path)


@pytest.fixture
def larkreader_port(request: pytest.FixtureRequest) -> Iterator[Port]:
    """Give the port of the link, open and ready; the test is skipped if none is given."""
    from larkreader.declare.link.line import LineSettings
    from larkreader.exercise.ports.open import open_by_name
    from larkreader.exercise.talk.session import start_session

    name = _setting(request, "port")
    if name is None:
        pytest.skip("no port: give --larkreader-port PORT, or larkreader_port in the configuration")
    sheet: Sheet | None = request.getfixturevalue("larkreader_sheet") if _setting(request, "sheet") else None
    text = _setting(request, "line")
    with open_by_name(name, sheet, LineSettings.parse(text) if text else None) as port, ExitStack() as stack:
        if sheet is not None and name in sheet.port:
            started = start_session(port, sheet.port[name])
            if started.findings:
                pytest.fail("; ".join(finding.text for finding in started.findings), pytrace=False)
        yield stack.enter_context(_recorded(request, port))


@pytest.fixture
def larkreader_simulated_line(request: pytest.FixtureRequest) -> Iterator[Callable[..., Port]]:
    """Give a function that makes a simulated line of a stand-in's name or a device, and what `SimulatedPort` takes."""
    from larkreader.declare.link.line import LineSettings
    from larkreader.exercise.devices.stand_ins import OWN_LINES, STAND_INS
    from larkreader.exercise.ports.simulated import SimulatedPort

    with ExitStack() as stack:

        def make(device: Any = "echo", line: LineSettings | str = "115200 8N1", **declared: Any) -> Port:
            settings = LineSettings.parse(line) if isinstance(line, str) else line
            if isinstance(device, str):
                if device not in STAND_INS:
                    pytest.fail(f'no stand-in is called "{device}"; there are {", ".join(STAND_INS)}', pytrace=False)
                declared = {"far": OWN_LINES.get(device), **declared}
                device = STAND_INS[device]()
            port = stack.enter_context(SimulatedPort(settings, device, **declared))
            return stack.enter_context(_recorded(request, port))

        yield make


def _recorded(request: pytest.FixtureRequest, port: Port) -> Port:
    """Return a port that records what passes through another."""
    from .recorded import RecordedPort

    folder = Path(_setting(request, "recordings") or request.config.rootpath / "larkreader-recordings")
    name = re.sub(r"[^\w.-]+", "_", request.node.nodeid.replace("::", "-")).strip("_")
    request.config.stash[_IN_USE] = True
    request.addfinalizer(lambda: request.config.stash.__setitem__(_IN_USE, False))

    def keep(path: Path) -> bool:
        failed = request.node.stash.get(_FAILED, False)
        if failed:
            request.node.user_properties.append(
                ("larkreader_recording", str(path))
            )  # pytest writes it into --junit-xml
            reporter = request.config.pluginmanager.get_plugin("terminalreporter")
            if reporter is not None:
                reporter.write_line(f"what passed is kept in {path}")
        return bool(failed)

    return RecordedPort(port, folder, name, keep)
