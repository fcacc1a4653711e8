"""What became of each character that ran through a receive path, in a file."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

import numpy as np

from larkreader.capture.files.csv_text import Choice, write_csv
from larkreader.judge.setup.path_report import PathReport
from larkreader.simulate.replayed import Fate

FATE_COLUMNS = ("begin_s", "arrived_s", "fetched_s", "stored_s", "taken_s", "lost_s", "value")


def write_fates(path: Path, paths: Mapping[str, PathReport]) -> None:
    """Write as CSV what became of each character that ran through a receive path.

    Parameters
    ----------
    path : pathlib.Path
        The file.
    paths : mapping of str to PathReport
        By wire.

    Raises
    ------
    OSError
        If the file cannot be written.
    """
    names = [fate.name.lower().replace("_", "-") for fate in Fate]
    parts = []
    for wire, report in paths.items():
        result = report.replay
        own = Choice(np.zeros(len(result), np.int64), [wire])
        fate = Choice(result.fate.astype(np.int64), names)
        parts.append([own, np.arange(len(result)), *(result.column(name) for name in FATE_COLUMNS), fate])
    write_csv(path, ["wire", "number", *FATE_COLUMNS, "fate"], parts)
