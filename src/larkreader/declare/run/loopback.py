"""The plan of a loopback: what is sent, in which blocks, what is to return, and what may go wrong."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from itertools import product
from typing import Annotated, Any, Literal, get_args

from pydantic import BaseModel, Field, StrictBool, StrictInt, ValidationError, model_validator
from pydantic_core import PydanticCustomError

from larkreader.declare.common.given import Input, Table, default
from larkreader.declare.link.line import LineSettings
from larkreader.errors import RequestError

PatternName = Literal[
    "counting",
    "all-values",
    "alternating",
    "walking-one",
    "walking-zero",
    "runs",
    "random",
    "prbs-7",
    "prbs-9",
    "prbs-11",
    "prbs-15",
    "prbs-20",
    "prbs-23",
    "prbs-31",
    "lines",
    "file",
    "frames",
]
PATTERN_NAMES: tuple[str, ...] = get_args(PatternName)
WITH_CONTENT = ("file", "frames")
NOTHING: Mapping[str, bytes] = {}
Expectation = Literal["same", "altered", "prefixed"]
XON, XOFF = 0x11, 0x13  # DC1 and DC3 of ECMA-48, as flow control in software uses them

Count = Annotated[StrictInt, Field(ge=1, le=1 << 28)]  # all of it is held in memory
Pause = Annotated[float, Field(ge=0, le=3600)]
Baud = Annotated[float, Field(gt=0, allow_inf_nan=False)]
Block = Annotated[StrictInt, Field(ge=1, le=1 << 20)]


class Alteration(BaseModel, frozen=True, extra="forbid"):
    """How each character returns from a device that changes it.

    Parameters
    ----------
    xor : int
        Bits that are turned over; all of them is the default, and none where something is added.
    add : int
        What is added to that; what goes beyond the data bits is cut off.
    """

    xor: int = -1
    add: int = 0

    @model_validator(mode="before")
    @classmethod
    def _what_is_added_is_not_turned_over(cls, data: Any) -> Any:
        return {"xor": 0, **data} if isinstance(data, Mapping) and data.get("add") else data

    def of(self, value: int, data_bits: int) -> int:
        """Return the value that the device sends back for a value.

        Parameters
        ----------
        value : int
            The value that was sent.
        data_bits : int
            Data bits of a character.
        """
        mask = (1 << data_bits) - 1
        return ((value ^ self.xor) + self.add) & mask


class LoopbackLimits(BaseModel, frozen=True, extra="forbid"):
    """What may go wrong before a loopback fails.

    Parameters
    ----------
    lost, changed, extra : int
        How many characters may be lost, changed, or come without having been sent.
    error_ratio : float, optional
        Of all bits that were compared, the share that may be wrong. Where none was, the 95 % upper bound counts, so
        that too few characters prove nothing.
    latency_s : float, optional
        What the slowest block may take from its write to the return of its last character, in seconds.
    line_share : float, optional
        The rate that must be reached, as a share of what the line can carry.
    """

    lost: int = Field(default=0, ge=0)
    changed: int = Field(default=0, ge=0)
    extra: int = Field(default=0, ge=0)
    error_ratio: float | None = Field(default=None, gt=0, le=1)
    latency_s: float | None = Field(default=None, gt=0, allow_inf_nan=False)
    line_share: float | None = Field(default=None, gt=0, le=1)


class _Run(BaseModel, frozen=True, extra="forbid"):
    """What one run and a whole matrix of them have in common."""

    characters: Count = 4096
    limit_s: float = Field(default=0.5, gt=0, le=3600)
    for_s: float | None = Field(default=None, gt=0, le=1e6)
    seed: StrictInt = Field(default=1, ge=0)
    expect: Expectation = "same"
    alter: Input[Alteration, Alteration | Table] = default(Alteration())
    prefix: str = "got: "
    sends: StrictBool = True
    limits: Input[LoopbackLimits, LoopbackLimits | Table] = default(LoopbackLimits())


class LoopbackPlan(_Run, frozen=True, extra="forbid"):
    """What one run of a loopback sends, and how.

    Parameters
    ----------
    characters : int
        How many characters are sent; with lines, as many whole lines as hold them.
    limit_s : float
        How long to wait, in seconds, for the next character of what is under way before it is taken as lost.
    for_s : float, optional
        After how long no further block is sent, in seconds on the port's clock.
    seed : int
        Of the random pattern; of a pseudo-random sequence the register at its start, all bits 1 where it is 0.
    expect : {"same", "altered", "prefixed"}
        What returns if all is well: what was sent, each character changed by `alter`, or each line with `prefix` in
        front.
    alter : Alteration
        How the characters are changed.
    prefix : str
        What stands before each line that returns.
    sends : bool
        Whether anything is sent at all. If not, a pseudo-random sequence is waited for, and checked as it arrives.
    limits : LoopbackLimits
        What may go wrong before the run fails.
    pattern : str
        ``counting``: every value in turn; ``all-values``: every value up and down in turn; ``alternating``: 0x55 and
        0xAA; ``walking-one``, ``walking-zero``: a single bit that moves; ``runs``: 1, 2, 4 to 256 times all bits 0,
        then all 1; ``random``: by `seed`; ``prbs-7`` to ``prbs-31``: a pseudo-random sequence, see `prbs_bits`;
        ``lines``: numbered lines of text that end in LF; ``file`` and ``frames``: `content`, again and again.
    data_bits : int
        Data bits of a character; a value has no more. With nine, each is two bytes for the port, the low one first.
    block : int, optional
        How many characters are written at once; twice as many may be under way at a time. By default what the
        port's line carries in a quarter of a second, but 64 to 8192.
    pause_s : float
        How long the sender rests between two blocks, in seconds.
    avoid : tuple of int
        Values that are never sent. In patterns that run through all values they are left out, in others their highest
        bit is turned over; `content` that holds one cannot be used.
    content : bytes
        What ``file`` and ``frames`` send, again and again.
    mirrored : bool
        Whether all bits of what would be sent are turned over, and lines counted from 500,000 on, so that the two ways
        between two ports cannot be taken for each other. `content` goes as it is.
    """

    pattern: PatternName = "counting"
    data_bits: int = Field(default=8, ge=5, le=9)
    block: int | None = Field(default=None, ge=1, le=1 << 20)
    pause_s: Pause = 0.0
    avoid: Input[tuple[int, ...], Sequence[int]] = default(())
    content: bytes = Field(default=b"", repr=False)
    mirrored: StrictBool = False
    # again, since mypy takes what a setter takes for the type of an inherited field
    alter: Input[Alteration, Alteration | Table] = default(Alteration())
    limits: Input[LoopbackLimits, LoopbackLimits | Table] = default(LoopbackLimits())

    @model_validator(mode="after")
    def _can_be_done(self) -> LoopbackPlan:
        if self.expect == "prefixed" and self.pattern != "lines":
            raise PydanticCustomError("wanted", "expects lines with a prefix, which needs the pattern lines.")
        if self.pattern == "lines" and not 7 <= self.data_bits <= 8:
            raise PydanticCustomError("wanted", "sends lines of text, which need 7 or 8 data bits.")
        if not self.sends and not self.pattern.startswith("prbs-"):
            raise PydanticCustomError("wanted", "sends nothing, which needs a pattern of prbs-7 to prbs-31.")
        if not self.sends and (self.expect != "same" or self.avoid):
            raise PydanticCustomError("wanted", "sends nothing, which needs a sequence that arrives as it is.")
        if self.pattern in WITH_CONTENT:
            self._check_content()
        return self

    def _check_content(self) -> None:
        if not self.content:
            raise PydanticCustomError("wanted", "sends content, and has none.")
        for place, value in enumerate(self.content):
            if value in self.avoid:
                result = {"place": f"{place:,}", "value": f"0x{value:02X}"}
                raise PydanticCustomError(
                    "wanted", "has {value} at byte {place} of its content, to be avoided.", result
                )
            if value >> self.data_bits:
                result = {"place": f"{place:,}", "value": f"0x{value:02X}", "bits": str(self.data_bits)}
                raise PydanticCustomError("wanted", "has {value} at byte {place}: no {bits} data bits hold it.", result)


class LoopbackMatrix(_Run, frozen=True, extra="forbid"):
    """Runs of a loopback, one for each combination: ``[loopback]`` on the sheet.

    Parameters
    ----------
    characters : int
        As of `LoopbackPlan`, for each run.
    limit_s : float
        As of `LoopbackPlan`, for each run.
    for_s : float, optional
        As of `LoopbackPlan`, for each run.
    seed : int
        As of `LoopbackPlan`, for each run.
    expect : {"same", "altered", "prefixed"}
        As of `LoopbackPlan`, for each run.
    alter : Alteration
        As of `LoopbackPlan`, for each run.
    prefix : str
        As of `LoopbackPlan`, for each run.
    sends : bool
        As of `LoopbackPlan`, for each run.
    limits : LoopbackLimits
        As of `LoopbackPlan`, for each run.
    patterns : list of str
        As in `LoopbackPlan`.
    bauds : list of float
        By default that of the line.
    formats : list of str
        Such as ``"8E1"``; by default that of the line.
    blocks : list of int
        How many characters are written at once.
    pauses_s : list of float
        How long the sender rests between two blocks, in seconds.
    frame : str, optional
        The layout whose frames the pattern ``frames`` sends, with a rising counter.
    file : str, optional
        What the pattern ``file`` sends; a path as the sheet's folder sees it.
    """

    patterns: Input[tuple[PatternName, ...], Sequence[PatternName]] = default(("counting",))
    bauds: Input[tuple[Baud, ...], Sequence[float]] = default(())
    formats: Input[tuple[str, ...], Sequence[str]] = default(())
    blocks: Input[tuple[Block, ...], Sequence[int]] = default(())
    pauses_s: Input[tuple[Pause, ...], Sequence[float]] = default((0.0,))
    frame: str | None = None
    file: str | None = None
    # again, since mypy takes what a setter takes for the type of an inherited field
    alter: Input[Alteration, Alteration | Table] = default(Alteration())
    limits: Input[LoopbackLimits, LoopbackLimits | Table] = default(LoopbackLimits())

    @model_validator(mode="after")
    def _says_what_to_send(self) -> LoopbackMatrix:
        if not self.patterns or not self.pauses_s:
            raise PydanticCustomError("wanted", "must have at least one pattern and one pause.")
        for pattern, source in (("frames", self.frame), ("file", self.file)):
            if (pattern in self.patterns) != (source is not None):
                name = "frame" if pattern == "frames" else pattern
                result = f"must name a {name} if, and only if, patterns holds {pattern}."
                raise PydanticCustomError("wanted", "{result}", {"result": result})
        for form in self.formats:
            LineSettings(format=form)
        for pattern in self.patterns:
            LoopbackPlan(pattern=pattern, expect=self.expect, sends=self.sends, content=b"\0")
        return self

    def lines(self, line: LineSettings) -> list[LineSettings]:
        """Return the settings of the runs, those of `line` where the matrix says nothing else.

        Parameters
        ----------
        line : LineSettings
            The settings of the link.
        """
        chosen = product(self.bauds or (line.baud,), self.formats or (line.format,))
        declared = line.model_dump()
        return [LineSettings.model_validate({**declared, "baud": baud, "format": form}) for baud, form in chosen]

    def plans(self, line: LineSettings, content: Mapping[str, bytes] = NOTHING) -> Iterator[LoopbackPlan]:
        """Yield the runs under some settings.

        Parameters
        ----------
        line : LineSettings
            One of `lines`. With flow control in software its pause characters are never sent.
        content : mapping of str to bytes
            What the patterns ``file`` and ``frames`` send, by pattern.

        Yields
        ------
        LoopbackPlan

        Raises
        ------
        RequestError
            If a pattern cannot be sent under these settings.
        """
        common = {name: getattr(self, name) for name in _Run.model_fields}
        avoid = (XON, XOFF) if line.flow_control == "xon-xoff" else ()
        for pattern, block, pause_s in product(self.patterns, self.blocks or (None,), self.pauses_s):
            declared: dict[str, Any] = {
                "pattern": pattern,
                "block": block,
                "pause_s": pause_s,
                "data_bits": line.data_bits,
                "avoid": avoid,
            }
            if pattern in WITH_CONTENT:
                declared["content"] = content.get(pattern, b"")
            try:
                yield LoopbackPlan.model_validate({**common, **declared})
            except ValidationError as error:
                wanted = error.errors()[0]["msg"].rstrip(".")
                raise RequestError(f"pattern {pattern} at {line}", wanted) from None
