"""Checks that say at length what went wrong, for the tests of a firmware team."""

from __future__ import annotations

from collections.abc import Iterator

from larkreader.exercise.loopback.alignment import Alignment, align
from larkreader.exercise.loopback.matrix import MatrixResult
from larkreader.exercise.loopback.result import LoopbackResult
from larkreader.exercise.talk.dialogue import DialogueResult
from larkreader.present.tables.loopback_views import name_of, summary_of
from larkreader.present.text.notation import visible

ROW = 16  # characters of a row that is shown
AROUND = 2  # rows shown before and behind the first that differs


def check(result: LoopbackResult | MatrixResult | DialogueResult) -> None:
    """Check that a loopback or a dialogue passed.

    Parameters
    ----------
    result : LoopbackResult, MatrixResult or DialogueResult
        What came of it.

    Raises
    ------
    AssertionError
        If it did not; the message shows what was to come and what came.
    """
    __tracebackhide__ = True  # what a test wants to show is the message
    if result.verdict == "pass":
        return
    raise AssertionError("\n".join(_told(result)))


def _told(result: LoopbackResult | MatrixResult | DialogueResult) -> Iterator[str]:
    if isinstance(result, DialogueResult):
        for number, step in enumerate(result.steps, 1):
            if step.outcome == "fail":
                yield f"step {number}, {step.name}: {step.why}"
                yield from (f"  {row}" for row in step.detail().splitlines())
        if result.interrupted:
            yield "the dialogue was interrupted"
        return
    runs = result.runs if isinstance(result, MatrixResult) else (result,)
    for one in runs:
        if one.verdict == "fail":
            yield f"loopback, {name_of(one)}: {'; '.join(one.failures)}"
            yield from (f"  {row}" for row in summary_of(one))


def check_same(came: bytes, to_come: bytes) -> None:
    """Check that what came is what was to come.

    Parameters
    ----------
    came, to_come : bytes
        Both.

    Raises
    ------
    AssertionError
        If it is not; the message counts what was lost, changed, extra and doubled, and shows the place.
    """
    __tracebackhide__ = True
    if came != to_come:
        raise AssertionError("\n".join(difference(came, to_come)))


def difference(came: bytes, to_come: bytes) -> list[str]:
    """Say how what came differs from what was to come, as rows of text."""
    found: Alignment = align(to_come, came)
    counts = {"lost": found.lost, "changed": found.changed, "extra": found.extra, "of them doubled": found.doubled}
    rows = [f"{len(came):,} came, {len(to_come):,} were to: " + ", ".join(f"{n:,} {w}" for w, n in counts.items() if n)]
    if found.first is None:
        return rows
    place = found.first[0]
    rows.append(f"first difference at {place:,}:")
    for name, data in (("expected", to_come), ("came", came)):
        begin = max(place // ROW - AROUND, 0) * ROW
        for at in range(begin, min(begin + (2 * AROUND + 1) * ROW, len(data)), ROW):
            part = data[at : at + ROW]
            mark = ">" if at <= place < at + ROW else " "
            rows.append(f"  {name:<8}{mark}{at:>7}  {part.hex(' ').upper():<47}  {visible(part)}")
    return rows
