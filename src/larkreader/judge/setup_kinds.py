"""The kinds of findings about how a link is set up, which no capture shows."""

from __future__ import annotations

from collections.abc import Mapping

from .kind import Kind

SETUP: Mapping[str, Kind] = {
    "setting-mismatch": Kind(
        "error",
        "setting in which the ends differ",
        "settings in which the ends differ",
        "The two ends do not mean the same characters.",
        "Set both ends as larkreader plan --card says.",
    ),
    "no-divisor": Kind(
        "error",
        "baud that cannot be made",
        "bauds that cannot be made",
        "No divisor within its bounds makes this baud of this clock.",
        "Take another clock, prescaler or baud.",
    ),
    "divisor-not-best": Kind(
        "warning",
        "divisor that is not the best",
        "divisors that are not the best",
        "There is a divisor that comes nearer to the baud.",
        "Write the better one.",
    ),
    "beyond-tolerance": Kind(
        "error",
        "receiver that cannot follow its sender",
        "receivers that cannot follow their senders",
        "The two ends' times differ by more than the receiver tolerates, so that bits are read in the wrong place.",
        "Bring the end that is to blame nearer to the baud.",
    ),
    "thin-margin": Kind(
        "warning",
        "receiver with little margin",
        "receivers with little margin",
        "Slow edges, noise and unequal delays of rising and falling edges need some of what is left.",
        "Bring the end that is to blame nearer to the baud, or find a clock that is more accurate.",
    ),
    "overloaded": Kind(
        "error",
        "wire that is to carry more than it can",
        "wires that are to carry more than they can",
        "What is sent waits longer and longer, until a buffer is full and values are lost.",
        "Send less, less often, or at a higher baud.",
    ),
    "missed-deadline": Kind(
        "warning",
        "message that can come too late",
        "messages that can come too late",
        "If everything is sent at the same moment, it waits for the rest.",
        "Send in smaller bursts or at different moments, or at a higher baud.",
    ),
    "converter-too-slow": Kind(
        "error",
        "converter that is asked for too much",
        "converters that are asked for too much",
        "The samples that are to be sent cannot be taken in that time.",
        "Send fewer samples, or less often; or take a faster converter.",
    ),
}
