"""Field types, with what may be said of each.

A field is one named value in a frame. Its type is a word with its width in bits: ``uint12``, ``int16``,
``float32``, ``flag`` (one bit), ``checksum`` (as wide as the layout's algorithm). Bits that must have a fixed
value are declared with ``reserved``.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Annotated, Any, ClassVar, Literal

from pydantic import (
    BaseModel,
    Discriminator,
    Field,
    StrictBool,
    StrictInt,
    Tag,
    field_validator,
    model_validator,
)
from pydantic_core import PydanticCustomError

ByteOrder = Literal["little", "big"]
Kind = Literal["uint", "int", "float", "flag", "checksum", "reserved"]

TYPE_WANTED = "must be uint1 to uint64, int2 to int64, float16, float32, float64, flag or checksum"
_TYPE = re.compile(r"(uint|int|float)([1-9]\d?)")
_WIDTHS: Mapping[str, range | tuple[int, ...]] = {
    "uint": range(1, 65),
    "int": range(2, 65),
    "float": (16, 32, 64),
}


class NamedField(BaseModel, frozen=True, extra="forbid"):
    """One named value in a frame.

    Parameters
    ----------
    name : str
        Name of the column that it becomes.
    type : str
        ``uint1`` to ``uint64``, ``int2`` to ``int64``, ``float16``, ``float32``, ``float64``, ``flag`` or
        ``checksum``.
    order : {"little", "big"}, optional
        Byte order of a field of whole, aligned bytes. Little with lsb packing, big with msb unless said.
    scale, offset : float
        The value is ``raw * scale + offset``, in `unit`.
    unit : str
        Unit of the value.
    range : tuple of float, optional
        Lowest and highest value that makes sense, after scaling; both belong to it.
    equals : int, optional
        The only raw value that is right. It tells layouts of one wire apart.
    names : mapping of str to int
        Names of raw values; any other value is a finding.
    counter : bool
        Rises by one from frame to frame and wraps at its width.
    repeat : int
        How many of them follow each other; more than one makes an array.
    note : str
        Anything worth telling the reader.
    """

    tag: ClassVar[str] = "field"

    name: str
    type: str
    order: ByteOrder | None = None
    scale: float = 1.0
    offset: float = 0.0
    unit: str = ""
    range: tuple[float, float] | None = None
    equals: StrictInt | None = None
    names: Mapping[str, StrictInt] = Field(default_factory=dict)
    counter: StrictBool = False
    repeat: int = Field(default=1, ge=1, le=65_536)
    note: str = ""

    @field_validator("name")
    @classmethod
    def _name_is_a_word(cls, name: str) -> str:
        if not re.fullmatch(r"[^\W\d]\w*", name) or name in ("marker", "faults", "offset"):
            raise PydanticCustomError(
                "wanted",
                'must be a word of letters, digits and "_" that does not begin with a digit, '
                'and none of "marker", "faults" and "offset".',
            )
        return name

    @field_validator("type")
    @classmethod
    def _type_is_known(cls, text: str) -> str:
        match = _TYPE.fullmatch(text)
        if text not in ("flag", "checksum") and not (match and int(match[2]) in _WIDTHS[match[1]]):
            raise PydanticCustomError("wanted", TYPE_WANTED + ".")
        return text

    @model_validator(mode="after")
    def _claims_fit_the_type(self) -> NamedField:
        for claim in _misfits(self):
            raise PydanticCustomError("wanted", "{claim}", {"claim": claim})
        return self

    @property
    def kind(self) -> Kind:
        """The type without its width."""
        return self.type.rstrip("0123456789")  # type: ignore[return-value]  # the validator let through no other

    @property
    def bits(self) -> int | None:
        """Width in bits; None for a checksum, whose width is its algorithm's."""
        if self.type in ("flag", "checksum"):
            return 1 if self.type == "flag" else None
        return int(self.type.removeprefix(self.kind))

    @property
    def is_scaled(self) -> bool:
        """Whether the value differs from the raw number."""
        return self.scale != 1.0 or self.offset != 0.0


class ReservedBits(BaseModel, frozen=True, extra="forbid"):
    """Bits that carry nothing and must have one value.

    Parameters
    ----------
    reserved : int
        How many bits.
    value : int
        What they must hold.
    """

    tag: ClassVar[str] = "reserved"

    reserved: int = Field(ge=1, le=64)
    value: StrictInt = Field(default=0, ge=0)

    @model_validator(mode="after")
    def _value_fits(self) -> ReservedBits:
        if self.value >> self.reserved:
            raise PydanticCustomError("wanted", "has a value that does not fit into its bits.")
        return self


def _tag(entry: Any) -> str:
    return "reserved" if "reserved" in (entry if isinstance(entry, Mapping) else dir(entry)) else "field"


FieldEntry = Annotated[
    Annotated[NamedField, Tag("field")] | Annotated[ReservedBits, Tag("reserved")], Discriminator(_tag)
]


@dataclass(frozen=True)
class Slot:
    """Where the bits of one field lie in a frame.

    `first_bit` counts in the order of the layout's packing: from bit 0 of byte 0 with lsb packing, from bit 7 of
    byte 0 with msb packing. `bits` is the width of one item, `count` the number of items. `order` is set where
    whole, aligned bytes are stored in another order than the packing's own.
    """

    name: str
    kind: Kind
    first_bit: int
    bits: int
    count: int = 1
    order: ByteOrder | None = None
    field: NamedField | None = None
    value: int = 0

    @property
    def end_bit(self) -> int:
        """The bit behind the last one."""
        return self.first_bit + self.bits * self.count

    @property
    def is_whole_bytes(self) -> bool:
        """Whether it begins and ends at byte limits."""
        return self.first_bit % 8 == 0 and self.bits % 8 == 0


def raw_limits(kind: Kind, bits: int) -> tuple[int, int]:
    """Return the lowest and highest whole number that `bits` bits of an integer field hold."""
    return (-(1 << bits - 1), (1 << bits - 1) - 1) if kind == "int" else (0, (1 << bits) - 1)


def _misfits(field: NamedField) -> Iterator[str]:
    """Yield what the field claims and its type cannot have."""
    kind, bits = field.kind, field.bits
    if field.range is not None and not field.range[0] < field.range[1]:
        yield "has a range whose first limit is not below its second."
    if kind in ("flag", "checksum") and (field.is_scaled or field.range or field.names):
        yield f"is a {kind}, which has neither scale nor offset, range or names."
    if field.counter and kind != "uint":
        yield "is a counter, which must be a uint."
    if field.counter and field.repeat > 1:
        yield "is a counter, which cannot be an array."
    if kind in ("float", "checksum") and (field.equals is not None or field.names):
        yield f"is a {kind}, which has neither equals nor names."
    if kind == "checksum" and field.repeat > 1:
        yield "is a checksum, of which there can only be one."
    if field.names and field.is_scaled:
        yield "has both names and a scale; names stand for raw values, so a named value has no scale."
    if field.scale == 0:
        yield "has a scale of 0, by which every value would be the same."
    if bits is not None and kind in ("uint", "int", "flag"):
        low, high = raw_limits(kind, bits)
        claims = {"equals": field.equals} if field.equals is not None else {}
        for name, value in {
            **claims,
            **{f'the name "{name}"': raw for name, raw in field.names.items()},
        }.items():
            if not low <= value <= high:
                yield f"has {value} for {name}, but a {field.type} holds {low} to {high}."
