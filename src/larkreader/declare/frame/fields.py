"""Field types, with what may be declared of each.

A field is one named value in a frame. Its type is a word with its width in bits: ``uint12``, ``int16``,
``float32``, ``flag`` (one bit), ``checksum`` (as wide as the layout's algorithm). Bits that must have a fixed
value are declared with ``reserved``.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
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

from larkreader.declare.common.given import Input, Table, default

from .field_kinds import (
    NUMBERS,
    TYPE_WANTED,
    WHOLE,
    WIDTHLESS,
    Coding,
    Encoding,
    FieldOrder,
    Kind,
    is_type,
    raw_limits,
)
from .field_parts import Repeat, Samples, Substitutes, When


class NamedField(BaseModel, frozen=True, extra="forbid"):
    """One named value in a frame.

    Parameters
    ----------
    name : str
        Name of the column that it becomes.
    type : str
        ``uint1`` to ``uint64``, ``int2`` to ``int64``, ``bcd4`` to ``bcd64``, ``float16``, ``float32``, ``float64``,
        ``bytes``, ``text``, ``flag`` or ``checksum``; in a text pattern ``decimal``, ``integer``, ``hex``, ``word``,
        ``text`` or ``checksum``.
    order : {"little", "big", "big-low-word-first", "little-high-word-first"}, optional
        Byte order of a field of whole, aligned bytes; of 32 and 64 bits also words of 16 bits in one order with their
        bytes in the other. Little with lsb packing, big with msb by default.
    coding : {"twos-complement", "sign-magnitude", "offset-binary"}
        How an ``int`` holds negative numbers.
    scale, offset : float
        The value is ``raw * scale + offset``, in `unit`.
    unit : str
        Unit of the value.
    range : tuple of float, optional
        Lowest and highest value that makes sense, after scaling; both belong to it.
    equals : int, optional
        The only raw value that is right. It distinguishes layouts of a wire.
    names : mapping of str to int
        Names of raw values; any other value is a finding.
    invalid : tuple of int
        Raw values by which the sender says that it has none; the column holds NaN there.
    counter : bool
        Rises by one from frame to frame and wraps at its width.
    wraps : int, optional
        The number at which a counter begins at 0 again, where that is not its width's.
    decimals : int, optional
        With how many decimals a ``decimal`` is written; as many as it has by default.
    repeat : int or str
        How many of them follow each other; more than one makes an array. Of ``bytes`` and ``text``, how many bytes. The
        name of an earlier field that says how many, also with a factor and a difference as in ``"size / 2 - 1"``;
        or ``"rest"`` for as many as there is room for.
    when : mapping of str to int, str or a tuple of them
        Earlier fields with the raw values, or the names, at which alone this field is there.
    encoding : {"ascii", "utf-8", "latin-1"}
        Of a ``text``.
    pad : {"nul", "space"}
        With what a ``text`` that is shorter is filled up; both are left out at its end when it is read.
    substitutes : Substitutes, optional
        At which of its values other fields of the frame hold substitutes.
    samples : Samples, optional
        Of an array: the samples of a converter, with its reference and rate.
    note : str
        Anything worth telling the reader.
    """

    tag: ClassVar[str] = "field"

    name: str
    type: str
    order: FieldOrder | None = None
    coding: Coding = "twos-complement"
    scale: float = Field(default=1.0, allow_inf_nan=False)
    offset: float = Field(default=0.0, allow_inf_nan=False)
    unit: str = ""
    range: Input[tuple[float, float] | None, Sequence[float] | None] = default(None)
    equals: StrictInt | None = None
    names: Mapping[str, StrictInt] = Field(default_factory=dict)
    invalid: Input[tuple[StrictInt, ...], Sequence[int]] = default(())
    counter: StrictBool = False
    wraps: int | None = Field(default=None, ge=2, le=1 << 62)
    decimals: int | None = Field(default=None, ge=0, le=17)
    repeat: Repeat = 1
    when: Input[When, Mapping[str, int | str | Sequence[int | str]]] = default({})
    encoding: Encoding = "ascii"
    pad: Literal["nul", "space"] = "nul"
    substitutes: Input[Substitutes | None, Substitutes | Table | None] = default(None)
    samples: Input[Samples | None, Samples | Table | None] = default(None)
    note: str = ""

    @field_validator("name")
    @classmethod
    def _name_is_a_word(cls, name: str) -> str:
        if not name.isidentifier() or name in ("marker", "faults", "offset"):
            raise PydanticCustomError(
                "wanted",
                'must be a word of letters, digits and "_" that does not begin with a digit, '
                'and none of "marker", "faults" and "offset".',
            )
        return name

    @field_validator("type")
    @classmethod
    def _type_is_known(cls, text: str) -> str:
        if not is_type(text):
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
        """Width in bits of one item; None for a checksum, whose width is its algorithm's."""
        if self.type in WIDTHLESS:
            return WIDTHLESS[self.type]
        return int(self.type.removeprefix(self.kind))

    @property
    def substituting(self) -> int | None:
        """The raw value at which other fields hold substitutes; None if there is none."""
        if self.substitutes is None:
            return None
        when = self.substitutes.when
        return self.names[when] if isinstance(when, str) else when

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
    when : mapping of str to int, str or a tuple of them
        Earlier fields with the raw values, or the names, at which alone they are there.
    """

    tag: ClassVar[str] = "reserved"

    reserved: int = Field(ge=1, le=64)
    value: StrictInt = Field(default=0, ge=0)
    when: Input[When, Mapping[str, int | str | Sequence[int | str]]] = default({})

    @model_validator(mode="after")
    def _value_fits(self) -> ReservedBits:
        if self.value >> self.reserved:
            raise PydanticCustomError("wanted", "has a value that does not fit into its bits.")
        return self


def _tag(entry: Any) -> str:
    known = entry if isinstance(entry, Mapping) else dir(entry)
    return next((tag for tag in ("reserved", "group") if tag in known), "field")


MemberEntry = Annotated[
    Annotated[NamedField, Tag("field")] | Annotated[ReservedBits, Tag("reserved")], Discriminator(_tag)
]


class FieldGroup(BaseModel, frozen=True, extra="forbid"):
    """Fields that follow each other again and again.

    Parameters
    ----------
    group : str
        Its name; the column of a member is ``GROUP.MEMBER``.
    fields : tuple of NamedField or ReservedBits
        What one of them holds, in order.
    repeat : int or str
        How many of them follow each other; see `NamedField`.
    when : mapping of str to int, str or a tuple of them
        Earlier fields with the raw values, or the names, at which alone they are there.
    """

    tag: ClassVar[str] = "group"

    group: str
    fields: Input[tuple[MemberEntry, ...], Sequence[MemberEntry | Table]] = Field(min_length=1)
    repeat: Repeat = 1
    when: Input[When, Mapping[str, int | str | Sequence[int | str]]] = default({})

    @field_validator("group")
    @classmethod
    def _name_is_a_word(cls, name: str) -> str:
        if not name.isidentifier():
            raise PydanticCustomError("wanted", 'must be a word of letters, digits and "_".')
        return name

    @model_validator(mode="after")
    def _members_are_plain(self) -> FieldGroup:
        for member in self.fields:
            if member.when or (isinstance(member, NamedField) and isinstance(member.repeat, str)):
                raise PydanticCustomError("wanted", "has a member whose number varies; only the whole group's may.")
            if isinstance(member, NamedField) and (member.kind == "checksum" or member.counter or member.substitutes):
                raise PydanticCustomError(
                    "wanted", "has a member that is a checksum, a counter or declares substitutes, which no member can."
                )
        return self


FieldEntry = Annotated[
    Annotated[NamedField, Tag("field")]
    | Annotated[ReservedBits, Tag("reserved")]
    | Annotated[FieldGroup, Tag("group")],
    Discriminator(_tag),
]


# What a field can claim that its type, or another claim, does not allow: when that is so, and the message.
_MISFITS: tuple[tuple[Callable[[NamedField], bool], str], ...] = (
    (
        lambda field: field.range is not None and not field.range[0] < field.range[1],
        "has a range whose first limit is not below its second.",
    ),
    (
        lambda field: (
            field.kind in WIDTHLESS
            and field.kind not in NUMBERS
            and bool(field.is_scaled or field.range or field.names)
        ),
        "is a {kind}, which has neither scale nor offset, range or names.",
    ),
    (
        lambda field: field.coding != "twos-complement" and field.kind != "int",
        "has a coding of negative numbers, which only an int has.",
    ),
    (
        lambda field: field.order not in (None, "little", "big") and field.bits not in (32, 64),
        "has an order of words, which needs 32 or 64 bits.",
    ),
    (
        lambda field: bool(field.invalid) and field.kind not in WHOLE,
        "is a {kind}, of which no value means that there is none.",
    ),
    (
        lambda field: field.samples is not None and (field.kind not in ("uint", "int", "integer") or field.repeat == 1),
        "has samples, which an array of uint or int has alone.",
    ),
    (
        lambda field: field.substitutes is not None and (field.kind not in (*WHOLE, "flag") or field.repeat != 1),
        "is of a type that cannot declare substitutes.",
    ),
    (
        lambda field: field.counter and field.kind not in ("uint", "integer", "hex"),
        "is a counter, which must be a uint.",
    ),
    (lambda field: field.wraps is not None and not field.counter, "wraps, but is not a counter."),
    (
        lambda field: field.decimals is not None and field.kind != "decimal",
        "is a {kind}, which has no decimals.",
    ),
    (lambda field: field.counter and field.repeat != 1, "is a counter, which cannot be an array."),
    (
        lambda field: (
            field.kind in ("float", "bytes", "text", "checksum", "word", "decimal")
            and (field.equals is not None or bool(field.names))
        ),
        "is a {kind}, which has neither equals nor names.",
    ),
    (
        lambda field: field.kind == "checksum" and field.repeat != 1,
        "is a checksum, which cannot be an array.",
    ),
    (
        lambda field: bool(field.names) and field.is_scaled,
        "has both names and a scale; names stand for raw values, so a named value has no scale.",
    ),
    (lambda field: field.scale == 0, "has a scale of 0, by which every value would be the same."),
)


def _misfits(field: NamedField) -> Iterator[str]:
    """Yield what the field claims and its type cannot have."""
    for is_so, text in _MISFITS:
        if is_so(field):
            yield text.format(kind=field.kind)
    when = None if field.substitutes is None else field.substitutes.when
    can_say = field.kind in (*WHOLE, "flag") and field.repeat == 1
    if can_say and isinstance(when, str) and when not in field.names:
        yield f'has no name "{when}", at which others are substitutes.'
    if field.bits is not None and field.kind in (*WHOLE, "flag"):
        low, high = raw_limits(field.kind, field.bits, field.coding)
        for name, value in _claimed(field):
            if not low <= value <= high:
                yield f"has {value} for {name}, but a {field.type} holds {low} to {high}."


def _claimed(field: NamedField) -> Iterator[tuple[str, int]]:
    """Yield the raw values that a field claims, with what each is."""
    if field.equals is not None:
        yield "equals", field.equals
    yield from ((f"invalid[{place}]", value) for place, value in enumerate(field.invalid))
    yield from ((f'the name "{name}"', raw) for name, raw in field.names.items())
