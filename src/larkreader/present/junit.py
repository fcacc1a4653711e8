"""Results as JUnit XML, which build servers understand."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Literal
from xml.etree import ElementTree as ET

from larkreader.exercise.dialogue import DialogueResult
from larkreader.exercise.loopback_matrix import MatrixResult

from .loopback_views import name_of, summary_of

_FORBIDDEN = re.compile("[^\t\n\r\x20-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")  # what XML 1.0 has no character for


@dataclass(frozen=True)
class Case:
    """One test case.

    Parameters
    ----------
    name : str
        What was tried.
    time_s : float
        How long it took.
    outcome : {"pass", "fail", "skipped"}
    message : str
        Why it failed, in a line.
    detail : str
        The same at length, or what a good one measured.
    """

    name: str
    time_s: float
    outcome: Literal["pass", "fail", "skipped"]
    message: str = ""
    detail: str = ""


def loopback_cases(result: MatrixResult) -> list[Case]:
    """Return a case for each run of a loopback."""
    return [
        Case(name_of(one), one.duration_s, one.verdict, "; ".join(one.failures), "\n".join(summary_of(one)))
        for one in result.runs
    ]


def dialogue_cases(result: DialogueResult) -> list[Case]:
    """Return a case for each step of a dialogue."""
    return [Case(one.name, one.duration_s, one.outcome, one.why, one.detail()) for one in result.steps]


def write_junit(path: Path, suite: str, cases: Sequence[Case]) -> None:
    """Write cases as one test suite.

    Parameters
    ----------
    path : pathlib.Path
        The file.
    suite : str
        Its name.
    cases : sequence of Case

    Raises
    ------
    OSError
        If the file cannot be written.
    """
    counts = {
        "tests": len(cases),
        "failures": sum(one.outcome == "fail" for one in cases),
        "errors": 0,
        "skipped": sum(one.outcome == "skipped" for one in cases),
    }
    said = {name: str(count) for name, count in counts.items()}
    time = f"{sum(one.time_s for one in cases):.6f}"
    root = ET.Element("testsuites", {"name": "larkreader", **said, "time": time})
    element = ET.SubElement(root, "testsuite", {"name": _clean(suite), **said, "time": time})
    for one in cases:
        known = {"classname": _clean(suite), "name": _clean(one.name), "time": f"{one.time_s:.6f}"}
        case = ET.SubElement(element, "testcase", known)
        if one.outcome == "fail":
            ET.SubElement(case, "failure", {"message": _clean(one.message)}).text = _clean(one.detail)
        elif one.outcome == "skipped":
            ET.SubElement(case, "skipped", {"message": _clean(one.message)})
        elif one.detail:
            ET.SubElement(case, "system-out").text = _clean(one.detail)
    ET.indent(root)
    path.write_bytes(ET.tostring(root, encoding="utf-8", xml_declaration=True) + b"\n")


def _clean(text: str) -> str:
    return _FORBIDDEN.sub("\ufffd", text)
