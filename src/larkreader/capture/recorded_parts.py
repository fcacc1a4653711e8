"""The parts of a recording, between which nothing was recorded."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

from .characters import Characters


def recorded_parts(characters: Mapping[str, Characters]) -> list[dict[str, Characters]]:
    """Return what the wires of a recording carry in each of its parts; the whole where there is one.

    Parameters
    ----------
    characters : mapping of str to Characters
        By wire. One that only later parts name has fewer `Characters.resumed`.

    Returns
    -------
    list of dict of str to Characters
        By wire, part by part; a wire without a character in a part is there, too.
    """
    count = max((len(some.resumed) for some in characters.values()), default=0)
    if not count:
        return [dict(characters)]
    bounds = {
        wire: [0] * (count - len(some.resumed) + 1) + [*some.resumed, len(some)] for wire, some in characters.items()
    }
    parts = []
    for number in range(count + 1):
        part = {}
        for wire, some in characters.items():
            first, end = bounds[wire][number : number + 2]
            held = some.between(first, end if number < count else None)
            part[wire] = replace(held, resumed=(), truncated=held.truncated if number == count else "")
        parts.append(part)
    return parts
