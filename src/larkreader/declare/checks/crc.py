"""A CRC by its parameters.

A cyclic redundancy check (CRC) is described by the six parameters that the published catalogues use. The
register starts at `init`; a byte enters with its highest bit first, or its lowest if `reflect_in`; the result
is mirrored if `reflect_out` and combined with `final_xor` by exclusive or.
"""

from __future__ import annotations

from functools import lru_cache
from typing import ClassVar

from pydantic import BaseModel, Field, StrictBool, model_validator
from pydantic_core import PydanticCustomError


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
                'gives {found} for "123456789", but check is {check}.',
                {"found": f"0x{found:X}", "check": f"0x{self.check:X}"},
            )
        return self

    def of(self, data: bytes) -> int:
        """Return the CRC of `data`.

        Parameters
        ----------
        data : bytes
            What the CRC covers.
        """
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


@lru_cache(maxsize=256)
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
