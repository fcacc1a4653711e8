"""The source of an end's time: a clock, how far it may be off, and how far that moves with temperature."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Annotated

from pydantic import AfterValidator, BaseModel, BeforeValidator, Field, model_validator
from pydantic_core import PydanticCustomError

from larkreader.declare.common.given import Input, default
from larkreader.declare.common.percent import percent_text

_SHARE = re.compile(r"(?:±|\+/-)?\s*(\d+(?:\.\d*)?|\.\d+)\s*(ppm|%)(/K)?")
_UNITS = {"ppm": 1e-6, "%": 1e-2}


def share_of(text: str) -> tuple[float, bool]:
    """Read a share of the whole, as in ``"50 ppm"``, ``"1.5 %"`` or ``"30 ppm/K"``; return whether it is a kelvin's."""
    match = _SHARE.fullmatch(text.strip())
    if match is None:
        raise ValueError(text)
    return float(match[1]) * _UNITS[match[2]], match[3] is not None


def _check_share(text: str, *, per_kelvin: bool = False) -> str:
    try:
        share, is_per_kelvin = share_of(text)
    except ValueError:
        share, is_per_kelvin = 1.0, False
    if share >= 1 or (is_per_kelvin and not per_kelvin):
        wanted = 'must be a share, as in "50 ppm" or "1.5 %"' + (', or of a kelvin, as in "20 ppm/K"' * per_kelvin)
        raise PydanticCustomError("wanted", "{wanted}", {"wanted": wanted})
    return text


def _check_drift(text: str) -> str:
    return _check_share(text, per_kelvin=True)


def _check_hertz(given: object) -> object:
    if isinstance(given, str):
        raise PydanticCustomError("wanted", "must be a number of hertz, as in 20e6 or 20_000_000.")
    return given


Hertz = Annotated[float, BeforeValidator(_check_hertz)]
Share = Annotated[str, AfterValidator(_check_share)]
Drift = Annotated[str, AfterValidator(_check_drift)]


class Clock(BaseModel, frozen=True, extra="forbid", allow_inf_nan=False):
    """A clock from which bauds are made.

    Parameters
    ----------
    key : str
        Its name on the sheet.
    hertz : float
        Its frequency.
    accuracy : str
        How far it may be off to either side when it is new and at the temperature of its calibration, as in
        ``"50 ppm"`` or ``"1 %"``.
    drift : str
        How much farther over temperature: at most, as in ``"2 %"``, or for every kelvin from `calibrated_at`, as in
        ``"20 ppm/K"``.
    temperature : tuple of float, optional
        Lowest and highest temperature at which it must work, in degrees Celsius.
    calibrated_at : float
        Temperature at which `accuracy` holds, in degrees Celsius.
    note : str
        Anything worth telling the reader.

    Examples
    --------
    >>> clock = lr.Clock(hertz=8e6, accuracy="1 %", drift="100 ppm/K", temperature=(-10, 60))
    >>> round(clock.spread, 6)
    0.0135
    """

    key: str = "clock"
    hertz: Hertz = Field(gt=0, le=1e11, allow_inf_nan=False)
    accuracy: Share = "0 ppm"
    drift: Drift = "0 ppm"
    temperature: Input[tuple[float, float] | None, Sequence[float] | None] = default(None)
    calibrated_at: float = 25.0
    note: str = ""

    @model_validator(mode="after")
    def _drift_has_its_range(self) -> Clock:
        if self.temperature is not None and not self.temperature[0] <= self.temperature[1]:
            raise PydanticCustomError("wanted", "temperature must be [lowest, highest], in degrees Celsius.")
        if share_of(self.drift)[1] and self.temperature is None:
            raise PydanticCustomError("wanted", "a drift of every kelvin needs temperature = [lowest, highest].")
        return self

    @property
    def spread(self) -> float:
        """How far it may be off to either side at worst, as a share of `hertz`."""
        drift, is_per_kelvin = share_of(self.drift)
        if is_per_kelvin and self.temperature is not None:
            drift *= max(abs(edge - self.calibrated_at) for edge in self.temperature)
        return share_of(self.accuracy)[0] + drift

    def __str__(self) -> str:
        return f"{self.key}, {hertz_text(self.hertz)}"


def hertz_text(hertz: float) -> str:
    """Write a frequency with its prefix, all digits kept."""
    for unit, size in (("GHz", 1e9), ("MHz", 1e6), ("kHz", 1e3)):
        if hertz >= size:
            return f"{hertz / size:.9g} {unit}"
    return f"{hertz:.9g} Hz"


def share_text(share: float) -> str:
    """Write a share in percent, a small one in millionths."""
    return f"{share * 1e6:.3g} ppm" if 0 < abs(share) < 1e-3 else percent_text(share)
