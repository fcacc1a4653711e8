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
        The result of it.

    Raises
    ------
    AssertionError
        If it did not; the message shows what was expected and received.
    """
    __tracebackhide__ = True  # what a test wants to show is the message
    if result.verdict == "pass":
        return
    raise AssertionError("\n".join(_rows(result)))


def _rows(result: LoopbackResult | MatrixResult | DialogueResult) -> Iterator[str]:
    if isinstance(result, DialogueResult):
        for number, step in enumerate(result.steps, 1):
            if step.outcome == "fail":
                yield f"step {number}, {step.name}: {step.why}"
                yield from (f"  {row}" for row in step.detail().splitlines())
        if result.interrupted:
            yield "the dialogue was interrupted"
        return
    runs = result.runs if isinstance(result, MatrixResult) else (result,)
    for run in runs:
        if run.verdict == "fail":
            yield f"loopback, {name_of(run)}: {'; '.join(run.failures)}"
            yield from (f"  {row}" for row in summary_of(run))


def check_same(received: bytes, expected: bytes) -> None:
    """Check that what was received is what was expected.

    Parameters
    ----------
    received, expected : bytes
        Both.

    Raises
    ------
    AssertionError
        If it is not; the message counts what was lost, changed, extra and doubled, and shows the place.
    """
    __tracebackhide__ = True
    if received != expected:
        raise AssertionError("\n".join(difference(received, expected)))


def difference(received: bytes, expected: bytes) -> list[str]:
    """Say how what was received differs from what was expected, as rows of text."""
    found: Alignment = align(expected, received)
    counts = {"lost": found.lost, "changed": found.changed, "extra": found.extra, "of them doubled": found.doubled}
    differences = ", ".join(f"{count:,} {what}" for what, count in counts.items() if count)
    rows = [f"received {len(received):,} of {len(expected):,} bytes: {differences}"]
    if found.first is None:
        return rows
    place = found.first[0]
    rows.append(f"first difference at {place:,}:")
    for name, data in (("expected", expected), ("received", received)):
        begin = max(place // ROW - AROUND, 0) * ROW
        for at in range(begin, min(begin + (2 * AROUND + 1) * ROW, len(data)), ROW):
            part = data[at : at + ROW]
            mark = ">" if at <= place < at + ROW else " "
            rows.append(f"  {name:<8}{mark}{at:>7}  {part.hex(' ').upper():<47}  {visible(part)}")
    return rows
