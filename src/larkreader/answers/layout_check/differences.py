"""How a field of a layout and its members in a struct differ, and what of it a header cannot show."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping

from larkreader.answers.c_header.leaves import Leaf
from larkreader.answers.c_header.targets import Target
from larkreader.declare.frame.field_kinds import raw_limits

from .compared import Difference
from .matched import Match
from .sheet_side import Stretch

_WHOLE = ("uint", "int", "bool", "char")
_UNKNOWN = {"kind": "kind of number", "sign": "sign", "order": "byte order"}
_NUMBERS_OF_NAMES = re.compile(r"(count|max|min|num|number|last|size|end)$")


def differences(match: Match, begin: int, target: Target) -> Iterator[Difference]:
    """Yield what differs between a field and its member, without order and place among the others.

    Parameters
    ----------
    match : Match
        Both.
    begin : int
        At which bit of a frame the struct begins.
    target : Target
        Whose compiler.
    """
    item, leaf = match.stretch, match.leaves[0]
    if match.is_part or len(match.leaves) > 1 or item.kind == "marker":
        return
    if is_bytes(item, leaf) or is_one_number(item, leaf):
        pass
    elif item.bits != leaf.bits:
        yield Difference("width", item.bits, leaf.bits)
    elif not item.varies and not leaf.is_open and len(item.first_bits) != leaf.count:
        yield Difference("number", len(item.first_bits), leaf.count)
    elif (spacing := _spacings(item, leaf)) is not None:
        yield Difference("spacing", *spacing)
    elif item.bits > 8 and not item.is_free and "order" not in leaf.unknown and _orders_differ(item, leaf, begin):
        yield Difference("byte order", _order_of(item), leaf.order)
    if item.kind == "reserved" or is_bytes(item, leaf):
        return
    yield from _of_kind(item, leaf, target)
    yield from _of_names(item, leaf)


def unseen(match: Match, begin: int, target: Target) -> Iterator[str]:
    """Yield what a header cannot show of a field, though it may differ; see `differences`."""
    item, leaf = match.stretch, match.leaves[0]
    if item.kind == "marker":
        return
    if match.is_part:
        yield f"part of {leaf.text}; where it lies in there is not in the header"
    elif len(match.leaves) > 1:
        if item.kind != "reserved" and not _is_an_item_each(match, begin):
            yield f"{', '.join(part.name for part in match.leaves)} hold it together; how is not in the header"
    elif is_bytes(item, leaf):
        yield "C has bytes; their order and their sign are not in the header"
    if item.moves:
        yield "lies elsewhere in other frames"
    elif item.varies and not leaf.is_open:
        yield f"how many there are differs from frame to frame; C has {leaf.count}"
    missing = [
        what
        for what, is_open in (
            ("kind", item.kind == "float"),
            ("sign", item.kind == "int"),
            ("order", item.bits > 8 and item.slot is not None and item.slot.order is not None),
        )
        if is_open and what in leaf.unknown
    ]
    if missing:
        yield f"its {' and '.join(_UNKNOWN[what] for what in missing)} is not in the table"
    if item.kind == "bcd":
        yield "decimal digits, for which C has no type"
    coding = None if item.slot is None else item.slot.coding
    if item.kind == "int" and coding != "twos-complement":
        yield f"negative numbers are held as {coding}, for which C has no type"
    if item.kind in ("flag", "uint") and leaf.number.kind == "int" and leaf.bits == 1:
        yield "a signed number of 1 bit, which holds 0 and -1 in C"
    if leaf.number.text == "char" and item.kind in ("uint", "int") and not match.is_part:
        sign = "a" if target.char_is_signed else "no"
        yield f"a plain char has {sign} sign on {target.name}, and other compilers differ"


def _is_an_item_each(match: Match, begin: int) -> bool:
    """Return whether each of several members is an item of an array, in order."""
    item = match.stretch
    held = [leaf.places(begin + first) for leaf in match.leaves for first in leaf.first_bits()]
    return held == [item.places(first) for first in item.first_bits]


def is_bytes(item: Stretch, leaf: Leaf) -> bool:
    """Return whether C has a row of bytes for a wider number."""
    whole = item.bits > 8 and item.kind not in ("bytes", "text")
    total = item.bits * len(item.first_bits)
    return whole and leaf.bits == 8 and leaf.number.kind in _WHOLE and leaf.count > 1 and 8 * leaf.count == total


def is_one_number(item: Stretch, leaf: Leaf) -> bool:
    """Return whether C has a single number for flags, or flags for a single number."""
    many, few = len(item.first_bits), leaf.count
    return item.kind == "flag" and few == 1 and many > 1 and leaf.bits == many and leaf.number.kind != "float"


def _orders_differ(item: Stretch, leaf: Leaf, begin: int) -> bool:
    """Return whether an item's bits lie in another order, wherever it begins."""
    ours = item.places(item.first_bit)
    theirs = leaf.places(begin + leaf.first_bit)
    if item.first_bit % 8 == (begin + leaf.first_bit) % 8 == 0:
        return [place - min(ours) for place in ours] != [place - min(theirs) for place in theirs]
    return (ours[-1] > ours[0]) != (theirs[-1] > theirs[0])


