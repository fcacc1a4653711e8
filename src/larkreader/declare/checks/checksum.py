"""Which check value a frame carries, and over which bytes."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated

from pydantic import AliasChoices, BaseModel, Discriminator, Field, Tag, field_validator
from pydantic_core import PydanticCustomError

from larkreader.declare.common.byte_order import ByteOrder
from larkreader.declare.common.given import Input, Table
from larkreader.errors import nearest

from .crc import CrcAlgorithm
from .crc_catalogue import CATALOGUE
from .sums import SUMS, SumAlgorithm

Algorithm = CrcAlgorithm | SumAlgorithm
ALGORITHMS: Mapping[str, Algorithm] = {**CATALOGUE, **SUMS}


class FrameChecksum(BaseModel, frozen=True, extra="forbid"):
    """Which check value a frame carries, and over which bytes.

    Parameters
    ----------
    algorithm : str or CrcAlgorithm
        A name of `ALGORITHMS`, or the parameters of a CRC.
    from_ : str, optional
        First field covered (``from`` in a sheet), or ``"marker"``. The frame's first byte by default.
    to : str, optional
        Last field covered. The field before the checksum by default.
    order : {"little", "big"}, optional
        Byte order in which it is stored. Little with lsb packing, big with msb by default.
    """

    algorithm: Input[
        Annotated[
            Annotated[str, Tag("name")] | Annotated[CrcAlgorithm, Tag("parameters")],
            Discriminator(lambda entry: "name" if isinstance(entry, str) else "parameters"),
        ],
        str | CrcAlgorithm | Table,
    ]
    from_: str | None = Field(default=None, validation_alias=AliasChoices("from", "from_"), serialization_alias="from")
    to: str | None = None
    order: ByteOrder | None = None

    @field_validator("algorithm")
    @classmethod
    def _algorithm_is_known(cls, algorithm: str | CrcAlgorithm) -> str | CrcAlgorithm:
        if isinstance(algorithm, str):
            by_upper = {name.upper(): name for name in ALGORITHMS}
            if algorithm.upper() not in by_upper:
                raise PydanticCustomError(
                    "wanted",
                    "is not in the catalogue. {advice}",
                    {"advice": nearest(algorithm, list(ALGORITHMS))},
                )
            return by_upper[algorithm.upper()]
        return algorithm

    @property
    def method(self) -> Algorithm:
        """The algorithm with its parameters."""
        return ALGORITHMS[self.algorithm] if isinstance(self.algorithm, str) else self.algorithm
