"""Results as JUnit XML, which build servers understand."""

from __future__ import annotations

import re
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING
from xml.etree import ElementTree as ET

from .cases import Case, cases_of, outcome_counts

if TYPE_CHECKING:
    from larkreader.answers.layout_check.compared import LayoutComparison
    from larkreader.answers.planning import Plan
    from larkreader.answers.reading import Reading
    from larkreader.exercise.loopback.matrix import MatrixResult
    from larkreader.exercise.loopback.result import LoopbackResult
    from larkreader.exercise.loopback.torture import TortureResult
from larkreader.exercise.talk.dialogue import DialogueResult
from larkreader.sources import write_whole

_FORBIDDEN = re.compile("[^\t\n\r\x20-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")  # what XML 1.0 has no character for


def write_junit(
    path: str | Path,
    suite: str,
    result: LoopbackResult
    | MatrixResult
    | DialogueResult
    | TortureResult
    | Reading
    | Plan
    | LayoutComparison
    | Sequence[Case],
) -> None:
    """Write a result as one test suite.

    Parameters
    ----------
    path : str or pathlib.Path
        The file.
    suite : str
        The name of the suite.
    result : LoopbackResult, MatrixResult, DialogueResult, TortureResult, Reading, Plan, LayoutComparison, list of Case
        What to write; `cases_of` says which cases it has.

    Raises
    ------
    OSError
        If the file cannot be written.

    Examples
    --------
    >>> import tempfile
    >>> import larkreader as lr
    >>> line = lr.LineSettings(baud=115_200)
    >>> result = lr.run_loopback(lr.SimulatedPort(line, lambda data: data), lr.LoopbackPlan(characters=256))
    >>> path = Path(tempfile.mkdtemp()) / "loopback.xml"
    >>> lr.write_junit(path, "loopback", result)
    >>> path.read_text(encoding="utf-8").count("<testcase")
    1
    """
    cases = result if isinstance(result, Sequence) else cases_of(result)
    counts = {name: str(count) for name, count in outcome_counts(cases).items()}
    time = f"{sum(case.time_s for case in cases):.6f}"
    root = ET.Element("testsuites", {"name": "larkreader", **counts, "time": time})
    element = ET.SubElement(root, "testsuite", {"name": _clean(suite), **counts, "time": time})
    for case in cases:
        about = {"classname": _clean(suite), "name": _clean(case.name), "time": f"{case.time_s:.6f}"}
        written = ET.SubElement(element, "testcase", about)
        if case.outcome == "fail":
            ET.SubElement(written, "failure", {"message": _clean(case.message)}).text = _clean(case.detail)
        elif case.outcome == "skipped":
            ET.SubElement(written, "skipped", {"message": _clean(case.message)})
        elif case.detail:
            ET.SubElement(written, "system-out").text = _clean(case.detail)
    ET.indent(root)
    write_whole(path, ET.tostring(root, encoding="utf-8", xml_declaration=True) + b"\n")


def _clean(text: str) -> str:
    return _FORBIDDEN.sub("\ufffd", text)
