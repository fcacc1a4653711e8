"""Masked columns, asked for without loading `numpy.ma`, which takes as long as a third of NumPy itself."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING, Any, TypeGuard

if TYPE_CHECKING:
    import numpy as np


def is_masked(column: object) -> TypeGuard[np.ma.MaskedArray[Any, Any]]:
    """Return whether a column is a masked array; none is while `numpy.ma` is not loaded."""
    loaded = sys.modules.get("numpy.ma")
    return loaded is not None and isinstance(column, loaded.MaskedArray)
