"""Pins, with the levels that they drive and read, and what joins them.

The levels that go by a name are those of JESD8C.01 (3.3 V), JESD8-5A.01 (2.5 V), JESD8-7A (1.8 V), JESD7-A (5 V CMOS,
at a supply of 5 V), the usual bipolar 5 V levels, and TIA-232-F, where a mark is the negative level.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Annotated, Literal

from pydantic import AliasChoices, BaseModel, Field, model_validator
from pydantic_core import PydanticCustomError

from larkreader.declare.common.given import Input, default
from larkreader.declare.common.several import Names

Role = Literal["tx", "rx", "rts", "cts", "ground", "supply"]
ROLES: Mapping[str, Role] = {
    "tx": "tx",
    "rx": "rx",
    "rts": "rts",
    "cts": "cts",
    "gnd": "ground",
    "ground": "ground",
    "vcc": "supply",
    "vdd": "supply",
    "supply": "supply",
}
OUTPUTS, INPUTS = ("tx", "rts"), ("rx", "cts")
LevelName = Literal["lvcmos-1.8", "lvcmos-2.5", "lvcmos-3.3", "cmos-5", "ttl-5", "eia-232", "eia-485"]
Volts = Annotated[float, Field(allow_inf_nan=False)]


@dataclass(frozen=True)
class Levels:
    """What an output drives and an input reads, in volts.

    Parameters
    ----------
    output : tuple of float
        The least and the most of the low level, then of the high level.
    input : tuple of float
        Up to where low is read, and from where high is.
    limit : tuple of float
        What an input bears, least and most.
    is_inverted : bool
        Whether the wire rests at the lower level.
    """

    output: tuple[float, float, float, float]
    input: tuple[float, float]
    limit: tuple[float, float]
    is_inverted: bool = False


NAMED_LEVELS: Mapping[LevelName, Levels] = {
    "lvcmos-1.8": Levels((0, 0.45, 1.35, 1.95), (0.63, 1.17), (-0.3, 2.1)),
    "lvcmos-2.5": Levels((0, 0.4, 2.0, 2.7), (0.7, 1.7), (-0.3, 3.0)),
    "lvcmos-3.3": Levels((0, 0.4, 2.4, 3.6), (0.8, 2.0), (-0.3, 3.9)),
    "cmos-5": Levels((0, 0.5, 4.4, 5.5), (1.5, 3.5), (-0.5, 5.5)),
    "ttl-5": Levels((0, 0.4, 2.4, 5.5), (0.8, 2.0), (-0.5, 5.5)),
    "eia-232": Levels((-15, -5, 5, 15), (-3, 3), (-25, 25), is_inverted=True),
    "eia-485": Levels((-6, -1.5, 1.5, 6), (-0.2, 0.2), (-7, 12)),
}


class Pin(BaseModel, frozen=True, extra="forbid", allow_inf_nan=False):
    """One pin of an end.

    Parameters
    ----------
    role : {"tx", "rx", "rts", "cts", "ground", "supply"}, optional
        What it is for; found from its name on the sheet where that is one of these, ``gnd``, ``vcc`` or ``vdd``.
    wire : str, optional
        Of which wire, where the end has several.
    pad : str
        What the chip or the connector calls it.
    levels : str, optional
        The levels by name; those of the end by default.
    output_volts : tuple of float, optional
        What it drives instead: the low level at most, the high level at least, and at most.
    input_volts : tuple of float, optional
        What it reads instead: low up to, high from.
    limit_volts : tuple of float, optional
        What it bears instead: least and most.
    drive : {"push-pull", "open-drain"}
        Whether it drives both levels, or the low one alone.
    pull_up_ohms : float, optional
        Its own pull-up.
    volts : float, optional
        Of a supply pin, its voltage.
    gives_a, draws_a : float, optional
        Of a supply pin, how much current it gives at most, or draws, in amperes.
    """

    role: Role | None = None
    wire: str | None = None
    pad: str = ""
    levels: LevelName | None = None
    output_volts: Input[tuple[Volts, Volts, Volts] | None, Sequence[Volts] | None] = default(None)
    input_volts: Input[tuple[Volts, Volts] | None, Sequence[Volts] | None] = default(None)
    limit_volts: Input[tuple[Volts, Volts] | None, Sequence[Volts] | None] = default(None)
    drive: Literal["push-pull", "open-drain"] = "push-pull"
    pull_up_ohms: float | None = Field(default=None, gt=0)
    volts: Volts | None = None
    gives_a: float | None = Field(default=None, ge=0)
    draws_a: float | None = Field(default=None, ge=0)

    @model_validator(mode="after")
    def _levels_rise(self) -> Pin:
        for volts in (self.output_volts, self.input_volts, self.limit_volts):
            if volts is not None and list(volts) != sorted(volts):
                raise PydanticCustomError("wanted", "has volts that are not in order, the lowest first.")
        return self

    def levels_at(self, end_levels: LevelName | None) -> Levels | None:
        """Return its levels; None where nothing is known of them.

        Parameters
        ----------
        end_levels : str or None
            The levels of the end whose pin it is.
        """
        name = self.levels or end_levels
        if name is None:
            return None
        known = NAMED_LEVELS[name]
        output, least = known.output, known.output[0]
        return Levels(
            output if self.output_volts is None else (least, *self.output_volts),
            self.input_volts or known.input,
            self.limit_volts or known.limit,
            known.is_inverted,
        )


class Jumper(BaseModel, frozen=True, extra="forbid", allow_inf_nan=False):
    """A jumper that decides where a pin goes.

    Parameters
    ----------
    is_ : str
        Where it is set; ``is`` on a sheet.
    wanted : str
        Where it must be set.
    """

    is_: str = Field(validation_alias=AliasChoices("is", "is_"), serialization_alias="is")
    wanted: str


class Connection(BaseModel, frozen=True, extra="forbid", allow_inf_nan=False):
    """A wire, a cable or a converter that joins pins.

    Parameters
    ----------
    joins : tuple of str
        Which pins, each as its end and its name, as in ``"controller.tx"``.
    inverts : bool
        Whether what arrives is the inverse.
    translates : bool
        Whether it translates levels, so that they need not fit.
    isolates : bool
        Whether it isolates, so that the grounds need not be joined either.
    length_m : float
        How long it is, in metres.
    farads_per_m : float
        Its capacitance, in farads a metre.
    pull_up_ohms : float, optional
        A pull-up that hangs on it.
    note : str
        Anything worth telling the reader.
    """

    joins: Input[Names, str | Sequence[str]] = Field(min_length=2)
    inverts: bool = False
    translates: bool = False
    isolates: bool = False
    length_m: float = Field(default=0.0, ge=0, allow_inf_nan=False)
    farads_per_m: float = Field(default=100e-12, ge=0)
    pull_up_ohms: float | None = Field(default=None, gt=0)
    note: str = ""
