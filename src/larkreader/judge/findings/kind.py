"""What a kind of finding is."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from .wording import Template, names_in

Severity = Literal["error", "warning", "note"]


@dataclass(frozen=True)
class Kind:
    """One kind of finding: how bad it is, what it is called, what it means, and what to do about it.

    Parameters
    ----------
    severity : {"error", "warning", "note"}
    singular, plural : str
        What one place is called, and several.
    meaning, advice : str or tuple of str
        What it means and what to do about it, as templates (see `wording`).
    detail : str or tuple of str
        What the evidence of these places shows; stands before the meaning.
    among : str
        What the places are a part of, where the evidence has a ``total``; ``{frame}`` is the layout.
    also : tuple of str
        Names of evidence that no template uses.
    """

    severity: Severity
    singular: str
    plural: str
    meaning: Template
    advice: Template
    detail: Template = ()
    among: str = "characters"
    also: tuple[str, ...] = ()

    @property
    def evidence(self) -> tuple[str, ...]:
        """The names that its evidence may have."""
        used = (name for template in (self.detail, self.meaning, self.advice) for name in names_in(template))
        return tuple(dict.fromkeys((*used, *self.also, "total")))
