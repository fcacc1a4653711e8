"""What a kind of finding is."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

Severity = Literal["error", "warning", "note"]


@dataclass(frozen=True)
class Kind:
    """One kind of finding: how bad it is, what it is called, what it means, and what to do about it."""

    severity: Severity
    one: str
    many: str
    meaning: str
    advice: str
