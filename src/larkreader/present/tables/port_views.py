"""The ports of this machine as a table."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.console import Group
from rich.text import Text

if TYPE_CHECKING:
    from larkreader.exercise.ports.listing import PortEntry


_AVAILABLE = {True: "free", False: "you may not use it", None: "free as far as known"}


def ports(entries: list[PortEntry]) -> Group:
    """Show which ports there are."""
    if not entries:
        return Group("No serial device is there. Is it plugged in and powered? TCP and stand-ins need no device.")
    lines = []
    for entry in entries:
        held = f"held by {', '.join(entry.holders)}" if entry.holders else _AVAILABLE[entry.usable]
        lines.append(Text.assemble((entry.path, "bold"), f"  {entry.description or 'of unknown make'}; {held}"))
        if entry.stable:
            lines.append(Text(f"  always found at {entry.stable}"))
    return Group(*lines)
