"""One end of the link as its code, its registers or its host states it; and the traffic that it is to carry."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, Literal

from pydantic import BaseModel, Field, StrictInt, ValidationError, model_validator
from pydantic_core import PydanticCustomError

from larkreader.declare.common.given import Input, Table, default
from larkreader.declare.common.mistakes import mistakes_of, raise_mistakes
from larkreader.declare.common.several import Names, Numbers
from larkreader.errors import Mistake

from .clock import Share
from .line import LineSettings
from .wiring import ROLES, Jumper, LevelName, Pin


class End(BaseModel, frozen=True, extra="forbid", allow_inf_nan=False):
    """One end of the link.

    Parameters
    ----------
    key : str
        Its name on the sheet.
    sends, receives : str or tuple of str
        The wires on which it does.
    line : mapping
        What it states otherwise than the wires' settings, by the keys of ``[line]``.
    parity_counted : bool
        Whether the data bits that it states include the parity bit, as in the word length of some registers.
    stated_in : str
        Where its settings were read: a source file, a register dump, a host port.
    clock : str or tuple of str
        The clock that it uses; or several of which it could use any, the clock in use first.
    generator : str, optional
        The baud generator that it has.
    words : int or tuple of int
        What is written into the generator's registers, in their order; the best divisor's by default.
    formula : {"truncated", "rounded"}, optional
        That the code computes its divisor in whole numbers, and whether it rounds.
    believed_hertz : float, optional
        The clock's frequency with which the code computes.
    accuracy : str
        How far its baud may be off, where it has no clock on the sheet, as in ``"100 ppm"``.
    oversampling : int
        How many times a bit it looks at the line, where it has no generator on the sheet.
    samples : {1, 3}
        How many of those looks judge a bit.
    registers : mapping of str to int
        What its registers hold, by name; its settings then follow from what they mean.
    levels : str, optional
        The levels of its pins, by name.
    pin : mapping of str to Pin
        Its pins, by name.
    taken : str or tuple of str
        Pads that something else uses, such as the debug link.
    jumper : mapping of str to Jumper
        Its jumpers, by name.
    most_baud : float, optional
        The highest baud that it keeps up, as of a UART in software.
    note : str
        Anything worth telling the reader.
    """

    key: str = "end"
    sends: Input[Names, str | Sequence[str]] = default(())
    receives: Input[Names, str | Sequence[str]] = default(())
    line: Mapping[str, Any] = {}
    parity_counted: bool = False
    stated_in: str = ""
    clock: Input[Names, str | Sequence[str]] = default(())
    generator: str | None = None
    words: Input[Numbers, int | Sequence[int]] = default(())
    formula: Literal["truncated", "rounded"] | None = None
    believed_hertz: float | None = Field(default=None, gt=0)
    accuracy: Share = "0 ppm"
    oversampling: StrictInt = Field(default=16, ge=3, le=256)
    samples: Literal[1, 3] = 1
    registers: Mapping[str, StrictInt] = {}
    levels: LevelName | None = None
    pin: Input[Mapping[str, Pin], Mapping[str, Pin | Table]] = default({})
    taken: Input[Names, str | Sequence[str]] = default(())
    jumper: Input[Mapping[str, Jumper], Mapping[str, Jumper | Table]] = default({})
    most_baud: float | None = Field(default=None, gt=0)
    note: str = ""

    @model_validator(mode="after")
    def _is_sound(self) -> End:
        mistakes = []
        try:
            LineSettings.model_validate(self.line)
        except ValidationError as error:
            mistakes += mistakes_of(error, LineSettings, "line")
        if not self.wires and not self.pin:
            mistakes.append(
                Mistake("sends", "", "is missing, and receives too: name the wires on which it sends and receives")
            )
        if self.generator is not None and not self.clock:
            mistakes.append(Mistake("clock", "", "is missing: a generator divides a clock"))
        for name, pin in self.pin.items():
            if pin.role is None and name not in ROLES:
                result = f"is missing: {', '.join(sorted(set(ROLES.values())))}"
                mistakes.append(Mistake(f"pin.{name}.role", "", result))
            if pin.wire is not None and pin.wire not in self.wires:
                mistakes.append(Mistake(f"pin.{name}.wire", f'"{pin.wire}"', f"is not a wire of {self.key}"))
        for name in ("words", "formula"):
            if getattr(self, name) and self.generator is None:
                mistakes.append(Mistake("generator", "", f"is missing: {name} is of a generator"))
        if self.words and self.formula:
            mistakes.append(Mistake("formula", f'"{self.formula}"', "does not go with words, which determine it"))
        raise_mistakes(mistakes)
        return self

    @property
    def wires(self) -> tuple[str, ...]:
        """The wires that it has to do with."""
        return tuple(dict.fromkeys([*self.sends, *self.receives]))

    def line_on(self, declared: LineSettings) -> LineSettings:
        """Return the settings that it has on a wire: what is declared of it, and instead what the end states.

        Data bits are those of the line, without the parity bit, however the end counts them.

        Parameters
        ----------
        declared : LineSettings
            The settings of the wire.

        Raises
        ------
        pydantic.ValidationError
            If it states more data bits than there are, or fewer.
        """
        given = dict(self.line)
        if self.parity_counted and "format" in given:
            stated = LineSettings(format=given["format"])
            if stated.has_parity:
                given["format"] = f"{stated.data_bits - 1}{stated.format[1:]}"
        return LineSettings.model_validate(declared.model_dump() | given)


class Traffic(BaseModel, frozen=True, extra="forbid", allow_inf_nan=False):
    """What a wire is to carry, over and over again.

    Parameters
    ----------
    wire : str, optional
        The wire; the frame's by default.
    frame : str, optional
        The layout of what is sent.
    length : int, optional
        How many characters it has, where it is not a frame, or one that varies.
    every_s : float
        Time from one to the next, in seconds.
    burst : int
        How many are sent at a time, one right after the other.
    deadline_s : float, optional
        How long after it was to be sent it must have arrived, in seconds; `every_s` by default.
    samples : int
        How many samples of a converter one of them carries; 0 for none.
    converter_rate : float, optional
        How many samples a second the converter can take.
    name : str
        What it is called; the frame's name by default.
    """

    wire: str | None = None
    frame: str | None = None
    length: StrictInt | None = Field(default=None, ge=1, le=1 << 24)
    every_s: float = Field(gt=0, allow_inf_nan=False)
    burst: StrictInt = Field(default=1, ge=1, le=1 << 20)
    deadline_s: float | None = Field(default=None, gt=0)
    samples: StrictInt = Field(default=0, ge=0)
    converter_rate: float | None = Field(default=None, gt=0)
    name: str = ""

    @model_validator(mode="after")
    def _is_something(self) -> Traffic:
        if self.frame is None and (self.length is None or self.wire is None):
            raise PydanticCustomError("wanted", "needs a frame, or a wire and a length in characters.")
        if self.converter_rate is not None and not self.samples:
            raise PydanticCustomError("wanted", "converter_rate needs samples, the number of them per message.")
        return self
