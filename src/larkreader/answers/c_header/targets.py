"""What a compiler decides about a struct: how wide its types are, and where its bit-fields lie.

Sources: the procedure call standards of Arm (AAPCS32), AVR (the ABI page of GCC's wiki), MSP430 (TI SLAA534), RISC-V
and PowerPC (32-bit SVR4); the psABI of x86-64; for `windows` the rules of Microsoft's C compiler, as MinGW has them.
Tests compare each with what compilers make of random structs.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Literal

from larkreader.declare.common.byte_order import ByteOrder
from larkreader.errors import RequestError, nearest

TargetName = Literal["arm", "avr", "msp430", "riscv", "powerpc", "x86-64", "windows"]
_GCC = {"__GNUC__": "12", "__STDC__": "1", "__STDC_VERSION__": "199901L", "__CHAR_BIT__": "8"}
_ORDERS = {"__ORDER_LITTLE_ENDIAN__": "1234", "__ORDER_BIG_ENDIAN__": "4321"}


@dataclass(frozen=True)
class Target:
    """How a compiler lays out a struct.

    Parameters
    ----------
    name : str
        Of what kind the chip is.
    int_bits, long_bits, double_bits, pointer_bits : int
        Widths of types that the C standard leaves open.
    most_aligned : int
        To how many bits a type is aligned at most; a narrower type to its own width.
    byte_order : {"little", "big"}
        Of numbers in memory; with big, bit-fields fill a byte from its most significant bit.
    char_is_signed : bool
        Whether a plain ``char`` has a sign.
    short_enums : bool
        Whether an enum is as narrow as its values allow.
    unnamed_aligns : bool
        Whether an unnamed bit-field aligns its struct as a named bit-field does.
    own_units : bool
        Whether bit-fields of types of different width share no unit, as Microsoft's compiler has it.
    across_units : bool
        Whether a bit-field may begin in a unit of its type and end in the next, also where nothing is packed.
    macros : mapping of str to str
        What the compiler defines by itself.
    """

    name: TargetName
    int_bits: int = 32
    long_bits: int = 32
    double_bits: int = 64
    pointer_bits: int = 32
    most_aligned: int = 64
    byte_order: ByteOrder = "little"
    char_is_signed: bool = True
    short_enums: bool = False
    unnamed_aligns: bool = False
    own_units: bool = False
    across_units: bool = False
    macros: Mapping[str, str] = field(default_factory=dict)

    def __str__(self) -> str:
        return f"{self.name} (int of {self.int_bits} bits, {self.byte_order} endian)"

    @property
    def predefined(self) -> dict[str, str]:
        """The macros that are there before the first line of a header."""
        order = "1234" if self.byte_order == "little" else "4321"
        compiler = {} if self.own_units else _GCC
        return {**compiler, **_ORDERS, "__BYTE_ORDER__": order, **self.macros}


TARGETS: Mapping[str, Target] = {
    target.name: target
    for target in (
        Target("arm", char_is_signed=False, short_enums=True, unnamed_aligns=True, macros={"__arm__": "1"}),
        Target(
            "avr",
            int_bits=16,
            double_bits=32,
            pointer_bits=16,
            most_aligned=8,
            across_units=True,
            macros={"__AVR__": "1"},
        ),
        Target(
            "msp430", int_bits=16, pointer_bits=16, most_aligned=16, char_is_signed=False, macros={"__MSP430__": "1"}
        ),
        Target("riscv", char_is_signed=False, macros={"__riscv": "1"}),
        Target("powerpc", byte_order="big", char_is_signed=False, macros={"__powerpc__": "1"}),
        Target("x86-64", long_bits=64, pointer_bits=64, macros={"__x86_64__": "1"}),
        Target("windows", pointer_bits=64, own_units=True, macros={"_WIN32": "1", "_MSC_VER": "1930"}),
    )
}
"""The targets by name."""


def target_of(name: str) -> Target:
    """Return a target.

    Parameters
    ----------
    name : str
        One of `TARGETS`.

    Raises
    ------
    RequestError
        If there is no such target.
    """
    if name not in TARGETS:
        raise RequestError(
            "target", f'"{name}" is not known', f"must be {', '.join(TARGETS)}", nearest(name, [*TARGETS])
        )
    return TARGETS[name]
