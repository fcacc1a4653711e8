"""What compilers make of random structs, with values in them, as bytes of an object file."""

from __future__ import annotations

import random
import shutil
import struct
import subprocess
from pathlib import Path

from larkreader.answers.c_header.leaves import Leaf

CLANG = ("clang", "-c", "-x", "c", "-std=gnu11", "-ffreestanding", "-w", "-target")
COMPILERS = {
    "arm": [
        ["arm-none-eabi-gcc", "-c", "-w", "-Wno-packed-bitfield-compat"],
        [*CLANG, "arm-none-eabi", "-fshort-enums"],
    ],
    "avr": [["avr-gcc", "-c", "-w", "-Wno-packed-bitfield-compat"]],
    "msp430": [[*CLANG, "msp430"]],
    "riscv": [[*CLANG, "riscv32-none-elf"]],
    "powerpc": [[*CLANG, "powerpc-none-elf"]],
    "x86-64": [["gcc", "-c", "-w", "-Wno-packed-bitfield-compat"], [*CLANG, "x86_64-linux-gnu"]],
    "windows": [[*CLANG, "x86_64-pc-windows-msvc-elf"]],
}
_INTEGERS = {"uint8_t": 8, "int8_t": 8, "uint16_t": 16, "int16_t": 16, "uint32_t": 32, "int32_t": 32, "uint64_t": 64,
             "unsigned char": 8, "short": 16, "unsigned": 16, "int": 16, "long": 32, "enum level": 3}  # fmt: skip


def compilers(target: str) -> list[list[str]]:
    """Return the compilers of a target that are on this machine."""
    return [command for command in COMPILERS[target] if shutil.which(command[0])]


def random_struct(generator: random.Random, name: str, depth: int = 0) -> str:
    """Write a struct of random members, as text."""
    members = []
    for number in range(generator.randint(1, 7)):
        called, kind = f"m{number}", generator.choice([*_INTEGERS, "float", "double"])
        own = generator.choice([""] * 6 + [" __attribute__((packed))", " __attribute__((aligned(4)))"])
        draw = generator.random()
        if depth < 2 and draw < 0.12:
            turns = generator.choice(["", "[2]", "[3][2]"])
            word = generator.choice(["struct", "struct", "union"])
            inner = "struct { %s } v; uint8_t raw[2];" if word == "union" else "%s"
            body = inner % random_struct(generator, "", depth + 1)
            members.append(f"{word}{_packed(generator)} {{ {body} }} {called}{turns};")
        elif draw < 0.55 and kind in _INTEGERS:
            width = generator.randint(1, _INTEGERS[kind])
            aligned = own if "aligned" not in own else ""
            members.append(
                generator.choice([f"{kind} {called} : {width}{aligned};"] * 8 + [f"{kind} : {width};", f"{kind} : 0;"])
            )
            members.append(f"uint8_t n{number};" * generator.randint(0, 1))
        else:
            turns = generator.choice(["", "", "", "[3]", "[2][2]"])
            members.append(f"{kind} {called}{turns}{own};")
    body = " ".join(members)
    if not name:
        return body + " uint8_t last;"
    pack = generator.choice([None, None, None, 1, 2, 4])
    packed = _packed(generator) if pack is None else ""
    text = f"struct{packed} {name} {{ {body} uint8_t last; }};\n"
    return text if pack is None else f"#pragma pack(push, {pack})\n{text}#pragma pack(pop)\n"


def _packed(generator: random.Random) -> str:
    return generator.choice(["", "", " __attribute__((packed))", " __attribute__((packed, aligned(2)))"])


def filled(generator: random.Random, name: str, leaves: list[Leaf]) -> tuple[str, dict[tuple[str, int], int]]:
    """Write a constant of a struct with random values in all its numbers; return it and their bits."""
    parts, bits = [], {}
    for leaf in leaves:
        if not leaf.path:
            continue
        for item in range(leaf.count):
            path = _element(leaf, item)
            if leaf.number.kind == "float":
                value = generator.randint(-99, 99) / 4
                code = "<f" if leaf.bits == 32 else "<d"
                bits[leaf.path, item] = int.from_bytes(struct.pack(code, value), "little")
                parts.append(f".{path} = {value}")
            else:
                raw = bits[leaf.path, item] = generator.getrandbits(leaf.bits)
                negative = leaf.number.kind == "int" and raw >> leaf.bits - 1
                parts.append(f".{path} = {raw - (1 << leaf.bits) if negative else raw}LL")
                if leaf.bits == 64:
                    parts[-1] = f".{path} = (long long){raw}ULL"
    return f'const struct {name} probe_{name} __attribute__((section(".{name}"))) = {{ {", ".join(parts)} }};\n', bits


def _element(leaf: Leaf, item: int) -> str:
    """Return how C names an item of a leaf."""
    indices = []
    for many, _ in reversed(leaf.turns):
        item, index = divmod(item, many)
        indices.append(index)
    path = leaf.shown
    for many, _ in leaf.turns:
        path = path.replace(f"[{many}]", f"<{indices.pop()}>", 1)
    return path.replace("<", "[").replace(">", "]")


def compiled(command: list[str], text: str, folder: Path) -> dict[str, bytes]:
    """Compile C, and return the content of each section of the object file (ELF, 32 or 64 bits)."""
    source, made = folder / "probe.c", folder / "probe.o"
    source.write_text(text)
    subprocess.run([*command, str(source), "-o", str(made)], check=True, timeout=120)
    data = made.read_bytes()
    end = "<" if data[5] == 1 else ">"
    if data[4] == 2:
        offset, (size, count, names) = (
            struct.unpack_from(end + "Q", data, 40)[0],
            struct.unpack_from(end + "3H", data, 58),
        )
        form = end + "IIQQQQ"
    else:
        offset, (size, count, names) = (
            struct.unpack_from(end + "I", data, 32)[0],
            struct.unpack_from(end + "3H", data, 46),
        )
        form = end + "IIIIII"
    headers = [struct.unpack_from(form, data, offset + number * size) for number in range(count)]
    table = headers[names][4]
    called = [data[table + header[0] :].split(b"\0", 1)[0].decode() for header in headers]
    return {name: data[header[4] : header[4] + header[5]] for name, header in zip(called, headers, strict=True)}
