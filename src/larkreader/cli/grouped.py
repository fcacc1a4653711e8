"""Commands whose help shows their options in groups."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import click

INPUT, SHOWN, OUTPUT, OTHER = "Input", "What to show", "Output", "Options"
RECEIVER, GENERATOR, TEST, SENT = "Receiver", "Baud generator", "What to run", "What to send"
ORDER = (INPUT, SENT, TEST, SHOWN, RECEIVER, GENERATOR, OUTPUT, OTHER)
FEW = 8  # options that need no groups
_NAMES = {
    INPUT: (
        "settings signals wire sheet line line_text kind rate bits packing order thresholds volts_per_count "
        "write_index filled capture dumps ports sent expect burst"
    ),
    SHOWN: (
        "explain statistics bytes_ moved_at_s propose changes numbers encoding from_s to_s count only_wrong only card "
        "figure frame fields at_s first show side_by_side strip_escapes quiet listen.ending"
    ),
    RECEIVER: "samples oversampling check_stops",
    GENERATOR: "clock accuracy plan.oversampling prescaler divisor_bits fraction_bits extra holds written",
    SENT: "as_hex send.file send.frame replay ending times every",
    TEST: (
        "loopback.characters patterns bauds formats blocks pauses_s loopback.file loopback.frame limit_s for_s "
        "loopback.expect xor add prefix only_receive one_way seed tolerance ask flow_probe wait forward seconds"
    ),
    OUTPUT: (
        "as_json characters frames fates junit annotations output markdown messages csv_ record write into out_rate "
        "out_bits out_packing out_order loopback.figure"
    ),
}
GROUPS = {name: group for group, names in _NAMES.items() for name in names.split()}
"""The group of each option, by the name of its parameter, or by command and parameter."""


class GroupedCommand(click.Command):
    """A command whose help shows its options in groups, where there are many."""

    def format_options(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """Write the options, a section for each group."""
        sections: dict[str, list[tuple[str, str]]] = {}
        for parameter in self.get_params(ctx):
            record = parameter.get_help_record(ctx)
            if record is not None and isinstance(parameter, click.Option):
                group = GROUPS.get(f"{self.name}.{parameter.name}") or GROUPS.get(parameter.name or "", OTHER)
                sections.setdefault(group, []).append(record)
        if sum(map(len, sections.values())) <= FEW:
            sections = {OTHER: [record for records in sections.values() for record in records]}
        for title in ORDER:
            if title in sections:
                with formatter.section(title):
                    formatter.write_dl(sections[title])


def command(**attributes: Any) -> Callable[[Callable[..., Any]], GroupedCommand]:
    """Return the decorator of a command, as `click.command`."""
    return click.command(cls=GroupedCommand, **attributes)
