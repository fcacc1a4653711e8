"""What is wrong with a simulated line, declared."""

from __future__ import annotations

from typing import Annotated

from pydantic import BaseModel, Field, StrictInt, model_validator
from pydantic_core import PydanticCustomError

Ratio = Annotated[float, Field(ge=0, le=1)]
Ppm = Annotated[float, Field(ge=-500_000, le=500_000, allow_inf_nan=False)]
Seconds = Annotated[float, Field(ge=0, le=1e4, allow_inf_nan=False)]


class Impairments(BaseModel, frozen=True, extra="forbid"):
    """What is wrong with a simulated line, both ways alike.

    Parameters
    ----------
    near_ppm, far_ppm : float
        How much faster than declared the clock of this end, and of the far one, runs, in millionths. An end sends and
        receives by the same clock.
    jitter_s : float
        Standard deviation by which each level change is early or late, in seconds; at most three of them.
    bit_error_ratio : float
        Share of the bits on the wire, start and stop bits too, that are turned over (a binary symmetric channel).
    signal_to_noise_db : float, optional
        The same as noise: ratio of the signal's power, half the swing squared, to that of white Gaussian noise
        at the sampling instant, in decibels.
    spikes_per_s : float
        How many spikes come a second, at random times while characters are under way.
    spike_s : float
        How long one lasts, in seconds.
    drop_ratio, double_ratio : float
        Share of the characters that are lost behind the receiver, and that come twice.
    delay_s : float
        How long each way takes beside the line, in seconds.
    seed : int
        Of all that is random.
    """

    near_ppm: Ppm = 0.0
    far_ppm: Ppm = 0.0
    jitter_s: Seconds = 0.0
    bit_error_ratio: Ratio = 0.0
    signal_to_noise_db: float | None = Field(default=None, ge=-100, le=200)
    spikes_per_s: float = Field(default=0.0, ge=0, le=1e9)
    spike_s: float = Field(default=1e-6, gt=0, le=1)
    drop_ratio: Ratio = 0.0
    double_ratio: Ratio = 0.0
    delay_s: Seconds = 0.0
    seed: StrictInt = Field(default=1, ge=0)

    @model_validator(mode="after")
    def _goes_together(self) -> Impairments:
        if self.bit_error_ratio and self.signal_to_noise_db is not None:
            raise PydanticCustomError("wanted", "bit_error_ratio and signal_to_noise_db exclude each other.")
        if self.drop_ratio + self.double_ratio > 1:
            raise PydanticCustomError("wanted", "drop_ratio and double_ratio together must be at most 1.")
        return self
