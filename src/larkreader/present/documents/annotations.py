"""Findings as build servers show them beside a change: GitHub's workflow commands, GitLab's code quality report."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import Any, Literal

from larkreader.judge.findings.finding import Finding

Severity = Literal["error", "warning", "note"]
LEVELS: dict[Severity, str] = {"error": "error", "warning": "warning", "note": "notice"}  # of GitHub
GRAVITIES: dict[Severity, str] = {"error": "major", "warning": "minor", "note": "info"}  # of GitLab
TABLES = {"wire": "wire", "frame": "frame", "pair": "pair", "path": "receive", "end": "end", "register": "register"}


@dataclass(frozen=True)
class Remark:
    """What a build server shows of one thing that is wrong or worth knowing.

    Parameters
    ----------
    severity : {"error", "warning", "note"}
    title : str
        What it is, and about what.
    text : str
        What was seen, what it means and what to do.
    table : str
        The table of the sheet that declares what it is about, as in ``wire.from_pump``; empty for none.
    """

    severity: Severity
    title: str
    text: str
    table: str = ""

    @classmethod
    def of(cls, finding: Finding) -> Remark:
        """Return the remark of a finding."""
        subject = finding.subject
        name = TABLES.get(subject.kind, "")
        text = f"{finding.text} {finding.advice}".strip()
        table = f"{name}.{subject.name}" if name else ""
        return cls(finding.severity, f"{finding.kind} on {finding.subject}", text, table)


def github_lines(remarks: Iterable[Remark], file: str, sheet_text: str) -> Iterator[str]:
    """Yield a workflow command for each remark.

    Parameters
    ----------
    remarks : iterable of Remark
    file : str
        The sheet, or the capture where there is none, as the repository names it.
    sheet_text : str
        What the sheet holds; empty for none.
    """
    for remark in remarks:
        line = line_of(sheet_text, remark.table)
        where = {"file": file, **({"line": str(line)} if line else {}), "title": remark.title}
        properties = ",".join(f"{name}={_escaped(value, ':,')}" for name, value in where.items())
        yield f"::{LEVELS[remark.severity]} {properties}::{_escaped(remark.text)}"


def gitlab_report(remarks: Iterable[Remark], file: str, sheet_text: str) -> list[dict[str, Any]]:
    """Return a code quality report; arguments as of `github_lines`.

    Two remarks of one title at one place have one fingerprint only if their texts are the same, numbers apart.
    """
    return [
        {
            "description": f"{remark.title}: {remark.text}",
            "check_name": remark.title.partition(" ")[0],
            "fingerprint": hashlib.sha256(
                "\n".join((file, remark.title, re.sub(r"\d+", "#", remark.text))).encode()
            ).hexdigest(),
            "severity": GRAVITIES[remark.severity],
            "location": {"path": file, "lines": {"begin": line_of(sheet_text, remark.table) or 1}},
        }
        for remark in remarks
    ]


def line_of(sheet_text: str, table: str) -> int | None:
    """Return the line of a sheet, from 1, on which a table begins; None if it has none of its own."""
    if not table:
        return None
    name, _, key = table.partition(".")
    quoted = rf"(?:{re.escape(key)}|\"{re.escape(key)}\"|'{re.escape(key)}')"
    found = re.search(rf"^[ \t]*\[+[ \t]*{name}[ \t]*\.[ \t]*{quoted}[ \t]*(?:\]|\.)", sheet_text, re.MULTILINE)
    return sheet_text.count("\n", 0, found.start()) + 1 if found else None


def _escaped(text: str, more: str = "") -> str:
    """Return a text as the workflow commands have it: what would end it is written by its number."""
    for letter in "%\r\n" + more:
        text = text.replace(letter, f"%{ord(letter):02X}")
    return text
