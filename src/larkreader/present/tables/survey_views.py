"""What a wire looks like, as tables."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

from rich.table import Table
from rich.text import Text

from larkreader.present.text.notation import visible

if TYPE_CHECKING:
    from larkreader.exercise.talk.stepping import Trial
    from larkreader.judge.infer.survey import Spread, Survey

from larkreader.judge.findings.wording import duration
from larkreader.present.text.terminal import SAMPLE, new_table

from .reading_views import _number

SHOWN_FIRST, SHOWN_HEX = 24, 8  # characters of a wire that are shown as text, and as numbers


def surveys(seen: Mapping[str, Survey]) -> Table:
    """Show what wires really look like, a column a wire."""
    table = new_table("", *(f">{wire}" for wire in seen))
    rows: dict[str, list[str | Text]] = {}
    for item in seen.values():
        deviation = item.deviation_ppm
        result: dict[str, str | Text] = {
            "idle level": item.idle or "unknown",
            "changes": f"{item.edges:,}",
            "recorded": duration(item.duration_s),
            "shortest stretch": "-" if item.shortest_s is None else duration(item.shortest_s),
            "baud": "unknown" if item.baud is None else f"{item.baud:,.1f}",
            "  uncertainty": "-" if item.baud is None else f"±{max(2 * item.baud_uncertainty_ppm, 1):,.0f} ppm",
            "  from the declared": "-" if deviation is None or item.baud is None else _deviation(deviation),
            "edge asymmetry": duration(item.asymmetry_s),
            "jitter": duration(item.jitter_s),
            "glitches": _number(item.glitches),
            "idle time": f"{100 * item.idle_share:.1f} %",
            "reads best as": "-" if item.best is None else str(item.best.line).split(" ", 1)[1],
            "  characters": _number(item.characters),
            "  of them faulty": "-" if item.best is None else _number(item.best.faulty),
            "  beginning with": Text(visible(item.first_values[:SHOWN_FIRST]) or "-"),
            "  in hexadecimal": " ".join(f"{value:02X}" for value in item.first_values[:SHOWN_HEX]) or "-",
            "gap between characters": _median(item.character_gaps),
            "  least to most": _range(item.character_gaps),
            "gap between messages": _median(item.message_gaps),
            "  least to most ": _range(item.message_gaps),
        }
        for name, text in result.items():
            rows.setdefault(name, []).append(text)
        for name, text in _levels(item).items():
            if any(other.levels for other in seen.values()):
                rows.setdefault(name, []).append(text)
    for name, texts in rows.items():
        table.add_row(name, *texts)
    return table


def _deviation(ppm: float) -> str:
    """Write a deviation in percent; without a sign where it rounds to none."""
    percent = round(ppm / 1e4, 3)
    return f"{percent:+.3f} %" if percent else "0.000 %"


def _levels(survey: Survey) -> dict[str, str]:
    """Write what the voltages of a wire look like; dashes where there are none."""
    levels = survey.levels
    if levels is None:
        return dict.fromkeys(("low", "high", "  noise", "  overshoot", "10 to 90 %", "read by"), "-")
    steep = [("-" if time is None else duration(time)) for time in (levels.rise_s, levels.fall_s)]
    return {
        "low": f"{levels.low_v:.2f} V",
        "high": f"{levels.high_v:.2f} V",
        "  noise": f"{1000 * levels.noise_v:.0f} mV",
        "  overshoot": f"up {1000 * levels.overshoot_v:.0f}, down {1000 * levels.undershoot_v:.0f} mV",
        "10 to 90 %": f"up {steep[0]}, down {steep[1]}",
        "read by": ", ".join(levels.read_by) or "none",
    }


def trials(tried: Sequence[Trial]) -> Table:
    """Show what arrived at a port under each of some settings, the best first."""
    table = new_table("settings", ">characters", ">faulty", ">sense", "begins with")
    for item in tried:
        faulty = f"{100 * item.fault_share:.0f} %" if item.characters else "-"
        sense = f"{100 * item.sense:.0f} %" if item.characters else "-"
        sample = visible(item.sample[:SAMPLE])
        table.add_row(
            str(item.line), f"{item.characters:,}", faulty, sense, Text(sample, no_wrap=True, overflow="ellipsis")
        )
    return table


def _median(spread: Spread | None) -> str:
    return "-" if spread is None else duration(spread.median_s)


def _range(spread: Spread | None) -> str:
    return "-" if spread is None else f"{duration(spread.least_s)} to {duration(spread.most_s)}"
