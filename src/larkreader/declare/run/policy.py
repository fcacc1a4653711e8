"""Which findings fail a capture on a build server, and which are known and allowed for a while."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import date

from pydantic import BaseModel, Field, model_validator
from pydantic_core import PydanticCustomError

from larkreader.declare.common.given import Input, Table, default
from larkreader.declare.common.several import Names


class KnownFinding(BaseModel, frozen=True, extra="forbid"):
    """A finding that is known, and allowed until a date: ``[[policy.known]]`` on the sheet.

    Parameters
    ----------
    kind : str
        The kind of finding.
    wire : str, optional
        The wire on which it is known; any wire by default.
    labels : mapping of str to str
        Labels of the captures in which it is known; any capture by default.
    until : datetime.date, optional
        The last day on which it is allowed; without an end by default.
    reason : str
        Why it is allowed.
    """

    kind: str = Field(min_length=1)
    wire: str | None = None
    labels: Mapping[str, str] = {}
    until: date | None = None
    reason: str = Field(min_length=1)

    def holds_for(self, kind: str, wire: str, labels: Mapping[str, str]) -> bool:
        """Return whether a finding is meant, whatever the date.

        Parameters
        ----------
        kind, wire : str
            Of the finding.
        labels : mapping of str to str
            Of its capture.
        """
        is_meant = kind == self.kind and self.wire in (None, wire)
        return is_meant and all(labels.get(name) == value for name, value in self.labels.items())


class Policy(BaseModel, frozen=True, extra="forbid"):
    """Which findings fail a capture: ``[policy]`` on the sheet.

    Parameters
    ----------
    fail : tuple of str
        Kinds of findings, and severities, which mean those above them too.
    most : mapping of str to int
        How many of a kind a capture may have without failing.
    known : tuple of KnownFinding
        Findings that are known and allowed.
    """

    fail: Input[Names, str | Sequence[str]] = default(("error",))
    most: Mapping[str, int] = {}
    known: Input[tuple[KnownFinding, ...], Sequence[KnownFinding | Table]] = default(())

    @model_validator(mode="after")
    def _makes_sense(self) -> Policy:
        wrong = ""
        if not self.fail:
            wrong = 'must name what fails; ["error"] is the default.'
        elif below := [kind for kind, count in self.most.items() if count < 1]:
            wrong = f"has most.{below[0]} below 1; what is not named is not allowed at all."
        if wrong:
            raise PydanticCustomError("wanted", "{wrong}", {"wrong": wrong})
        return self
