"""Check algorithms by their parameters.

A cyclic redundancy check (CRC) is described by the six parameters that the published catalogues use. The
register starts at `init`; a byte enters with its highest bit first, or its lowest if `reflect_in`; the result
is mirrored if `reflect_out` and combined with `final_xor` by exclusive or.
"""

from __future__ import annotations

from collections.abc import Mapping
from functools import lru_cache
from typing import Annotated, ClassVar

from pydantic import BaseModel, Discriminator, Field, StrictBool, Tag, field_validator, model_validator
from pydantic_core import PydanticCustomError

from larkreader.errors import nearest

from .fields import ByteOrder


class CrcAlgorithm(BaseModel, frozen=True, extra="forbid"):
    """A CRC by its parameters.

    Parameters
    ----------
    width : int
        Width of the register in bits, 3 to 64.
    poly : int
        Generator polynomial without its highest term, highest power first.
    init : int
        What the register holds at the start.
    reflect_in, reflect_out : bool
        Whether bytes enter lowest bit first; whether the result is mirrored.
    final_xor : int
        Combined with the result by exclusive or.
    check : int, optional
        The CRC of the nine ASCII characters ``123456789``. Where it is given it must come out.
    """

    tag: ClassVar[str] = "parameters"

    width: int = Field(ge=3, le=64)
    poly: int = Field(ge=1)
    init: int = Field(default=0, ge=0)
    reflect_in: StrictBool = False
    reflect_out: StrictBool = False
    final_xor: int = Field(default=0, ge=0)
    check: int | None = None

    @model_validator(mode="after")
    def _parameters_agree(self) -> CrcAlgorithm:
        for name in ("poly", "init", "final_xor"):
            if getattr(self, name) >> self.width:
                raise PydanticCustomError(
                    "wanted",
                    "has a {name} that does not fit into {width} bits.",
                    {"name": name, "width": self.width},
                )
        if self.check is not None and (found := self.of(b"123456789")) != self.check:
            raise PydanticCustomError(
                "wanted",
                'gives {found} for "123456789", not the {check} that check says.',
                {"found": f"0x{found:X}", "check": f"0x{self.check:X}"},
            )
        return self

    def of(self, data: bytes) -> int:
        """Return the CRC of `data`."""
        table = crc_table(self.width, self.poly, self.reflect_in)
        register = start_register(self)
        if self.reflect_in:
            for byte in data:
                register = register >> 8 ^ table[(register ^ byte) & 0xFF]
        else:
            top = max(self.width, 8)  # a register narrower than a byte is kept at the top of one
            mask = (1 << top) - 1
            for byte in data:
                register = register << 8 & mask ^ table[register >> top - 8 ^ byte]
        return finish(self, register)


def start_register(crc: CrcAlgorithm) -> int:
    """Return the register's first content, in the form in which `crc_table` works on it."""
    if crc.reflect_in:
        return reflect(crc.init, crc.width)
    return crc.init << max(8 - crc.width, 0)


def finish(crc: CrcAlgorithm, register: int) -> int:
    """Turn the register's last content, in the form in which `crc_table` works on it, into the result."""
    if not crc.reflect_in:
        register >>= max(8 - crc.width, 0)
    if crc.reflect_in != crc.reflect_out:
        register = reflect(register, crc.width)
    return register ^ crc.final_xor


@lru_cache(maxsize=64)
def crc_table(width: int, poly: int, reflected: bool) -> tuple[int, ...]:
    """Return what each byte value adds to the register, 256 entries.

    The register is mirrored if `reflected`; else it stands at the top of max(width, 8) bits.
    """
    entries = []
    if reflected:
        mirrored = reflect(poly, width)
        for register in range(256):
            for _ in range(8):
                register = register >> 1 ^ (mirrored if register & 1 else 0)
            entries.append(register)
        return tuple(entries)
    top = max(width, 8)
    mask, shifted = (1 << top) - 1, poly << top - width
    for byte in range(256):
        register = byte << top - 8
        for _ in range(8):
            register = (register << 1 ^ (shifted if register >> top - 1 else 0)) & mask
        entries.append(register)
    return tuple(entries)


def reflect(value: int, width: int) -> int:
    """Mirror the lowest `width` bits of `value`."""
    return int(f"{value:0{width}b}"[::-1], 2)


def _crc(width: int, poly: int, init: int, reflected: bool, final_xor: int, check: int) -> CrcAlgorithm:
    return CrcAlgorithm.model_construct(
        width=width,
        poly=poly,
        init=init,
        reflect_in=reflected,
        reflect_out=reflected,
        final_xor=final_xor,
        check=check,
    )


