"""Registers of a device, read from its description in CMSIS-SVD, an open XML format (Arm, CMSIS-SVD 1.3).

Understood are peripherals, clusters within clusters, registers and fields; what is derived from another of its kind;
arrays and lists of each (``dim``); and size and reset value where they are inherited.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from copy import deepcopy
from typing import NoReturn
from xml.etree import ElementTree as ET

from pydantic import ValidationError

from larkreader.errors import Mistake, SheetError
from larkreader.harmless import harmless

from .registers import Register

MOST_REGISTERS = 200_000
_INHERITED = ("size", "resetValue")
_RANGE = re.compile(r"(\d{1,9})-(\d{1,9})|([A-Z])-([A-Z])")
_BIT_RANGE = re.compile(r"\[(\d{1,9}):(\d{1,9})\]")


def read_svd(data: bytes, name: str = "SVD") -> dict[str, Register]:
    """Read the registers of a device.

    Parameters
    ----------
    data : bytes
        The content of the file.
    name : str
        What to call it in messages.

    Returns
    -------
    dict of str to Register
        By peripheral, clusters and name, with points between them, as in ``"UART0.CTRL"``.

    Raises
    ------
    SheetError
        If it is not such a file, or refers to what it does not have.
    """
    if b"<!DOCTYPE" in data[:4096] or b"<!ENTITY" in data:
        _refuse(name, "the document", "declares entities, which such a file does not need")
    try:
        root = ET.fromstring(data)
    except ET.ParseError as error:
        _refuse(name, f"line {error.position[0]}", f"is not XML: {error.msg if hasattr(error, 'msg') else error}")
    if root.tag != "device":
        _refuse(name, f"<{root.tag}>", "must be <device>")
    return dict(_Device(root, name).registers())


class _Device:
    """The peripherals of a device."""

    def __init__(self, root: ET.Element, name: str) -> None:
        self.name = name
        self.defaults = _own_defaults(root, {"size": "32", "resetValue": "0"})
        self.peripherals = {_text(item, "name"): item for item in root.iterfind("peripherals/peripheral")}
        self.count = 0

    def registers(self) -> Iterator[tuple[str, Register]]:
        for key in list(self.peripherals):
            for name, peripheral in self._repeated(self._derived(self.peripherals[key], self.peripherals, key)):
                defaults = _own_defaults(peripheral, self.defaults)
                block = peripheral.find("registers")
                if block is not None:
                    yield from self._block(block, name, defaults, depth=0)

    def _block(
        self, block: ET.Element, path: str, defaults: Mapping[str, str], depth: int
    ) -> Iterator[tuple[str, Register]]:
        """Yield the registers of a peripheral or a cluster, those of its clusters too."""
        if depth > 16:
            _refuse(self.name, path, "has clusters within clusters without end")
        known = {_text(item, "name"): item for item in block.iterfind("register")}
        clusters = {_text(item, "name"): item for item in block.iterfind("cluster")}
        for key, found in known.items():
            for name, item in self._repeated(self._derived(found, known, f"{path}.{key}")):
                yield f"{path}.{name}", self._register(item, f"{path}.{name}", _own_defaults(item, defaults))
        for key, found in clusters.items():
            for name, item in self._repeated(self._derived(found, clusters, f"{path}.{key}")):
                yield from self._block(item, f"{path}.{name}", _own_defaults(item, defaults), depth + 1)

    def _register(self, element: ET.Element, path: str, defaults: Mapping[str, str]) -> Register:
        self.count += 1
        if self.count > MOST_REGISTERS:
            _refuse(self.name, path, f"is one of more than {MOST_REGISTERS:,} registers")
        known = {_text(field, "name"): field for field in element.iterfind("fields/field")}
        fields = {}
        for key, found in known.items():
            width = 0
            for number, (name, field) in enumerate(self._repeated(self._derived(found, known, f"{path}.{key}"))):
                high, low = self._span(field, f"{path}.{name}")
                width = _number(_text(field, "dimIncrement", "0")) * number
                fields[name] = (f"{high + width}:{low + width}",)
        bits = _number(defaults["size"])
        reset = _number(defaults["resetValue"]) & (1 << min(bits, 64)) - 1
        try:
            return Register(key=path, bits=bits, reset=reset, fields=fields)
        except ValidationError as error:
            _refuse(self.name, path, f"is not possible: {error.errors()[0]['msg']}")

    def _span(self, field: ET.Element, path: str) -> tuple[int, int]:
        """Return the highest and the lowest bit of a field, in whichever of three ways they are written."""
        if match := _BIT_RANGE.fullmatch(_text(field, "bitRange", "")):
            return int(match[1]), int(match[2])
        if field.find("lsb") is not None:
            return _number(_text(field, "msb")), _number(_text(field, "lsb"))
        if field.find("bitOffset") is not None:
            low = _number(_text(field, "bitOffset"))
            return low + _number(_text(field, "bitWidth", "1")) - 1, low
        return _refuse(self.name, path, "does not contain its bits")

    def _derived(
        self, element: ET.Element, siblings: Mapping[str, ET.Element], path: str, depth: int = 0
    ) -> ET.Element:
        """Return an element with what it inherits from the element that it is derived from."""
        source = element.get("derivedFrom")
        if source is None:
            return element
        found = siblings.get(source, siblings.get(source.rpartition(".")[2]))
        if found is None and element.tag == "register":
            found = self._elsewhere(source)
        if found is None or depth > 16:
            _refuse(
                self.name,
                path,
                f"is derived from {source}, " + ("which is not there" if found is None else "in a ring"),
            )
        merged = deepcopy(self._derived(found, siblings, path, depth + 1))
        own = {child.tag for child in element}
        for child in [child for child in merged if child.tag in own]:
            merged.remove(child)
        merged.extend(element)
        return merged

    def _elsewhere(self, source: str) -> ET.Element | None:
        """Find a register of another peripheral, as in ``UART0.CTRL``."""
        peripheral, _, name = source.partition(".")
        block = self.peripherals.get(peripheral)
        every = [] if block is None else block.iterfind("registers//register")
        return next((item for item in every if _text(item, "name") == name.rpartition(".")[2]), None)

    def _repeated(self, element: ET.Element) -> Iterator[tuple[str, ET.Element]]:
        """Yield an element by its name, or each of an array or list of them."""
        name = _text(element, "name")
        if element.find("dim") is None:
            yield name, element
            return
        count = _number(_text(element, "dim"))
        if count > MOST_REGISTERS:
            _refuse(self.name, name, f"has {count:,} of its kind")
        index = _indices(_text(element, "dimIndex", ""), count)
        for number in index:
            yield name.replace("[%s]", number).replace("%s", number), element


def _indices(text: str, count: int) -> list[str]:
    """Return what stands for ``%s`` in the name of each."""
    if match := _RANGE.fullmatch(text.strip()):
        first, last = (int(match[1]), int(match[2])) if match[1] else (ord(match[3]), ord(match[4]))
        return [str(item) if match[1] else chr(item) for item in range(first, min(last, first + count - 1) + 1)]
    named = [part.strip() for part in text.split(",") if part.strip()]
    return named[:count] if len(named) >= count else [str(item) for item in range(count)]


def _own_defaults(element: ET.Element, inherited: Mapping[str, str]) -> dict[str, str]:
    return {name: _text(element, name, inherited[name]) for name in _INHERITED}


def _text(element: ET.Element, tag: str, unless: str | None = None) -> str:
    found = element.findtext(tag)
    if found is None and unless is None:
        _refuse("SVD", f"<{element.tag}>", f"lacks <{tag}>")
    return (unless or "") if found is None else harmless(found.strip(), is_name=True)


def _number(text: str) -> int:
    """Read a number as such files write it: decimal, hexadecimal with 0x, or binary with #, x for any bit."""
    text = text.strip().lower().removeprefix("+")
    try:
        if text.startswith("#"):
            return int(text[1:].replace("x", "0"), 2)
        return int(text, 16) if text.startswith("0x") else int(text)
    except ValueError:
        _refuse("SVD", f'"{text[:40]}"', "must be a number")


def _refuse(name: str, where: str, wanted: str) -> NoReturn:
    raise SheetError(name, [Mistake(where, "", wanted)])
