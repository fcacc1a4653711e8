"""Results as data frames that several layouts or wires share."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    import pandas as pd

    from larkreader.judge.reading import Reading


def frames_table(reading: Reading) -> pd.DataFrame:
    """Return the frames of all layouts in order of time, a column a field; empty where a layout has no such field."""
    import pandas as pd

    parts = []
    for key, frames in reading.frames.items():
        table = frames.to_pandas()
        faults = table.pop("faults")
        table.insert(0, "wire", frames.layout.wire)
        table.insert(1, "frame", key)
        table.insert(4, "faults", faults)
        for name in table.columns[table.dtypes.isin([np.dtype("f4"), np.dtype("f2")])]:
            table[name] = table[name].astype(str).astype(float)  # as few digits as tell the value apart
        parts.append(table.astype(object))
    if not parts:
        return pd.DataFrame(columns=["wire", "frame", "offset", "begin_s", "faults"])
    return pd.concat(parts, ignore_index=True).sort_values(["begin_s", "offset"], kind="stable", ignore_index=True)