# Names, parameters and check values as in the public catalogue of parametrised CRC algorithms; the tests compute each
# check value bit by bit. Columns: width, poly, init, reflected in and out, final xor, check.
CATALOGUE: Mapping[str, CrcAlgorithm] = {
    "CRC-4/G-704": _crc(4, 0x3, 0x0, True, 0x0, 0x7),
    "CRC-5/USB": _crc(5, 0x05, 0x1F, True, 0x1F, 0x19),
    "CRC-7/MMC": _crc(7, 0x09, 0x00, False, 0x00, 0x75),
    "CRC-8/SMBUS": _crc(8, 0x07, 0x00, False, 0x00, 0xF4),
    "CRC-8/AUTOSAR": _crc(8, 0x2F, 0xFF, False, 0xFF, 0xDF),
    "CRC-8/BLUETOOTH": _crc(8, 0xA7, 0x00, True, 0x00, 0x26),
    "CRC-8/MAXIM-DOW": _crc(8, 0x31, 0x00, True, 0x00, 0xA1),
    "CRC-8/SAE-J1850": _crc(8, 0x1D, 0xFF, False, 0xFF, 0x4B),
    "CRC-15/CAN": _crc(15, 0x4599, 0x0000, False, 0x0000, 0x059E),
    "CRC-16/ARC": _crc(16, 0x8005, 0x0000, True, 0x0000, 0xBB3D),
    "CRC-16/DNP": _crc(16, 0x3D65, 0x0000, True, 0xFFFF, 0xEA82),
    "CRC-16/GENIBUS": _crc(16, 0x1021, 0xFFFF, False, 0xFFFF, 0xD64E),
    "CRC-16/IBM-3740": _crc(16, 0x1021, 0xFFFF, False, 0x0000, 0x29B1),
    "CRC-16/IBM-SDLC": _crc(16, 0x1021, 0xFFFF, True, 0xFFFF, 0x906E),
    "CRC-16/KERMIT": _crc(16, 0x1021, 0x0000, True, 0x0000, 0x2189),
    "CRC-16/MODBUS": _crc(16, 0x8005, 0xFFFF, True, 0x0000, 0x4B37),
    "CRC-16/SPI-FUJITSU": _crc(16, 0x1021, 0x1D0F, False, 0x0000, 0xE5CC),
    "CRC-16/USB": _crc(16, 0x8005, 0xFFFF, True, 0xFFFF, 0xB4C8),
    "CRC-16/XMODEM": _crc(16, 0x1021, 0x0000, False, 0x0000, 0x31C3),
    "CRC-24/OPENPGP": _crc(24, 0x864CFB, 0xB704CE, False, 0x000000, 0x21CF02),
    "CRC-32/BZIP2": _crc(32, 0x04C11DB7, 0xFFFFFFFF, False, 0xFFFFFFFF, 0xFC891918),
    "CRC-32/CKSUM": _crc(32, 0x04C11DB7, 0x00000000, False, 0xFFFFFFFF, 0x765E7680),
    "CRC-32/ISCSI": _crc(32, 0x1EDC6F41, 0xFFFFFFFF, True, 0xFFFFFFFF, 0xE3069283),
    "CRC-32/ISO-HDLC": _crc(32, 0x04C11DB7, 0xFFFFFFFF, True, 0xFFFFFFFF, 0xCBF43926),
    "CRC-32/MPEG-2": _crc(32, 0x04C11DB7, 0xFFFFFFFF, False, 0x00000000, 0x0376E6E7),
    "CRC-64/ECMA-182": _crc(64, 0x42F0E1EBA9EA3693, 0, False, 0, 0x6C40DF5F0B497347),
    "CRC-64/XZ": _crc(64, 0x42F0E1EBA9EA3693, 0xFFFFFFFFFFFFFFFF, True, 0xFFFFFFFFFFFFFFFF, 0x995DC9BBDF1939FA),
}


class FrameChecksum(BaseModel, frozen=True, extra="forbid", populate_by_name=True):
    """Which check value a frame carries, and over which bytes.

    Parameters
    ----------
    algorithm : str or CrcAlgorithm
        A name of `CATALOGUE`, or the parameters.
    from_ : str, optional
        First field covered (``from`` in a sheet), or ``"marker"``. The frame's first byte unless said.
    to : str, optional
        Last field covered. The one before the checksum unless said.
    order : {"little", "big"}, optional
        Byte order in which it is stored. Little with lsb packing, big with msb unless said.
    """

    algorithm: Annotated[
        Annotated[str, Tag("name")] | Annotated[CrcAlgorithm, Tag("parameters")],
        Discriminator(lambda entry: "name" if isinstance(entry, str) else "parameters"),
    ]
    from_: str | None = Field(default=None, alias="from")
    to: str | None = None
    order: ByteOrder | None = None

    @field_validator("algorithm")
    @classmethod
    def _algorithm_is_known(cls, algorithm: str | CrcAlgorithm) -> str | CrcAlgorithm:
        if isinstance(algorithm, str):
            by_upper = {name.upper(): name for name in CATALOGUE}
            if algorithm.upper() not in by_upper:
                raise PydanticCustomError(
                    "wanted",
                    "is not in the catalogue. {advice}",
                    {"advice": nearest(algorithm, list(CATALOGUE))},
                )
            return by_upper[algorithm.upper()]
        return algorithm

    @property
    def crc(self) -> CrcAlgorithm:
        """The algorithm with its parameters."""
        return CATALOGUE[self.algorithm] if isinstance(self.algorithm, str) else self.algorithm
