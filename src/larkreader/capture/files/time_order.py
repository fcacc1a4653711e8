"""Characters of several wires in order of time, piece by piece."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping

import numpy as np

from larkreader.capture.characters import Characters


class OutOfOrderError(Exception):
    """Pieces cannot be put into order of time one after the other: all of them are needed at once."""


def in_order_of_time(pieces: Iterable[Mapping[str, Characters]]) -> Iterator[dict[str, Characters]]:
    """Yield the same characters so that all of a piece began before all of the next.

    Parameters
    ----------
    pieces : iterable of mapping of str to Characters
        What happened next, by wire.

    Yields
    ------
    dict of str to Characters
        The wires in the order in which they were met. A single wire stays as it is, in whatever order it was.

    Raises
    ------
    OutOfOrderError
        If a piece has something that is earlier than what was yielded, and there are several wires.
    """
    held: dict[str, list[Characters]] = {}
    until_s, is_ordered = -np.inf, True  # what began before was yielded
    for piece in pieces:
        for wire, some in piece.items():
            held.setdefault(wire, []).append(some)
            if len(some):
                is_ordered &= bool(some.begin_s[0] >= until_s and (some.begin_s[1:] >= some.begin_s[:-1]).all())
        if not is_ordered and len(held) > 1:
            raise OutOfOrderError
        now = {wire: Characters.joined(parts) for wire, parts in held.items() if parts}
        if is_ordered:
            until_s = max((float(some.begin_s[-1]) for some in now.values() if len(some)), default=until_s)
        cuts = {
            wire: int(np.searchsorted(some.begin_s, until_s)) if is_ordered else len(some) for wire, some in now.items()
        }
        yield {wire: some.between(0, cuts[wire]) for wire, some in now.items()}
        held = {wire: [now[wire].between(cuts[wire])] if wire in now else [] for wire in held}
    yield {wire: parts[0] for wire, parts in held.items() if parts}
