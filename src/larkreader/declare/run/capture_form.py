"""What the file of a capture does not say of itself: sample rate, packing, thresholds, the bits of status words."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Literal

from pydantic import AliasChoices, BaseModel, Field, PrivateAttr, model_validator
from pydantic_core import PydanticCustomError

from larkreader.declare.common.given import Input, Table, default
from larkreader.declare.link.line import LineSettings
from larkreader.errors import RequestError

CaptureKind = Literal[
    "vcd",
    "levels",
    "voltages",
    "samples",
    "characters",
    "recording",
    "log",
    "bytes",
    "hex",
    "words",
    "marked",
]
KEYS_OF_KIND: dict[CaptureKind, tuple[str, ...]] = {
    "samples": ("rate", "bits", "packing", "order"),
    "levels": ("rate",),
    "voltages": ("rate", "thresholds", "volts_per_count", "volts_at_zero"),
    "words": ("word",),
    "marked": ("mark",),
}
"""The keys of a form that apply to captures of each kind; to others none do."""


class StatusWord(BaseModel, frozen=True, extra="forbid"):
    """A word in which an interrupt handler stored a character with its flags.

    Parameters
    ----------
    bits : {16, 32}
        Width of a word.
    order : {"little", "big"}
        Order of its bytes.
    data : tuple of int and int
        Lowest bit of the data, and how many there are.
    parity, framing, break_, noise, overrun : int, optional
        The bit that says so; left out where the hardware has none.
    valid : int, optional
        The bit that says that there is a character at all; words without it are left out.
    """

    bits: Literal[16, 32] = 16
    order: Literal["little", "big"] = "little"
    data: Input[tuple[int, int], Sequence[int]] = default((0, 8))
    parity: int | None = Field(default=None, ge=0)
    framing: int | None = Field(default=None, ge=0)
    break_: int | None = Field(
        default=None, ge=0, validation_alias=AliasChoices("break", "break_"), serialization_alias="break"
    )
    noise: int | None = Field(default=None, ge=0)
    overrun: int | None = Field(default=None, ge=0)
    valid: int | None = Field(default=None, ge=0)

    @property
    def flags(self) -> dict[str, int]:
        """The bits of the faults, by the faults' names."""
        named = {
            "parity": self.parity,
            "framing": self.framing,
            "break": self.break_,
            "noise": self.noise,
            "overrun": self.overrun,
        }
        return {name: bit for name, bit in named.items() if bit is not None}

    @model_validator(mode="after")
    def _bits_lie_apart(self) -> StatusWord:
        low, count = self.data
        if low < 0 or not 5 <= count <= 9 or low + count > self.bits:
            wanted = f"must be its lowest bit and 5 to 9 bits, within {self.bits}"
            raise PydanticCustomError("wanted", "data {text}", {"text": wanted})
        taken = dict.fromkeys(range(low, low + count), "data")
        valid = {} if self.valid is None else {"valid": self.valid}
        for name, bit in {**self.flags, **valid}.items():
            if bit >= self.bits or bit in taken:
                found = f"lies in {taken[bit]}" if bit in taken else f"lies outside the {self.bits} bits of a word"
                raise PydanticCustomError("wanted", "{name} {found}", {"name": name, "found": found})
            taken[bit] = name
        return self


class CaptureForm(BaseModel, frozen=True, extra="forbid", allow_inf_nan=False):
    """What the file of a capture does not say of itself.

    Parameters
    ----------
    kind : str, optional
        What a file holds whose content does not show it; see ``docs/reference/formats.md``.
    rate : float, optional
        Samples a second, of files of samples or voltages without times.
    bits : {1, 8, 16, 32}
        Bits of a sample in a file of samples, each a channel.
    packing : {"lsb", "msb"}
        At which end of a byte the first of eight samples of one bit lies.
    order : {"little", "big"}
        Byte order of samples of 16 or 32 bits.
    thresholds : tuple of float and float, optional
        The level falls below the first voltage, and rises above the second; found from the voltages by default.
    volts_per_count, volts_at_zero : float
        How whole numbers are turned into volts.
    mark : {"parity", "framing"}, optional
        What a mark means in a stream in which a terminal driver marked errors; by the parity of the wire by default.
    word : StatusWord
        Where data and flags lie in status words.
    """

    kind: CaptureKind | None = None
    rate: float | None = Field(default=None, gt=0, le=1e12)
    bits: Literal[1, 8, 16, 32] = 8
    packing: Literal["lsb", "msb"] = "lsb"
    order: Literal["little", "big"] = "little"
    thresholds: Input[tuple[float, float] | None, Sequence[float] | None] = default(None)
    volts_per_count: float = 1.0
    volts_at_zero: float = 0.0
    mark: Literal["parity", "framing"] | None = None
    word: Input[StatusWord, StatusWord | Table] = default(StatusWord())
    _must_apply: tuple[str, ...] = PrivateAttr(default=())

    @model_validator(mode="after")
    def _thresholds_are_in_order(self) -> CaptureForm:
        if self.thresholds is not None and not self.thresholds[0] <= self.thresholds[1]:
            raise PydanticCustomError("wanted", "thresholds must be the lower voltage, then the higher")
        return self

    def that_must_apply(self, keys: Iterable[str]) -> CaptureForm:
        """Return the form with some keys that are refused for a capture to which they do not apply.

        A sheet may declare the form of several captures; what a user states for a single capture must apply to it.

        Parameters
        ----------
        keys : iterable of str
            Keys of the form.
        """
        form = self.model_copy()
        form._must_apply = tuple(keys)  # type: ignore[misc]  # frozen, but for what is private
        return form

    def check_kind(self, name: str, kind: CaptureKind, known: Sequence[str] = ()) -> None:
        """Check that the keys that must apply do so.

        Parameters
        ----------
        name : str
            What the capture is called.
        kind : str
            What it is.
        known : sequence of str
            The keys whose values it has itself.

        Raises
        ------
        RequestError
            If a key that must apply does not apply to such a capture.
        """
        used = KEYS_OF_KIND.get(kind, ())
        for key in self._must_apply:
            if key in known:
                found = f"applies to captures that do not have it; {name} has times of its own"
                raise RequestError(key, found, advice="Leave it out")
            if key not in used:
                *most, last = (other for other, keys in KEYS_OF_KIND.items() if key in keys)
                kinds = f"{', '.join(most)} or {last}" if most else last
                raise RequestError(
                    key,
                    f"applies to captures of the kind {kinds}; {name} is of the kind {kind}",
                    advice="Leave it out, or state another --kind",
                )

    def with_mark_of(self, line: LineSettings) -> CaptureForm:
        """Return the form with what a mark means on a line, if that is not given: a parity or a framing error.

        Parameters
        ----------
        line : LineSettings
            The line.
        """
        if self.mark is not None:
            return self
        return self.model_copy(update={"mark": "parity" if line.has_parity else "framing"})
