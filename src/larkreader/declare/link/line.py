"""The settings of one direction of a link, with the arithmetic that follows from them.

A character is one start bit, the data bits, a parity bit if there is one, and the stop bits. The wire rests at
its idle level, which is a logical 1 ("mark"); a start bit is a logical 0 ("space").
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any, Literal

from pydantic import BaseModel, ValidationError, field_validator, model_validator
from pydantic_core import PydanticCustomError

from larkreader.declare.common.mistakes import mistakes_of
from larkreader.errors import Mistake, SheetError

Parity = Literal["N", "E", "O", "M", "S"]
Idle = Literal["high", "low"]
BitOrder = Literal["lsb", "msb"]
FlowControl = Literal["none", "xon-xoff", "rts-cts"]

PARITY_NAMES: Mapping[str, str] = {"N": "none", "E": "even", "O": "odd", "M": "mark", "S": "space"}

FORMAT_WANTED = 'must be data bits (5 to 9), parity (N, E, O, M or S) and stop bits (1, 1.5 or 2), as in "8E1".'
MOST_BAUD = 1e9  # bits a second
_FORMAT = re.compile(r"([5-9])([NEOMS])(1\.5|1|2)")
_WORDS: Mapping[str, tuple[str, str]] = {
    "idle-low": ("idle", "low"),
    "idle-high": ("idle", "high"),
    "msb": ("first_bit", "msb"),
    "lsb": ("first_bit", "lsb"),
    "xon-xoff": ("flow_control", "xon-xoff"),
    "rts-cts": ("flow_control", "rts-cts"),
    "address-mark": ("ninth_bit", "address-mark"),
}


class LineSettings(BaseModel, frozen=True, extra="forbid"):
    """Baud and character format of one direction of a link.

    Parameters
    ----------
    baud : float
        Signalling rate in bits a second.
    format : str
        Data bits (5 to 9), parity (N, E, O, M or S) and stop bits (1, 1.5 or 2), as in ``"8E1"``.
    idle : {"high", "low"}
        Level of the resting wire; ``"low"`` for an inverted line.
    first_bit : {"lsb", "msb"}
        Which data bit follows the start bit.
    flow_control : {"none", "xon-xoff", "rts-cts"}
        How the receiver asks the sender to pause.
    ninth_bit : {"data", "address-mark"}
        What the last of nine data bits is: data, or a mark of characters that are addresses.

    Examples
    --------
    >>> line = LineSettings.parse("57600 8E1")
    >>> line.bits_per_character, round(line.characters_per_second, 1)
    (11.0, 5236.4)
    """

    baud: float = 115_200.0
    format: str = "8N1"
    idle: Idle = "high"
    first_bit: BitOrder = "lsb"
    flow_control: FlowControl = "none"
    ninth_bit: Literal["data", "address-mark"] = "data"

    @field_validator("baud")
    @classmethod
    def _baud_is_a_rate(cls, baud: float) -> float:
        if not 0 < baud <= MOST_BAUD:
            raise PydanticCustomError("wanted", "must be a positive number of bits a second, up to 1e9.")
        return baud

    @field_validator("format")
    @classmethod
    def _format_is_known(cls, text: str) -> str:
        text = text.upper()
        if not _FORMAT.fullmatch(text):
            raise PydanticCustomError("wanted", "{text}", {"text": _format_mistake(text)})
        return text

    @model_validator(mode="after")
    def _a_mark_needs_nine_bits(self) -> LineSettings:
        if self.ninth_bit != "data" and self.data_bits != 9:
            raise PydanticCustomError("wanted", "ninth_bit goes with nine data bits, as in 9N1.")
        return self

    @classmethod
    def parse(cls, text: str) -> LineSettings:
        """Read settings from one line of text, such as ``"57600 8E1"``.

        Parameters
        ----------
        text : str
            Baud, format, and any of the words ``idle-low``, ``msb``, ``xon-xoff``, ``rts-cts``,
            ``address-mark``.

        Returns
        -------
        LineSettings
            What `str` of a `LineSettings` gives, read back, is an equal one.

        Raises
        ------
        SheetError
            If a part is missing or not understood.
        """
        parts = text.split()
        if len(parts) < 2:
            raise SheetError(f'"{text}"', [Mistake("line", f'"{text}"', 'must be baud and format, as in "57600 8E1"')])
        settings: dict[str, Any] = {"baud": parts[0], "format": parts[1]}
        mistakes = []
        for word in parts[2:]:
            if word.lower() in _WORDS:
                key, value = _WORDS[word.lower()]
                settings[key] = value
            else:
                mistakes.append(Mistake("line", f'"{word}"', f"must be one of {', '.join(_WORDS)}"))
        try:
            parsed = cls.model_validate(settings)
        except ValidationError as error:
            raise SheetError(f'"{text}"', [*mistakes_of(error, cls, "line"), *mistakes]) from None
        if mistakes:
            raise SheetError(f'"{text}"', mistakes)
        return parsed

    @property
    def data_bits(self) -> int:
        """Data bits in a character, 5 to 9."""
        return int(self.format[0])

    @property
    def parity(self) -> Parity:
        """Parity as one letter, N, E, O, M or S."""
        return self.format[1]  # type: ignore[return-value]  # the validator let through no other letter

    @property
    def stop_bits(self) -> float:
        """Stop bits in a character, 1, 1.5 or 2."""
        return float(self.format[2:])

    @property
    def has_parity(self) -> bool:
        """Whether a parity bit follows the data bits."""
        return self.parity != "N"

    @property
    def has_address_mark(self) -> bool:
        """Whether a ninth bit marks addresses."""
        return self.ninth_bit == "address-mark"

    @property
    def bit_time_s(self) -> float:
        """Length of one bit, in seconds."""
        return 1 / self.baud

    @property
    def bits_per_character(self) -> float:
        """Bit times from the start edge to the end of the last stop bit."""
        return 1 + self.data_bits + self.has_parity + self.stop_bits

    @property
    def character_time_s(self) -> float:
        """Length of one character, in seconds."""
        return self.bits_per_character / self.baud

    @property
    def characters_per_second(self) -> float:
        """How many characters the line carries a second when one follows the other without a gap."""
        return self.baud / self.bits_per_character

    @property
    def stop_position(self) -> int:
        """Bit times between the start edge and the beginning of the first stop bit."""
        return 1 + self.data_bits + self.has_parity

    def __str__(self) -> str:
        words = [f"{self.baud:.15g}", self.format]
        if self.idle == "low":
            words.append("idle-low")
        if self.first_bit == "msb":
            words.append("msb")
        if self.flow_control != "none":
            words.append(self.flow_control)
        if self.has_address_mark:
            words.append("address-mark")
        return " ".join(words)


def _format_mistake(text: str) -> str:
    """Say which part of a character format is wrong."""
    if not text or text[0] not in "56789":
        wrong = f'"{text[:1]}" is not a number of data bits.'
    elif len(text) < 2 or text[1] not in "NEOMS":
        wrong = f'"{text[1:2]}" is not a parity.'
    else:
        wrong = f'"{text[2:]}" is not a number of stop bits.'
    return f"{FORMAT_WANTED} {wrong}"
