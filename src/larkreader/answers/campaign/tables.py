"""The tables of a store: their columns, and what each means. Stores, documentation and questions follow these."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal, NamedTuple

STORE_VERSION = 1
ColumnType = Literal["integer", "real", "text"]


class Column(NamedTuple):
    """A column of a table.

    Attributes
    ----------
    name : str
        Its name.
    type : {"integer", "real", "text"}
        What it holds; null where that is not known.
    meaning : str
        What that is, with the unit.
    """

    name: str
    type: ColumnType
    meaning: str


_CAPTURE = Column("capture", "integer", "Which capture: `captures.capture`")
_WIRE = Column("wire", "text", "The wire, by its name on the sheet")

TABLES: Mapping[str, tuple[Column, ...]] = {
    "captures": (
        Column("capture", "integer", "Number of the capture, from 1, in the order in which captures were named"),
        Column("path", "text", "Its file, as it was named or found"),
        Column("bytes", "integer", "Size of the file"),
        Column("modified_ns", "integer", "When the file was changed last, in nanoseconds since 1970"),
        Column("sha256", "text", "Hash of its content"),
        Column(
            "verdict", "text", "`clean`, `warnings`, `faults`, `nothing-read`, or null for a file that was not read"
        ),
        Column("error", "text", "Why the file was not read"),
        Column("error_kind", "text", "The kind of that error, as Python names it"),
        Column("not_checked", "text", "What could not be checked, as a JSON list of words"),
        Column("read_s", "real", "How long reading took, in seconds"),
    ),
    "labels": (
        _CAPTURE,
        Column("name", "text", "Name of a label, such as `board`"),
        Column("value", "text", "What it is for this capture"),
    ),
    "wires": (
        _CAPTURE,
        _WIRE,
        Column("characters", "integer", "How many characters it carries"),
        Column("parity", "integer", "How many with a parity error"),
        Column("framing", "integer", "How many with a framing error"),
        Column("breaks", "integer", "How many breaks"),
        Column("noise", "integer", "How many with samples that disagree"),
        Column("overruns", "integer", "How many with an overrun flag"),
        Column("good_bytes", "integer", "Bytes of good frames; without frames, characters without a fault"),
        Column("faulty_bytes", "integer", "Bytes of faulty frames; without frames, characters with a fault"),
        Column("skipped_bytes", "integer", "Bytes of no frame"),
        Column("begin_s", "real", "When the first character began, in seconds on the clock of the capture"),
        Column("end_s", "real", "When the last ended"),
        Column("declared_baud", "real", "Baud that the sheet declares"),
        Column("clock_error", "real", "How much faster the sender was, as a share; from levels alone"),
        Column("clock_uncertainty", "real", "Standard uncertainty of that, as a share"),
        Column("jitter_s", "real", "Root mean square of how far changes lie from that clock, in seconds"),
        Column("slowest", "real", "The clock error at which its receiver begins to misread, if slow; as a share"),
        Column("fastest", "real", "The same if fast"),
        Column("headroom", "real", "How far the clock error is from the nearer of the two, as a share of the baud"),
    ),
    "frames": (
        _CAPTURE,
        Column("frame", "text", "The layout, by its name on the sheet"),
        _WIRE,
        Column("count", "integer", "How many frames of it"),
        Column("good", "integer", "How many without a fault"),
        Column("faults", "text", "How many have which fault, as a JSON object"),
        Column("period_s", "real", "Median time from one to the next, in seconds"),
    ),
    "findings": (
        _CAPTURE,
        Column("kind", "text", "Kind of the finding"),
        Column("severity", "text", "`error`, `warning` or `note`"),
        Column("certainty", "text", "`proven`, `likely` or `possible`"),
        Column("subject", "text", "What it is about: `wire`, `frame`, `pair`, ..."),
        Column("name", "text", "The name of that on the sheet"),
        Column("wire", "text", "The wire on which it shows"),
        Column("frame", "text", "The layout concerned"),
        Column("count", "integer", "How often it occurs"),
        Column("first_s", "real", "When it occurs first, in seconds"),
        Column("offset", "integer", "Number of the character of the first place"),
        Column("score", "real", "How likely it is as an explanation, 0 to 1; null for what was observed"),
        Column("evidence", "text", "The numbers from which it was concluded, as a JSON object"),
        Column("text", "text", "The finding as a sentence"),
    ),
    "pairs": (
        _CAPTURE,
        Column("pair", "text", "The pairing, by its name on the sheet"),
        Column("requests", "integer", "How many requests"),
        Column("answered", "integer", "How many with a good reply in time"),
        Column("late", "integer", "How many with a late reply"),
        Column("damaged_reply", "integer", "How many with something damaged in the place of the reply"),
        Column("unanswered", "integer", "How many without a reply"),
        Column("open", "integer", "How many whose reply was not due yet at the end"),
        Column("repeated", "integer", "How many repeat the request before"),
        Column("unasked", "integer", "How many replies answer nothing"),
        Column("latency_median_s", "real", "From the end of a request to the reply, median, in seconds"),
        Column("latency_99_s", "real", "What 99 % of the replies do not exceed, in seconds"),
        Column("latency_most_s", "real", "The longest, in seconds"),
    ),
}


def names_of(table: str) -> tuple[str, ...]:
    """Return the names of the columns of a table."""
    return tuple(column.name for column in TABLES[table])
