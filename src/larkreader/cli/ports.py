"""``larkreader ports``: which ports there are, what they are, who holds them."""

from __future__ import annotations

import time
from pathlib import Path

import click

from .common import json_option, note, print_document
from .grouped import command

LOOK_S = 0.1  # between looks whether a port was plugged in or removed


@command()
@json_option
@click.option("--wait", is_flag=True, help="Wait until a port is plugged in or removed, and name it.")
@click.option("--seconds", type=float, metavar="SECONDS", help="Wait no longer than this.")
@click.option("--root", type=click.Path(path_type=Path), default=Path("/"), hidden=True, help="Of a simulated system.")
def ports(as_json: bool, wait: bool, seconds: float | None, root: Path) -> int:
    """Show which ports there are, what they are, and who holds them.

    With --wait the exit status is 1 if no port was plugged in or removed in time.
    """
    from larkreader.exercise.ports.listing import device_paths, find_ports

    if not wait:
        entries = find_ports(root)
        if as_json:
            print_document("ports", {"ports": [entry.to_dict() for entry in entries]})
        else:
            from larkreader.present.tables import port_views
            from larkreader.present.text import terminal

            terminal.make_console().print(port_views.ports(entries))
        return 0
    before = set(device_paths(root))
    note("plug the device in, or pull it out")
    deadline = None if seconds is None else time.monotonic() + seconds
    while (after := set(device_paths(root))) == before:
        if deadline is not None and time.monotonic() > deadline:
            note(f"no port was plugged in or removed within {seconds:g} s")
            return 1
        time.sleep(LOOK_S)
    changes = {"added": sorted(after - before), "removed": sorted(before - after)}
    if as_json:
        print_document("port-change", changes)
    else:
        for what, names in changes.items():
            for name in names:
                click.echo(f"{name} {what}")
    return 0
