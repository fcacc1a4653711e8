"""Where a field lies in a frame, and what its bits can hold."""

from __future__ import annotations

from dataclasses import dataclass

from .field_kinds import Coding, FieldOrder, Kind
from .fields import NamedField


@dataclass(frozen=True)
class Slot:
    """Where the bits of one field lie in a frame.

    `first_bit` counts in the order of the layout's packing: from bit 0 of byte 0 with lsb packing, from bit 7 of
    byte 0 with msb packing. `bits` is the width of one item, `count` the number of items. `order` is set where
    whole, aligned bytes are stored in another order than the packing's own. The items of a group's member lie `inner`
    together, and such bunches lie `stride` bits apart, of which there are `groups`.
    """

    name: str
    kind: Kind
    first_bit: int
    bits: int
    count: int = 1
    order: FieldOrder | None = None
    field: NamedField | None = None
    value: int = 0
    stride: int = 0
    inner: int = 1
    groups: int = 1

    @property
    def end_bit(self) -> int:
        """The bit behind the last bit."""
        return self.bit_of(self.count - 1) + self.bits if self.count else self.first_bit

    def bit_of(self, item: int) -> int:
        """Return the first bit of one item."""
        if not self.stride:
            return self.first_bit + item * self.bits
        return self.first_bit + item // self.inner * self.stride + item % self.inner * self.bits

    @property
    def cycle(self) -> int:
        """After how many frames a counter holds the same again."""
        wraps = None if self.field is None else self.field.wraps
        return wraps or 1 << self.bits

    @property
    def coding(self) -> Coding:
        """How an integer holds negative numbers."""
        return "twos-complement" if self.field is None else self.field.coding
