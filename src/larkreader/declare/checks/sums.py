"""Checksums that are sums: of bytes, with or without the carry added again, by exclusive or, and weighted sums."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal

Complement = Literal["none", "ones", "twos"]


@dataclass(frozen=True)
class SumAlgorithm:
    """A sum over bytes or over words of two.

    Parameters
    ----------
    width : {8, 16, 32}
        Bits of the result.
    item : {1, 2}
        Bytes of what is added, the higher first; a short last unit is filled up with zeros.
    combine : {"add", "carry", "xor", "weigh"}
        Added modulo 2^width; with the carry added again (ones' complement arithmetic, RFC 1071); combined by exclusive
        or; or added up twice, where the second sum is of all values of the first.
    complement : {"none", "ones", "twos"}
        Of the result: as it is, all bits turned over, or negated.
    little : bool
        Whether an item of two bytes has its lower one first.
    start : int
        The first sum at the start, where there are two.
    modulus : int
        Of both sums, where there are two.
    """

    width: int
    item: int = 1
    combine: Literal["add", "carry", "xor", "weigh"] = "add"
    complement: Complement = "none"
    little: bool = False
    start: int = 0
    modulus: int = 0

    def of(self, data: bytes) -> int:
        """Return the checksum of `data`.

        Parameters
        ----------
        data : bytes
            What the checksum covers.
        """
        data = bytes(data) + bytes(-len(data) % self.item)
        order: Literal["little", "big"] = "little" if self.little else "big"
        first, second, top = self.start, 0, (1 << self.width) - 1
        for place in range(0, len(data), self.item):
            value = int.from_bytes(data[place : place + self.item], order)
            if self.combine == "xor":
                first ^= value
            elif self.combine == "weigh":
                first = (first + value) % self.modulus
                second = (second + first) % self.modulus
            else:
                first += value
        return self.finished(first, second) & top

    def finished(self, first: int, second: int) -> int:
        """Turn whole sums into the result.

        Parameters
        ----------
        first : int
            The sum of the words.
        second : int
            The sum of the running sums.
        """
        top = (1 << self.width) - 1
        if self.combine == "weigh":
            return second << self.width // 2 | first
        if self.combine == "carry" and first:
            first = (first - 1) % top + 1  # the carry added again leaves all bits 1 rather than nothing
        complement = {"none": first, "ones": ~first, "twos": -first}
        return complement[self.complement] & top


# ISO 1155 for the exclusive or, RFC 1071 for ones' complement words, Fletcher 1982, RFC 1950 for Adler's.
SUMS: Mapping[str, SumAlgorithm] = {
    **{f"sum-{width}": SumAlgorithm(width) for width in (8, 16, 32)},
    **{f"sum-{width}-twos": SumAlgorithm(width, complement="twos") for width in (8, 16, 32)},
    **{f"sum-{width}-ones": SumAlgorithm(width, complement="ones") for width in (8, 16, 32)},
    **{f"carry-sum-{width}": SumAlgorithm(width, combine="carry") for width in (8, 16)},
    **{f"carry-sum-{width}-ones": SumAlgorithm(width, combine="carry", complement="ones") for width in (8, 16)},
    "carry-sum-16-words-ones": SumAlgorithm(16, 2, "carry", "ones"),
    "sum-16-words": SumAlgorithm(16, 2),
    "xor-8": SumAlgorithm(8, combine="xor"),
    "xor-8-ones": SumAlgorithm(8, combine="xor", complement="ones"),
    "xor-16-words": SumAlgorithm(16, 2, "xor"),
    "fletcher-16": SumAlgorithm(16, 1, "weigh", modulus=255),
    "fletcher-32": SumAlgorithm(32, 2, "weigh", little=True, modulus=65535),
    "adler-32": SumAlgorithm(32, 1, "weigh", start=1, modulus=65521),
}
