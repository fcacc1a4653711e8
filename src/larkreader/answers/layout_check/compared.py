"""What a comparison of a layout with a struct found."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass
from typing import Any, Literal

from larkreader.declare.frame.shape import Packing

DifferenceKind = Literal["order", "place", "width", "number", "spacing", "kind", "sign", "byte order", "names"]
Outcome = Literal["same", "differs", "not shown", "only in sheet", "only in C"]
Verdict = Literal["same", "partly shown", "differs"]


@dataclass(frozen=True)
class Difference:
    """One thing in which a field differs from its member.

    Parameters
    ----------
    kind : {"order", "place", "width", "number", "spacing", "kind", "sign", "byte order", "names"}
        What differs.
    in_sheet, in_c : int or str
        What both have: of a place the first bit, of a width bits.
    follows : bool
        Whether it follows from a difference before, as places do behind a field of another width.
    """

    kind: DifferenceKind
    in_sheet: int | str
    in_c: int | str
    follows: bool = False


@dataclass(frozen=True)
class ComparedField:
    """A field of a layout beside its member in a struct.

    Parameters
    ----------
    field : str
        What the sheet calls it; empty where only C has it.
    member : str
        What C calls it; empty where only the sheet has it.
    outcome : {"same", "differs", "not shown", "only in sheet", "only in C"}
        The result.
    in_sheet, in_c : str
        Its type in both.
    sheet_bits, c_bits : tuple of int or None
        Its first bit in a frame, and the bit behind its last.
    packing, c_packing : {"lsb", "msb"}
        In which order the bits of a byte are counted there.
    differences : tuple of Difference
        How both differ.
    unseen : tuple of str
        What may differ, and is not in a header.
    line : int
        Of the header.
    """

    field: str
    member: str
    outcome: Outcome
    in_sheet: str = ""
    in_c: str = ""
    sheet_bits: tuple[int, int] | None = None
    c_bits: tuple[int, int] | None = None
    packing: Packing = "lsb"
    c_packing: Packing = "lsb"
    differences: tuple[Difference, ...] = ()
    unseen: tuple[str, ...] = ()
    line: int = 0

    @property
    def is_padding(self) -> bool:
        """Whether it is what a compiler puts between members."""
        return not self.field and not self.member and self.in_c.startswith("padding")

    @property
    def follows(self) -> bool:
        """Whether all in which it differs follows from a difference before."""
        return bool(self.differences) and all(item.follows for item in self.differences)


@dataclass(frozen=True)
class LayoutComparison:
    """What a comparison found.

    Parameters
    ----------
    layout : str
        The layout.
    struct : str
        The struct, as it was asked for.
    header : str
        The file.
    target : str
        Whose compiler lays the struct out.
    begins_at : int
        At which byte of a frame the struct begins.
    sheet_length : int
        Bytes of the compared part of a frame, with a single item of what varies.
    c_length : int
        Bytes of the struct.
    is_fixed : bool
        Whether all frames have that length.
    rows : tuple of ComparedField
        The fields in order, with what only C has between them.
    left_out : tuple of str
        Fields outside of the compared part.
    notes : tuple of str
        What is worth knowing of the header.
    """

    layout: str
    struct: str
    header: str
    target: str
    begins_at: int
    sheet_length: int
    c_length: int
    is_fixed: bool
    rows: tuple[ComparedField, ...]
    left_out: tuple[str, ...]
    notes: tuple[str, ...] = ()

    @property
    def lengths_differ(self) -> bool:
        """Whether the struct is longer or shorter than the part of a frame that it is compared with."""
        return self.is_fixed and self.sheet_length != self.c_length

    @property
    def verdict(self) -> Verdict:
        """``same``, ``differs``, or ``partly shown`` where nothing differs and a header cannot show everything."""
        outcomes = {row.outcome for row in self.rows}
        if outcomes - {"same", "not shown"} or self.lengths_differ:
            return "differs"
        return "partly shown" if "not shown" in outcomes else "same"

    @property
    def causes(self) -> tuple[ComparedField, ...]:
        """The fields that differ, without those that only a difference before has moved."""
        return tuple(row for row in self.rows if row.outcome not in ("same", "not shown") and not row.follows)

    def to_dict(self) -> dict[str, Any]:
        """Return it as JSON has it."""
        document = asdict(self)
        for row in document["rows"]:
            row.update({key: row[key] and list(row[key]) for key in ("sheet_bits", "c_bits")})
            row.update(differences=list(row["differences"]), unseen=list(row["unseen"]))
        document.update(rows=list(document["rows"]), left_out=list(self.left_out), notes=list(self.notes))
        return {"verdict": self.verdict, "lengths_differ": self.lengths_differ, **document}


def worst_verdict(results: Sequence[LayoutComparison]) -> Verdict:
    """Return the verdict of several comparisons: that of the worst.

    Parameters
    ----------
    results : sequence of LayoutComparison
        At least one.
    """
    order: tuple[Verdict, ...] = ("same", "partly shown", "differs")
    return max((result.verdict for result in results), key=order.index)
