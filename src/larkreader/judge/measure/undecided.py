"""Which requests and replies what is still to arrive may show in another light, while a capture goes on."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters
from larkreader.declare.run.pairing import Pairing
from larkreader.decode.timeline import Timeline

from .pair_columns import PairState, Places, Seconds

Mask = npt.NDArray[np.bool_]


def uncertain_begins(
    characters: Mapping[str, Characters], wires: list[str], uncertain: Mapping[str, int] | None
) -> Seconds:
    """Return when the characters of some wires began that may still become a message, in seconds, ascending.

    Parameters
    ----------
    characters : mapping of str to Characters
        By wire.
    wires : list of str
        The wires.
    uncertain : mapping of str to int, optional
        By wire, the number of the first character of which it is not certain to which message it belongs; all are
        certain where nothing follows.

    Returns
    -------
    ndarray of float64, shape (n_characters,)
    """
    if uncertain is None:
        return np.empty(0)
    begins = [characters[wire].begin_s[uncertain[wire] :] for wire in wires]
    return np.sort(np.concatenate([np.empty(0), *begins]))


def next_alike(pairing: Pairing, ready_s: Seconds, asked: Places) -> Seconds:
    """Return when the next request was ready that takes the place of each, in seconds; infinity where none does.

    That is the next of all, or of those that hold the same in the fields to match.

    Parameters
    ----------
    pairing : Pairing
        What was declared.
    ready_s : ndarray of float64, shape (n_requests,)
        From when on each could be answered, in seconds.
    asked : ndarray of int64, shape (n_requests,)
        A number of what each holds in the fields to match.
    """
    found = np.full(len(ready_s), np.inf)
    order = np.argsort(asked, kind="stable") if pairing.match else np.arange(len(asked))
    follows = np.flatnonzero(asked[order][1:] == asked[order][:-1])
    found[order[follows]] = ready_s[order[follows + 1]]
    return found


def undecided_rows(
    timeline: Timeline, request: Places, reply: Places, state: npt.NDArray[np.uint8], again: Places, may_follow: Mask
) -> Places:
    """Return rows of the timeline that are not certain yet, because a good reply may still follow.

    Parameters
    ----------
    timeline : Timeline
        The messages.
    request, reply, state, again : ndarray
        As those of `Pairs`.
    may_follow : ndarray of bool, shape (n_requests,)
        To which requests a reply may still follow.

    Returns
    -------
    ndarray of int64, shape (n_rows,)
        Requests without a good reply, what is damaged in its place, and their repeats.
    """
    open_still = may_follow & np.isin(state, (PairState.UNANSWERED, PairState.DAMAGED_REPLY))
    repeats = (again >= 0) & np.append(open_still, False)[again]
    return np.unique(np.concatenate([request[open_still | repeats], reply[open_still & (reply >= 0)]]))
