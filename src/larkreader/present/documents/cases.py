"""Results as test cases, which pass, fail or are skipped."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Literal

from larkreader.exercise.loopback.matrix import MatrixResult
from larkreader.exercise.loopback.result import LoopbackResult
from larkreader.exercise.loopback.torture import TortureResult, TortureRow
from larkreader.exercise.talk.dialogue import DialogueResult
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


def cases_of(result: LoopbackResult | MatrixResult | DialogueResult | TortureResult | Reading | Plan) -> list[Case]:
    """Return the test cases of a result.

    Parameters
    ----------
    result : LoopbackResult, MatrixResult, DialogueResult, TortureResult, Reading or Plan
        What was done or read.

    Returns
    -------
    list of Case
        One for each run of a loopback, step of a dialogue or kind of damage. Of a reading and a plan one for each
        finding, which fails if its severity is error, for each check that proved something, and for each that could
        not be made, which is skipped.
    """
    if isinstance(result, DialogueResult):
        return [Case(step.name, step.duration_s, step.outcome, step.why, step.detail()) for step in result.steps]
    if isinstance(result, TortureResult):
        return [_damage_case(row) for row in result.rows]
    if isinstance(result, LoopbackResult | MatrixResult):
        runs = (result,) if isinstance(result, LoopbackResult) else result.runs
        return [
            Case(name_of(run), run.duration_s, run.verdict, "; ".join(run.failures), "\n".join(summary_of(run)))
            for run in runs
        ]
    return remark_cases(map(Remark.of, result.findings), getattr(result, "checked", None))


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
