"""The runs of a loopback in a file: one row a run."""

from __future__ import annotations

import csv
import io
from pathlib import Path

from larkreader.exercise.loopback.matrix import MatrixResult
from larkreader.sources import write_whole

RUN_COLUMNS = (
    *("on", "line", "pattern", "block", "pause_s"),
    *("sent", "received", "lost", "changed", "extra", "doubled"),
    *("bits_compared", "bits_wrong", "error_ratio_low", "error_ratio_high"),
    *("duration_s", "characters_per_second", "line_share"),
    *("latency_shortest_s", "latency_median_s", "latency_most_s", "latency_longest_s"),
    *("verdict", "failures"),
)


def write_runs(path: Path, result: MatrixResult) -> None:
    """Write the result of each run as CSV.

    Parameters
    ----------
    path : pathlib.Path
        The file.
    result : MatrixResult
        The runs.

    Raises
    ------
    OSError
        If the file cannot be written.
    """
    text = io.StringIO(newline="")
    writer = csv.writer(text, lineterminator="\n")
    writer.writerow(RUN_COLUMNS)
    for run in result.runs:
        plan, latency = run.plan, run.latency_s
        low, high = run.error_interval
        writer.writerow(
            [
                *(run.name, run.line or "", plan.pattern, plan.block or "", plan.pause_s),
                *(run.sent, run.received, run.lost, run.changed, run.extra, run.doubled),
                *(run.compared, int(run.bit_errors.sum()), f"{low:.6g}", f"{high:.6g}"),
                *(f"{run.duration_s:.9g}", f"{run.characters_per_second:.6g}"),
                "" if run.line_share is None else f"{run.line_share:.6g}",
                *(("",) * 4 if latency is None else (f"{part:.9g}" for part in latency)),
                *(run.verdict, "; ".join(run.failures)),
            ]
        )
    write_whole(path, text.getvalue())
