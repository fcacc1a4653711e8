"""Registers: where their fields lie, and what the fields mean for the settings of a line."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from typing import Annotated, Any

from pydantic import (
    BaseModel,
    BeforeValidator,
    Field,
    StrictBool,
    StrictFloat,
    StrictInt,
    WithJsonSchema,
    model_validator,
)
from pydantic_core import PydanticCustomError

from larkreader.declare.common.given import Input, Table, default
from larkreader.declare.common.mistakes import raise_mistakes, show
from larkreader.declare.common.several import Names
from larkreader.errors import Mistake

_SPAN = re.compile(r"(\d{1,2})(?::(\d{1,2}))?")
ANY = "*"


def _as_spans(declared: Any) -> Any:
    """Read bit positions, as in 9, "7:4" or ["28", "12"], the most significant part first."""
    parts = declared if isinstance(declared, (list, tuple)) else [declared]
    spans = []
    for part in parts:
        match = _SPAN.fullmatch(str(part).strip()) if not isinstance(part, bool) else None
        high, low = (int(match[1]), int(match[2] or match[1])) if match else (0, 1)
        if low > high or high > 63:
            raise PydanticCustomError("wanted", 'must be bits, as in 9, "7:4" or ["28", "13:12"].')
        spans.append(f"{high}:{low}" if high > low else f"{high}")
    return tuple(spans)


_BITS_SCHEMA = {"anyOf": [{"type": ["string", "integer"]}, {"type": "array", "items": {"type": ["string", "integer"]}}]}
Bits = Annotated[tuple[str, ...], BeforeValidator(_as_spans), Field(min_length=1), WithJsonSchema(_BITS_SCHEMA)]


def spans_of(bits: tuple[str, ...]) -> list[tuple[int, int]]:
    """Return the highest and the lowest bit of each part of a field."""
    return [(int(part.partition(":")[0]), int(part.rpartition(":")[2])) for part in bits]


class Register(BaseModel, frozen=True, extra="forbid", allow_inf_nan=False):
    """A register of an end.

    Parameters
    ----------
    key : str
        Its name on the sheet.
    end : str, optional
        Whose it is; every end's by default.
    bits : int
        Its width.
    reset : int, optional
        What it holds after reset.
    fields : mapping of str to tuple of str
        Where each field lies, as in ``9``, ``"7:4"`` or, where it is split, ``["28", "13:12"]``, the most significant
        part first.
    svd : str, optional
        A CMSIS-SVD file that has the register; its fields are taken from there where `fields` has none of that name.
    named : str
        What it is called there, with its peripheral, as in ``"UART0.CTRL"``.
    mapped : mapping of str to tuple of str
        Where the fields lie by that file.
    note : str
        Anything worth telling the reader.
    """

    key: str = "register"
    end: str | None = None
    bits: StrictInt = Field(default=32, ge=1, le=64)
    reset: StrictInt | None = Field(default=None, ge=0)
    fields: Input[Mapping[str, Bits], Mapping[str, int | str | Sequence[int | str]]] = default({})
    svd: str | None = None
    named: str = ""
    mapped: Input[Mapping[str, Bits], Mapping[str, int | str | Sequence[int | str]]] = default({})
    note: str = ""

    @model_validator(mode="after")
    def _fits(self) -> Register:
        mistakes = []
        for table in ("fields", "mapped"):
            for name, bits in getattr(self, table).items():
                spans = spans_of(bits)
                if max(high for high, _ in spans) >= self.bits:
                    mistakes.append(Mistake(f"{table}.{name}", f"{list(bits)}", f"must lie within {self.bits} bits"))
                every = [bit for high, low in spans for bit in range(low, high + 1)]
                if len(every) != len(set(every)):
                    mistakes.append(Mistake(f"{table}.{name}", f"{list(bits)}", "has a bit twice"))
        if self.reset is not None and self.reset >= 1 << self.bits:
            mistakes.append(Mistake("reset", f"{self.reset}", f"must fit into {self.bits} bits"))
        raise_mistakes(mistakes)
        return self

    @property
    def field(self) -> Mapping[str, tuple[str, ...]]:
        """Where each field lies, as the sheet says, or as the file does."""
        return {**self.mapped, **self.fields}

    def read(self, name: str, word: int) -> int:
        """Return the value of a field of a word.

        Parameters
        ----------
        name : str
            The field.
        word : int
            What the register holds.
        """
        value = 0
        for high, low in spans_of(self.field[name]):
            width = high - low + 1
            value = value << width | word >> low & (1 << width) - 1
        return value


class Meaning(BaseModel, frozen=True, extra="forbid", allow_inf_nan=False):
    """What fields of registers say of one setting.

    Parameters
    ----------
    of : str or tuple of str
        Which fields, each as its register and its name, as in ``"CTRL.parity"``.
    values : mapping of str to str, int, float or bool
        What their values mean: for several fields with blanks between them, ``*`` for any, the first that fits.
    parity_counted : bool
        Of data bits, whether they include the parity bit.
    """

    of: Input[Names, str | Sequence[str]] = Field(min_length=1)
    values: Mapping[str, StrictBool | StrictInt | StrictFloat | str] = Field(min_length=1)
    parity_counted: bool = False

    @model_validator(mode="after")
    def _values_are_of_the_fields(self) -> Meaning:
        wrong = [
            Mistake(
                f"values.{key}", "", f"must be {len(self.of)} number{'s' * (len(self.of) > 1)} or *, one for each field"
            )
            for key in self.values
            if len(key.split()) != len(self.of) or any(_number(part) is None for part in key.split() if part != ANY)
        ]
        raise_mistakes(wrong)
        return self

    def of_values(self, values: tuple[int, ...]) -> str | float | bool | None:
        """Return what some values mean; None where that is not declared.

        Parameters
        ----------
        values : tuple of int
            The values of the fields, in the order of `of`.
        """
        for key, meaning in self.values.items():
            if all(part == ANY or _number(part) == value for part, value in zip(key.split(), values, strict=True)):
                return meaning
        return None


SETTINGS: Mapping[str, tuple[str | float | bool, ...]] = {
    "data_bits": (5, 6, 7, 8, 9),
    "parity": ("N", "E", "O", "M", "S"),
    "stop_bits": (1, 1.5, 2),
    "idle": ("high", "low"),
    "first_bit": ("lsb", "msb"),
    "ninth_bit": ("data", "address-mark"),
    "flow_control": ("none", "xon-xoff", "rts-cts"),
    "sends": (True, False),
    "receives": (True, False),
}


class Meanings(BaseModel, frozen=True, extra="forbid", allow_inf_nan=False):
    """What the registers of an end mean for the settings of its line.

    Parameters
    ----------
    key : str
        The end.
    data_bits : Meaning, optional
        5 to 9.
    parity : Meaning, optional
        ``"N"``, ``"E"``, ``"O"``, ``"M"`` or ``"S"``.
    stop_bits : Meaning, optional
        1, 1.5 or 2.
    idle, first_bit, ninth_bit, flow_control : Meaning, optional
        As in ``[line]``.
    sends, receives : Meaning, optional
        Whether the transmitter and the receiver are enabled: true or false.
    """

    key: str = "end"
    data_bits: Input[Meaning | None, Meaning | Table | None] = default(None)
    parity: Input[Meaning | None, Meaning | Table | None] = default(None)
    stop_bits: Input[Meaning | None, Meaning | Table | None] = default(None)
    idle: Input[Meaning | None, Meaning | Table | None] = default(None)
    first_bit: Input[Meaning | None, Meaning | Table | None] = default(None)
    ninth_bit: Input[Meaning | None, Meaning | Table | None] = default(None)
    flow_control: Input[Meaning | None, Meaning | Table | None] = default(None)
    sends: Input[Meaning | None, Meaning | Table | None] = default(None)
    receives: Input[Meaning | None, Meaning | Table | None] = default(None)

    @model_validator(mode="after")
    def _values_are_settings(self) -> Meanings:
        raise_mistakes(
            [
                Mistake(f"{setting}.values.{key}", show(value), f"must be {', '.join(map(show, SETTINGS[setting]))}")
                for setting, meaning in self.declared.items()
                for key, value in meaning.values.items()
                if not any(
                    value == item and isinstance(value, bool) == isinstance(item, bool) for item in SETTINGS[setting]
                )
            ]
        )
        return self

    @property
    def declared(self) -> dict[str, Meaning]:
        """The settings of which something is declared."""
        every = {name: getattr(self, name) for name in type(self).model_fields if name != "key"}
        return {name: meaning for name, meaning in every.items() if meaning is not None}


def _number(text: str) -> int | None:
    try:
        return int(text, 0)
    except ValueError:
        return None
