"""The kinds of findings about requests and replies, and about who sends when."""

from __future__ import annotations

from collections.abc import Mapping

from .kind import Kind

TURNS: Mapping[str, Kind] = {
    "unanswered-request": Kind(
        "error",
        "unanswered request",
        "unanswered requests",
        "The request was on the wire, and no reply followed.",
        "Check whether the request arrived whole, whether the other end was ready and uses the same address and "
        "checksum, and whether its reply fits the declared layouts.",
        detail=(
            "{damaged:,} of them {damaged:was} damaged on the wire already.",
            "Replies took at most {learned_s:time}; none followed within {waited_s:time}.",
        ),
        among="{pair} requests",
        also=("pair",),
    ),
    "damaged-reply": Kind(
        "error",
        "damaged reply",
        "damaged replies",
        "Where the reply was due, bytes cannot be trusted.",
        "Look at the line faults at the place; on a shared medium, at which end drives it when the reply begins.",
        among="{pair} requests",
        also=("pair",),
    ),
    "late-reply": Kind(
        "warning",
        "late reply",
        "late replies",
        "The reply was later than allowed; a requester has given up by then.",
        "Find what keeps the other end busy at these moments; or wait longer.",
        detail="{within_s:time} is declared; the longest took {longest_s:time}.",
        among="{pair} requests",
        also=("pair",),
    ),
    "repeated-request": Kind(
        "note",
        "repeated request",
        "repeated requests",
        "The requester sent the same again, since it had no good reply: as it should.",
        "Fix what damaged or swallowed the first try; make sure that doing it twice does no harm.",
        detail=(
            "{after_damage:,} after a damaged reply",
            "{?after_damage}{?after_none} and {after_none:,} after none",
            "{!after_damage}{after_none:,} after none",
            "; {answered:count repeat} {answered:was} answered.",
        ),
        among="{pair} requests",
        also=("pair",),
    ),
    "unasked-reply": Kind(
        "warning",
        "unsolicited reply",
        "unsolicited replies",
        "It answers no request, or a request that was already answered or has timed out.",
        "Look for a reply to a request that was given up, for a device that answers twice, and for a request that the "
        "capture shows damaged.",
        also=("pair",),
    ),
    "collision": Kind(
        "error",
        "message sent into another",
        "messages sent into others",
        "Two ends drove the shared medium at once, so both messages may be damaged.",
        "Let no end send before the other has ended and its reply has arrived or is overdue; look for a reply that "
        "follows after its requester has given up, and for a driver that is switched off too late.",
    ),
    "short-turnaround": Kind(
        "warning",
        "turn that was too short",
        "turns that were too short",
        "An end began before the medium had rested as long as declared.",
        "Let the answering end wait longer, or switch the other end's driver off sooner.",
        detail="{declared_s:time} is declared; the shortest rest was {shortest_s:time}.",
    ),
    "long-silence": Kind(
        "warning",
        "silence that was too long",
        "silences that were too long",
        "The wire rested longer than allowed between two messages.",
        "Check whether the sender restarted, lost its supply or waited for something; the receiver should have a "
        "watchdog for this silence.",
        detail=(
            "The longest lasted {longest_s:time}; at most {declared_s:time} is declared.",
            "{?to_end}The last lasts to the end of the capture.",
        ),
        also=("to_end",),
    ),
}
