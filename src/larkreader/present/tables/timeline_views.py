"""The messages of all wires on one timeline, and how requests and replies go together, as text for a terminal."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

import numpy as np
from rich.console import Group
from rich.table import Table
from rich.text import Text

from larkreader.declare.run.pairing import Pairing
from larkreader.judge.findings.wording import duration
from larkreader.judge.measure.distribution import figures_of
from larkreader.judge.measure.pair_columns import PARTS, Pairs, PairTimes
from larkreader.judge.verdict.counts import PairCounts
from larkreader.present.text.terminal import ERROR, new_table, wire_text

from .timeline_rows import Entry

TWO_COLUMNS = 76  # of a terminal, from which two wires have a column each
TIME_WIDTH, REST_WIDTH, NAME_WIDTH, PAIR_WIDTH, WIDE_PAIR = 11, 8, 10, 18, 28  # of columns, in cells
WIDE = 100  # of a terminal, from which on a pair is not folded
LEAST_WIDTH = 12
GAP = 2  # cells between columns
BAR = 24  # signs of the longest bar of a histogram
WRONG = ERROR
IN_GROUPS = (
    "Times are those at which software received groups of characters: messages of two wires that lie near each other "
    "may be in the other order, and latencies are exact to a group."
)
NO_PAIRS = Text("Declare [pair.NAME] on the sheet to have requests and replies paired.")
PART_NAMES = {
    "request": "request on the wire",
    "answer": "until the reply begins",
    "reply": "reply on the wire",
    "pause": "until the next request",
    "cycle": "request to request",
}


def timeline_table(
    entries: Iterable[Entry], wires: tuple[str, ...], *, pairings: int, width: int, goes_on: bool = False
) -> Table:
    """Show messages in order of time: a column a wire where there is room, else one column that says the wire.

    Parameters
    ----------
    entries : iterable of Entry
        What is to be shown.
    wires : tuple of str
        The wires.
    pairings : int
        How many there are; of several, parts of pairs say of which.
    width : int
        Columns of the terminal.
    goes_on : bool
        Whether other tables with the same columns stand below or above: then these have fixed widths and no heading.
    """
    apart = width >= TWO_COLUMNS and len(wires) == 2
    heads = wires if apart else ("wire", "message")
    table = new_table(">at s", ">rest", *heads, *(["pair" if pairings == 1 else "pairs"] if pairings else []))
    table.columns[0].no_wrap = table.columns[1].no_wrap = True
    if goes_on:
        _fix_widths(table, width, n_messages=len(wires) if apart else 1, has_pairs=pairings > 0)
    for entry in entries:
        message = wire_text(entry.text, entry.wire, wires)
        if entry.faults:
            message.append(" ")
            message.append(entry.faults, style=WRONG)
        if entry.collides:
            message.append(" ")
            message.append("into another", style=WRONG)
        cells = (
            [message if wire == entry.wire else "" for wire in wires]
            if apart
            else [wire_text(entry.wire, entry.wire, wires), message]
        )
        rest = "" if np.isnan(entry.rest_s) else duration(entry.rest_s) if entry.rest_s >= 0 else "overlaps"
        parts = [_pair_cell(entry, named=pairings > 1)] if pairings else []
        table.add_row(f"{entry.begin_s:.6f}", rest, *cells, *parts)
    return table


def _fix_widths(table: Table, width: int, *, n_messages: int, has_pairs: bool) -> None:
    """Give the columns of a table widths that do not depend on its rows."""
    narrow = [TIME_WIDTH, REST_WIDTH, *([PAIR_WIDTH if width < WIDE else WIDE_PAIR] if has_pairs else [])]
    gaps = GAP * (len(table.columns) - 1)
    others = len(table.columns) - n_messages - len(narrow)  # the wire's name, where messages share a column
    room = max((width - sum(narrow) - gaps - others * NAME_WIDTH) // n_messages, LEAST_WIDTH)
    widths = [TIME_WIDTH, REST_WIDTH, *[NAME_WIDTH] * others, *[room] * n_messages, *narrow[2:]]
    for column, cells in zip(table.columns, widths, strict=True):
        column.width = cells
    table.show_header = False


def _pair_cell(entry: Entry, *, named: bool) -> Text:
    cell = Text()
    for number, part in enumerate(entry.parts):
        cell.append("; " if number else "")
        is_wrong = part.state == "unanswered" if part.role == "request" else part.is_wrong
        cell.append(part.text(named=named), style=WRONG if is_wrong else "")
    return cell


def pairs_table(pairs: Mapping[str, Pairs | PairCounts], declared: Mapping[str, Pairing]) -> Group:
    """Show how many requests of each pairing were answered, and how long replies took.

    Parameters
    ----------
    pairs : mapping of str to Pairs or PairCounts
        By pairing.
    declared : mapping of str to Pairing
        What the sheet declares.
    """
    table = new_table("pair", ">requests", ">answered", ">late", ">damaged", ">no reply", ">repeated", ">unasked")
    times = new_table("reply begins after", ">least", ">median", ">99 % within", ">most", ">declared")
    for key, item in pairs.items():
        held, pairing = item.to_dict(), declared[key]
        states = (held[name] for name in ("answered", "late", "damaged-reply", "unanswered", "repeated"))
        unasked = _number(held["unasked"]) if pairing.only_when_asked else "-"
        table.add_row(key, f"{held['requests']:,}", *map(_number, states), unasked)
        shown = [_time(held["latency"][name]) for name in ("least_s", "median_s", "nearly_all_s", "most_s")]
        times.add_row(key, *shown, _time(pairing.within_s))
    return Group(table, "", times)


def histograms(times: Mapping[str, PairTimes], *, ascii_only: bool) -> Group:
    """Show how the latencies of each pairing are distributed."""
    parts: list[Any] = []
    bar = "=" if ascii_only else "\u2588"
    for key, item in times.items():
        rows = item.histogram()
        if len(rows) < 2:
            continue
        most = max(count for _, _, count in rows)
        parts += [*([""] if parts else []), Text(f"Replies of {key}", style="bold")]
        for low, high, count in rows:
            drawn = bar * max(round(BAR * count / most), 1 if count else 0)
            parts.append(f"{duration(low):>9} to {duration(high):<9} {count:>7,} {drawn}".rstrip())
    return Group(*parts)


def parts_table(key: str, times: PairTimes, moved_at_s: float | None = None) -> Table:
    """Show what the time from one request to the next went into; before and after a time, if one is given."""
    if moved_at_s is None:
        table = new_table(f"parts of {key}", ">least", ">median", ">99 % within", ">most", ">share")
        parts = times.parts()
        cycle = figures_of(parts["cycle"])["median_s"]
        for name in PARTS:
            result = figures_of(parts[name])
            shown = [_time(result[item]) for item in ("least_s", "median_s", "nearly_all_s", "most_s")]
            share = f"{100 * result['median_s'] / cycle:.1f} %" if cycle and result["count"] and name != "cycle" else ""
            table.add_row(PART_NAMES[name], *shown, share)
        return table
    heads = (">before", ">median", ">after", ">median", ">moved by")
    table = new_table(f"parts of {key}", *heads)
    before, after = times.parts(end_s=moved_at_s), times.parts(begin_s=moved_at_s)
    for name in PARTS:
        was, now = figures_of(before[name]), figures_of(after[name])
        moved = "-"
        if was["count"] and now["count"]:
            by = now["median_s"] - was["median_s"]
            moved = f"{'+' if by >= 0 else ''}{duration(by)}"
        counts = [f"{item['count']:,}" for item in (was, now)]
        table.add_row(PART_NAMES[name], counts[0], _time(was["median_s"]), counts[1], _time(now["median_s"]), moved)
    return table


def times_left_out(pairs: Mapping[str, Pairs | PairCounts], times: Mapping[str, PairTimes]) -> list[str]:
    """Say of which pairings not the times of all requests were kept.

    Parameters
    ----------
    pairs : mapping of str to Pairs or PairCounts
        By pairing, what became of all its requests.
    times : mapping of str to PairTimes
        By pairing, the times that were kept.
    """
    requests = {key: item.to_dict()["requests"] for key, item in pairs.items()}
    return [
        f"The times of {key} are those of the latest {len(some):,} of {requests[key]:,} requests."
        for key, some in times.items()
        if len(some) < requests[key]
    ]


def _time(seconds: float | None) -> str:
    return "-" if seconds is None else duration(seconds)


def _number(count: int) -> str:
    return f"{count:,}" if count else "-"
