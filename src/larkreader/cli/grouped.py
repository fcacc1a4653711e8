"""Commands whose help shows their options in groups."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

import click

from larkreader import __version__

from .common import DETAIL, detail

if TYPE_CHECKING:
    from larkreader.present.text.terminal import ColorUse

INPUT, VIEWS, SHOWN, OUTPUT, OTHER = "Input", "Views, one at a time", "What to show", "Output", "Options"
RECEIVER, GENERATOR, TEST, SENT = "Receiver", "Baud generator", "What to run", "What to send"
READING, KEPT = "Who reads", "What is kept"
ORDER = (INPUT, READING, KEPT, VIEWS, SENT, TEST, SHOWN, RECEIVER, GENERATOR, OUTPUT, OTHER)
FEW = 8  # options that need no groups
_NAMES = {
    INPUT: (
        "settings signals wire sheet line line_text kind rate bits packing order thresholds volts_per_count "
        "write_index filled capture dumps ports sent expect burst batch.labels target define include "
        "check-layout.struct check-layout.frame check-layout.first last same new.structs new.header"
    ),
    READING: "batch.workers batch.cluster",
    KEPT: "batch.store batch.resume batch.replace",
    VIEWS: "explain dump bytes_ changes statistics propose",
    SHOWN: (
        "elements decode.moved_at_s numbers encoding from_s to_s count only_wrong only card "
        "moved_at_s figure frame fields at_s first show side_by_side strip_escapes listen.ending "
        "batch.by batch.over batch.baseline"
    ),
    RECEIVER: "samples oversampling check_stops",
    GENERATOR: "clock accuracy plan.oversampling prescaler divisor_bits fraction_bits extra holds written",
    SENT: "as_hex send.file send.frame replay ending times every",
    TEST: (
        "loopback.characters patterns bauds formats blocks pauses_s loopback.file loopback.frame limit_s for_s "
        "loopback.expect torture trials xor add prefix only_receive one_way seed tolerance ask flow_probe wait forward "
        "seconds"
    ),
    OUTPUT: (
        "as_json to characters frames fates junit annotations output markdown messages csv_ record write into out_rate "
        "out_bits out_packing out_order loopback.figure batch.figure batch.report"
    ),
}
GROUPS = {name: group for group, names in _NAMES.items() for name in names.split()}
"""The group of each option, by the name of its parameter, or by command and parameter."""


class GroupedCommand(click.Command):
    """A command whose help shows its options in groups, where there are many."""

    def invoke(self, ctx: click.Context) -> Any:
        """Run the command; with ``--verbose``, print at the end how long it took."""
        began_s = time.perf_counter()
        try:
            return super().invoke(ctx)
        finally:
            detail(f"larkreader {__version__}, {self.name}: {time.perf_counter() - began_s:.2f} s")

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
    """Return the decorator of a command, as `click.command`, with the options that every command has."""

    def decorate(function: Callable[..., Any]) -> GroupedCommand:
        return click.command(cls=GroupedCommand, **attributes)(_common_options(function))

    return decorate


def _common_options(function: Callable[..., Any]) -> Callable[..., Any]:
    """Add what every command has: how much it prints beside its result, and in what colours."""
    for option in (
        click.option("-q", "--quiet", is_flag=True, expose_value=False, callback=_set_detail, help="Print no notes."),
        click.option(
            "-v", "--verbose", is_flag=True, expose_value=False, callback=_set_detail, help="Print more notes."
        ),
        click.option(
            "--color",
            type=click.Choice(["auto", "always", "never"]),
            default="auto",
            show_default=True,
            expose_value=False,
            callback=_set_color,
            help="When to use colour; auto: on a terminal, without NO_COLOR.",
        ),
    ):
        function = option(function)
    return function


def _set_detail(context: click.Context, parameter: click.Parameter, value: bool) -> None:
    """Remember how much a command prints beside its result."""
    if not value:
        return
    if context.meta.get(DETAIL):
        raise click.UsageError("--quiet and --verbose exclude each other.", context)
    context.meta[DETAIL] = 1 if parameter.name == "verbose" else -1


def _set_color(context: click.Context, parameter: click.Parameter, value: ColorUse) -> None:
    """Use colours as asked for until the command is over."""
    if value != "auto" and not context.resilient_parsing:
        from larkreader.present.text.terminal import use_color

        use_color(value)
        context.call_on_close(lambda: use_color("auto"))
