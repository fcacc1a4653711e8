"""Results as test cases, which pass, fail or are skipped."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Literal

from larkreader.answers.layout_check.compared import LayoutComparison
from larkreader.exercise.loopback.matrix import MatrixResult
from larkreader.exercise.loopback.result import LoopbackResult
from larkreader.exercise.loopback.torture import TortureResult, TortureRow
from larkreader.exercise.talk.dialogue import DialogueResult
from larkreader.present.tables.layout_check_view import row_text
from larkreader.present.tables.loopback_views import name_of, summary_of
from larkreader.present.tables.torture_view import why

from .annotations import Remark

if TYPE_CHECKING:
    from larkreader.answers.planning import Plan
    from larkreader.answers.reading import Reading
    from larkreader.judge.verdict.checked import Checked


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
        The same at length; for a case that passed, what it measured.
    """

    name: str
    time_s: float
    outcome: Literal["pass", "fail", "skipped"]
    message: str = ""
    detail: str = ""


def cases_of(
    result: LoopbackResult | MatrixResult | DialogueResult | TortureResult | Reading | Plan | LayoutComparison,
) -> list[Case]:
    """Return the test cases of a result.

    Parameters
    ----------
    result : LoopbackResult, MatrixResult, DialogueResult, TortureResult, Reading, Plan or LayoutComparison
        What was done or read.

    Returns
    -------
    list of Case
        One for each run of a loopback, step of a dialogue, kind of damage, or field of a layout beside a struct, which
        is skipped where a header does not show all of it. Of a reading and a plan one for each
        finding, which fails if its severity is error, for each check that proved something, and for each that could
        not be made, which is skipped.
    """
    if isinstance(result, DialogueResult):
        return [Case(step.name, step.duration_s, step.outcome, step.why, step.detail()) for step in result.steps]
    if isinstance(result, LayoutComparison):
        return _layout_cases(result)
    if isinstance(result, TortureResult):
        return [_damage_case(row) for row in result.rows]
    if isinstance(result, LoopbackResult | MatrixResult):
        runs = (result,) if isinstance(result, LoopbackResult) else result.runs
        return [
            Case(name_of(run), run.duration_s, run.verdict, "; ".join(run.failures), "\n".join(summary_of(run)))
            for run in runs
        ]
    return remark_cases(map(Remark.of, result.findings), getattr(result, "checked", None))


def _layout_cases(result: LayoutComparison) -> list[Case]:
    """Return the test cases of a layout beside a struct: one for each field, and one for a wrong length."""
    cases = []
    for row in result.rows:
        name = f"{result.layout}.{row.field or row.member or row.in_c}"
        if row.follows:
            cases.append(Case(name, 0.0, "skipped", "moved by what differs before", row_text(row)))
        elif row.outcome in ("same", "not shown"):
            outcome: Literal["pass", "skipped"] = "pass" if row.outcome == "same" else "skipped"
            cases.append(Case(name, 0.0, outcome, "; ".join(row.unseen), row.in_c))
        else:
            text = row_text(row)
            cases.append(Case(name, 0.0, "fail", text, text))
    if result.lengths_differ:
        text = f"{result.sheet_length} bytes in the sheet, {result.c_length} in C"
        cases.append(Case(f"{result.layout}: length", 0.0, "fail", text, text))
    return cases


def _damage_case(row: TortureRow) -> Case:
    """Return the test case of a kind of damage."""
    if row.outcome == "pass":
        return Case(row.damage, 0.0, "pass", detail=f"{row.sound:,} sound frames kept, {row.trials:,} trials")
    lines = why(row)
    return Case(row.damage, 0.0, "skipped" if row.outcome == "not tried" else "fail", lines[0], "\n".join(lines))


def remark_cases(remarks: Iterable[Remark], checked: Checked | None = None) -> list[Case]:
    """Return test cases: an error fails, what could not be checked is skipped, all else passes."""
    cases = [
        Case(remark.title, 0.0, "fail", remark.text.partition(". ")[0], remark.text)
        if remark.severity == "error"
        else Case(remark.title, 0.0, "pass", detail=remark.text)
        for remark in remarks
    ]
    if checked is not None:
        cases += [Case(check.text, 0.0, "pass") for check in checked.proven]
        cases += [Case(check.text, 0.0, "skipped", "could not be checked") for check in checked.not_checked]
    return cases or [Case("no finding", 0.0, "pass")]


def outcome_counts(cases: Sequence[Case]) -> dict[str, int]:
    """Return how many cases there are, and how many failed and were skipped, under the names of JUnit XML."""
    return {
        "tests": len(cases),
        "failures": sum(case.outcome == "fail" for case in cases),
        "errors": 0,
        "skipped": sum(case.outcome == "skipped" for case in cases),
    }
