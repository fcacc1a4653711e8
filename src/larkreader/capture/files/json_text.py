"""JSON of others: whatever is wrong with it is a `ValueError`."""

from __future__ import annotations

import json
from typing import Any


def parse_json(text: str | bytes) -> Any:
    """Return what a JSON text holds.

    Parameters
    ----------
    text : str or bytes
        The text.

    Raises
    ------
    ValueError
        If it is not JSON, is nested too deeply, or has a number of more digits than Python reads.
    """
    try:
        return json.loads(text)
    except RecursionError:
        raise ValueError("is nested too deeply") from None
