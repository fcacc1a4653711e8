"""The kinds of findings about requests and replies, and about who speaks when."""

from __future__ import annotations

from collections.abc import Mapping

from .kind import Kind

TURNS: Mapping[str, Kind] = {
    "unanswered-request": Kind(
        "error",
        "unanswered request",
        "unanswered requests",
        "The request was on the wire, and nothing that answers it came.",
        "Look whether the request arrived whole, whether the other end was ready and means the same address and "
        "checksum, and whether its answer fits the declared layouts.",
    ),
    "damaged-reply": Kind(
        "error",
        "damaged reply",
        "damaged replies",
        "Something came in the place of the reply, but not one that can be trusted.",
        "Look at the line faults at the place; on a shared medium, at who drives it when the reply begins.",
    ),
    "late-reply": Kind(
        "warning",
        "late reply",
        "late replies",
        "The reply came, but later than it may; whoever waits so long only has given up by then.",
        "Look at what keeps the other end busy at these moments; or wait longer.",
    ),
    "repeated-request": Kind(
        "note",
        "repeated request",
        "repeated requests",
        "The requester sent the same once more, since it had no good reply: as it should.",
        "Mend what spoiled or swallowed the first try; make sure that doing it twice does no harm.",
    ),
    "unasked-reply": Kind(
        "warning",
        "reply that nobody asked for",
        "replies that nobody asked for",
        "It answers no request, or one that has been answered or has waited too long.",
        "Look for a reply to a request that was given up, for a device that answers twice, and for a request that the "
        "capture shows damaged.",
    ),
    "collision": Kind(
        "error",
        "message sent into another one",
        "messages sent into another one",
        "Two ends drove the shared medium at once, so that both messages may be damaged.",
        "Let nobody send before the other one has ended and its answer is in or overdue; look for an answer that "
        "comes after its requester has given up, and for a driver that is switched off too late.",
    ),
    "short-turnaround": Kind(
        "warning",
        "turn that was too short",
        "turns that were too short",
        "One end began before the other had let go of the medium for as long as declared.",
        "Let the answering end wait longer, or switch the other end's driver off sooner.",
    ),
    "long-silence": Kind(
        "warning",
        "silence that was too long",
        "silences that were too long",
        "The wire rested for longer than it may between two messages.",
        "Look whether the sender restarted, lost its supply or waited for something; a watchdog for this silence is "
        "worth having at the receiver.",
    ),
}
