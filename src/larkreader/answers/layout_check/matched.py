"""Which member of a struct is which field of a layout: by name, by place, and by the neighbours of both."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from larkreader.answers.c_header.leaves import Leaf
from larkreader.errors import RequestError, nearest

from .sheet_side import Stretch

_FREE = re.compile(r"(reserved|rsvd|res|rfu|pad|padding|unused|spare|dummy|filler|_)(_?(bits?|bytes?))?_?\d*$")


@dataclass(frozen=True)
class Match:
    """A stretch of the layout with its members in a struct.

    Parameters
    ----------
    stretch : Stretch
        Of the layout.
    leaves : tuple of Leaf
        The members; without any, only the sheet has it.
    is_part : bool
        Whether the member holds other stretches too.
    """

    stretch: Stretch
    leaves: tuple[Leaf, ...] = ()
    is_part: bool = False


def plain_struct(name: str) -> str:
    """Return the name of a struct without endings such as `_t` and `_frame`, as a frame is called."""
    plain = name.rsplit(".", 1)[-1].removesuffix("_t")
    return re.sub(r"_(s|st|struct|frame|msg|message|packet)$", "", plain, flags=re.IGNORECASE)


def is_free(leaf: Leaf) -> bool:
    """Return whether a member carries nothing, by its name."""
    return not leaf.path or is_free_name(leaf.name)


def is_free_name(name: str) -> bool:
    """Return whether a member of this name carries nothing: ``reserved``, ``pad2``, ``unused``."""
    return bool(_FREE.match(name.lower()))


def matches(found: Sequence[Stretch], leaves: Sequence[Leaf], begin: int, same: Mapping[str, str]) -> list[Match]:
    """Return each stretch with its members.

    Parameters
    ----------
    found : sequence of Stretch
        Of the layout, in order.
    leaves : sequence of Leaf
        Of the struct, in order.
    begin : int
        At which bit of a frame the struct begins.
    same : mapping of str to str
        Fields by the members that are the same, where that is declared.

    Raises
    ------
    RequestError
        If `same` names what is not there.
    """
    pairs: dict[int, tuple[Leaf, ...]] = {}
    left = list(leaves)
    bits = {id(leaf): frozenset(_places(leaf, begin)) for leaf in leaves}
    _declared(found, left, same, pairs)
    _by_name(found, left, pairs, whole=True)
    _by_name(found, left, pairs, whole=False)
    _by_place(found, left, bits, pairs)
    _by_parts(found, left, bits, pairs)
    shared = _in_one(found, left, bits, pairs)
    shared |= _by_neighbours(found, leaves, left, pairs)
    return [Match(item, pairs.get(number, ()), number in shared) for number, item in enumerate(found)]


def _declared(
    found: Sequence[Stretch], left: list[Leaf], same: Mapping[str, str], pairs: dict[int, tuple[Leaf, ...]]
) -> None:
    names, paths = [item.name for item in found], [leaf.path for leaf in left]
    for path, name in same.items():
        if name not in names:
            raise RequestError(name, "is not a field of the layout", "must be", nearest(name, names))
        if path not in paths:
            raise RequestError(
                path, "is not a member of the struct", "must be", nearest(path, list(filter(None, paths)))
            )
        leaf = next(leaf for leaf in left if leaf.path == path)
        pairs[names.index(name)] = (leaf,)
        left.remove(leaf)


def _key(name: str) -> str:
    return name.lower().replace("_", "")


def _by_name(found: Sequence[Stretch], left: list[Leaf], pairs: dict[int, tuple[Leaf, ...]], *, whole: bool) -> None:
    """Match equal names: with those of the groups and structs around them, or without."""

    def key(name: str) -> str:
        return ".".join(map(_key, name.split("."))) if whole else _key(name.rsplit(".", 1)[-1])

    for number, item in enumerate(found):
        if number in pairs or item.is_free:
            continue
        named = [leaf for leaf in left if leaf.path and key(leaf.path) == key(item.name)]
        if len(named) == 1:
            pairs[number] = (named[0],)
            left.remove(named[0])


def _by_place(
    found: Sequence[Stretch], left: list[Leaf], bits: Mapping[int, frozenset[int]], pairs: dict[int, tuple[Leaf, ...]]
) -> None:
    """Match what has exactly the same bits, in whatever order."""
    lying = {bits[id(leaf)]: leaf for leaf in left}
    for number, item in enumerate(found):
        leaf = lying.get(frozenset(item.all_places())) if number not in pairs else None
        if leaf is not None and leaf in left and is_free(leaf) <= item.is_free:
            pairs[number] = (leaf,)
            left.remove(leaf)


def _by_parts(
    found: Sequence[Stretch], left: list[Leaf], bits: Mapping[int, frozenset[int]], pairs: dict[int, tuple[Leaf, ...]]
) -> None:
    """Match a stretch with several members that together have exactly its bits."""
    for number, item in enumerate(found):
        if number in pairs:
            continue
        own = frozenset(item.all_places())
        parts = [leaf for leaf in left if bits[id(leaf)] <= own]
        if parts and own == frozenset().union(*(bits[id(leaf)] for leaf in parts)):
            pairs[number] = tuple(parts)
            for leaf in parts:
                left.remove(leaf)


def _in_one(
    found: Sequence[Stretch], left: list[Leaf], bits: Mapping[int, frozenset[int]], pairs: dict[int, tuple[Leaf, ...]]
) -> set[int]:
    """Match several stretches with a member that has exactly their bits; return which."""
    shared: set[int] = set()
    open_ = {number: frozenset(item.all_places()) for number, item in enumerate(found) if number not in pairs}
    for leaf in list(left):
        parts = [number for number, own in open_.items() if own and own <= bits[id(leaf)]]
        if len(parts) > 1 and frozenset().union(*(open_[number] for number in parts)) == bits[id(leaf)]:
            for number in parts:
                pairs[number] = (leaf,)
                del open_[number]
            shared |= set(parts)
            left.remove(leaf)
    return shared


def _by_neighbours(
    found: Sequence[Stretch], leaves: Sequence[Leaf], left: list[Leaf], pairs: dict[int, tuple[Leaf, ...]]
) -> set[int]:
    """Match what stands between the same neighbours, a member for each or a member for all; return the latter."""
    order = {id(leaf): number for number, leaf in enumerate(leaves)}
    open_ = {id(leaf) for leaf in left}
    shared: set[int] = set()
    number = 0
    while number < len(found):
        if number in pairs:
            number += 1
            continue
        end = number
        while end < len(found) and end not in pairs:
            end += 1
        low = max((order[id(leaf)] for leaf in pairs.get(number - 1, ())), default=-1)
        high = min((order[id(leaf)] for leaf in pairs.get(end, ())), default=len(leaves))
        run = [leaf for leaf in leaves[low + 1 : high] if id(leaf) in open_ and not leaf.is_padding]
        stretch = found[number:end]
        if len(run) == len(stretch) and all(map(_are_alike, stretch, run)):
            pairs.update({number + step: (leaf,) for step, leaf in enumerate(run)})
        elif len(run) == 1 and len(stretch) > 1 and run[0].bits == sum(len(item.all_places()) for item in stretch):
            pairs.update(dict.fromkeys(range(number, end), (run[0],)))
            shared |= set(range(number, end))
        else:
            run = []
        for leaf in run:
            left.remove(leaf)
        number = end
    return shared


def _are_alike(item: Stretch, leaf: Leaf) -> bool:
    return item.is_free == is_free(leaf)


def _places(leaf: Leaf, begin: int) -> list[int]:
    return [place for first in leaf.first_bits() for place in leaf.places(begin + first)]
