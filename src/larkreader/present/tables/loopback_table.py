"""The runs of a loopback in a file: one row a run."""

from __future__ import annotations

import csv
from pathlib import Path

from larkreader.exercise.loopback.matrix import MatrixResult

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
    with path.open("w", encoding="utf-8", newline="") as file:
        writer = csv.writer(file, lineterminator="\n")
        writer.writerow(RUN_COLUMNS)
        for one in result.runs:
            plan, latency = one.plan, one.latency_s
            low, high = one.error_interval
            writer.writerow(
                [
                    *(one.name, one.line or "", plan.pattern, plan.block or "", plan.pause_s),
                    *(one.sent, one.received, one.lost, one.changed, one.extra, one.doubled),
                    *(one.compared, int(one.bit_errors.sum()), f"{low:.6g}", f"{high:.6g}"),
                    *(f"{one.duration_s:.9g}", f"{one.characters_per_second:.6g}"),
                    "" if one.line_share is None else f"{one.line_share:.6g}",
                    *(("",) * 4 if latency is None else (f"{part:.9g}" for part in latency)),
                    *(one.verdict, "; ".join(one.failures)),
                ]
            )