def _spacings(item: Stretch, leaf: Leaf) -> tuple[int, int] | None:
    """Return how many bits apart the items of both lie where that differs first."""
    theirs = leaf.first_bits()
    ours = item.first_bits
    for at in range(1, min(len(ours), len(theirs))):
        if ours[at] - ours[0] != theirs[at] - theirs[0]:
            return ours[at] - ours[at - 1], theirs[at] - theirs[at - 1]
    return None


def _order_of(item: Stretch) -> str:
    if item.slot is not None and item.slot.order is not None:
        return item.slot.order
    return "little" if item.packing == "lsb" else "big"


def _of_kind(item: Stretch, leaf: Leaf, target: Target) -> Iterator[Difference]:
    theirs: str = leaf.number.kind
    if theirs == "char":
        theirs = item.kind if item.kind in ("text", "bytes") else "int" if target.char_is_signed else "uint"
    has_sign = theirs == "int"
    if (item.kind == "float") != (theirs == "float"):
        if "kind" not in leaf.unknown:
            yield Difference("kind", item.text, leaf.number.text)
    elif "sign" in leaf.unknown:
        return
    elif item.kind in ("uint", "checksum", "bcd") and has_sign and leaf.bits > 1:
        yield Difference("sign", "unsigned", "signed")
    elif item.kind == "int" and not has_sign and item.slot is not None and item.slot.coding == "twos-complement":
        yield Difference("sign", "signed", "unsigned")


def _of_names(item: Stretch, leaf: Leaf) -> Iterator[Difference]:
    """Yield names of values that stand for other numbers in C, and numbers that have a name in the sheet alone."""
    field = None if item.slot is None else item.slot.field
    if field is None or not field.names or not leaf.number.names:
        return
    low, high = raw_limits("int" if leaf.number.kind == "int" and leaf.bits > 1 else "uint", leaf.bits)
    theirs = {key: value for key, value in without_prefix(leaf.number.names, item.name).items() if low <= value <= high}
    for name, value in field.names.items():
        key = name.lower().replace("_", "")
        if key in theirs and theirs[key] != value:
            yield Difference("names", f"{name} = {value}", f"{name} = {theirs[key]}")
        elif key not in theirs and value not in theirs.values():
            yield Difference("names", f"{name} = {value}", f"no {value}")
    known = set(field.names.values())
    for key, value in theirs.items():
        named = any(key == name.lower().replace("_", "") for name in field.names)
        if value not in known and not named and not _NUMBERS_OF_NAMES.search(key):
            yield Difference("names", f"no {value}", f"{key} = {value}")


def without_prefix(names: Mapping[str, int], field: str) -> dict[str, int]:
    """Return the values of an enum by name, without what all names begin with, in small letters.

    Parameters
    ----------
    names : mapping of str to int
        The enum.
    field : str
        What the field is called, which a prefix as a rule repeats.
    """
    return {name.lower().replace("_", ""): value for name, value in plain_names(names, field).items()}


def plain_names(names: Mapping[str, int], field: str) -> dict[str, int]:
    """Return the values of an enum by name, without the words that all names begin with, in small letters."""
    words = [name.lower().split("_") for name in names]
    shared = 0
    if len(words) == 1 and words[0][:-1] == field.lower().split("_"):
        shared = len(words[0]) - 1
    while len(words) > 1 and all(len(part) > shared + 1 and part[shared] == words[0][shared] for part in words):
        shared += 1
    return {"_".join(part[shared:]): value for part, value in zip(words, names.values(), strict=True)}
