"""Options that say what the file of a capture does not say of itself."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from functools import wraps
from typing import TYPE_CHECKING, Any, TypeVar

import click

from .common import Decorator, naming

if TYPE_CHECKING:
    from larkreader.declare.run.capture_form import CaptureForm

KIND_CHOICES = (
    "vcd", "levels", "voltages", "samples", "characters", "recording", "log", "bytes", "hex", "words", "marked",
)  # fmt: skip
PREFIXES = {"": 1.0, "k": 1e3, "M": 1e6, "G": 1e9}
_RATE = re.compile(r"([0-9._]+(?:e[0-9]+)?)\s*([kMG]?)(?:Hz|S/s|Sa/s)?")
KEYS = ("rate", "bits", "packing", "order", "thresholds", "volts_per_count")
_Command = TypeVar("_Command", bound=Callable[..., Any])


class Rate(click.ParamType[float]):
    """How many a second, with k, M or G behind it."""

    name = "rate"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> float:
        """Return the number; fail where it is none."""
        match = _RATE.fullmatch(str(value))
        try:
            return float(match[1]) * PREFIXES[match[2]] if match else float("")
        except ValueError:
            self.fail(f'"{value}" is not a rate. It must be a number, as in 44100, 24M or 2.5k.', param, ctx)


kind_option: Decorator = click.option(
    "--kind",
    type=click.Choice(KIND_CHOICES),
    metavar="KIND",
    help=f"Kind of the capture: {', '.join(KIND_CHOICES)}; found from its content by default.",
)


def form_options(command: _Command) -> _Command:
    """Add the options to a command, which gets those that were given as ``given``."""

    @kind_option
    @click.option(
        "--rate", type=Rate(), metavar="N", help="Samples a second, as in 24M, where the capture has no times."
    )
    @click.option(
        "--bits", type=click.Choice(["1", "8", "16", "32"]), help="Bits of a sample in a raw file, each a channel."
    )
    @click.option(
        "--packing", type=click.Choice(["lsb", "msb"]), help="Which end of a byte holds the first of eight samples."
    )
    @click.option("--order", type=click.Choice(["little", "big"]), help="Byte order of samples of 16 or 32 bits.")
    @click.option(
        "--thresholds", type=(float, float), metavar="LOW HIGH", help="Volts at which the level falls and rises."
    )
    @click.option("--volts-per-count", type=float, metavar="V", help="Volts of 1 in a file of whole numbers.")
    @wraps(command)
    def with_form(**options: Any) -> Any:
        given = given_in(options)
        with naming(*KEYS):
            return command(**{key: value for key, value in options.items() if key not in KEYS}, given=given)

    return with_form  # type: ignore[return-value]  # takes what the command takes, but for the form


def given_in(options: Mapping[str, Any]) -> dict[str, Any]:
    """Return those of the options of `form_options` that were given."""
    given = {key: options[key] for key in KEYS if options.get(key) is not None}
    return given | ({"bits": int(given["bits"])} if "bits" in given else {})


def form_of(on_sheet: CaptureForm | None, given: dict[str, Any]) -> CaptureForm:
    """Return the form of a capture: what the sheet says, and instead of it what the options say."""
    from pydantic import ValidationError

    from larkreader.declare.run.capture_form import CaptureForm
    from larkreader.errors import RequestError

    stated = {} if on_sheet is None else on_sheet.model_dump(exclude_unset=True, by_alias=True)
    try:
        return CaptureForm.model_validate(stated | given).that_must_apply(given)
    except ValidationError as error:
        detail = error.errors()[0]
        where = (
            "--" + str(detail["loc"][0]).replace("_", "-")
            if detail["loc"]
            else "what the options state about the capture"
        )
        raise RequestError(where, f"is not possible: {detail['msg']}") from None
