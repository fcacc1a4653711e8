"""Which serial devices the system has, what they are, and who holds them.

On Linux read from the tables that the kernel keeps (``/sys/class/tty``, ``/dev/serial/by-id``, ``/proc``), below a root
that a test can lay out; on Windows from the registry. On macOS the devices ``cu.*`` are listed, which do not wait for a
carrier as ``tty.*`` do; who holds them is asked of ``lsof``.
"""

from __future__ import annotations

import os
import subprocess
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

IS_WINDOWS = os.name == "nt"
DEVICE_KINDS = ("ttyS*", "ttyUSB*", "ttyACM*", "ttyAMA*", "ttyO*", "ttymxc*", "cu.*", "rfcomm*")
INNER_DRIVERS = ("port", "ctrl")  # of Linux's serial core, which stand between a device and its driver
READ_AND_WRITE = os.R_OK | os.W_OK
LSOF_S = 3.0  # how long to wait for it


@dataclass(frozen=True)
class PortEntry:
    """One serial device of the system.

    Parameters
    ----------
    path : str
        Where it is now; may change with every plug-in.
    stable : str
        A path that stays the same for this adapter; empty if the system gives none.
    description : str
        What the adapter says of itself, or its driver.
    holders : tuple of str
        The processes that have it open, as far as one may see.
    usable : bool or None
        Whether this user may open it; None where only opening it would show, as on Windows.
    """

    path: str
    stable: str = ""
    description: str = ""
    holders: tuple[str, ...] = ()
    usable: bool | None = True

    def to_dict(self) -> dict[str, Any]:
        """Return the entry as JSON has it."""
        return asdict(self)


def find_ports(root: Path = Path("/")) -> list[PortEntry]:
    """List the serial devices of the system.

    Parameters
    ----------
    root : pathlib.Path
        Where ``dev``, ``sys`` and ``proc`` lie.

    Returns
    -------
    list of PortEntry
        Sorted by path. Devices without hardware behind them, of which Linux names many, are left out.
    """
    if IS_WINDOWS:
        from . import windows_listing

        names, described = windows_listing.port_names(), windows_listing.descriptions()
        held_by = holders(names)
        return [PortEntry(name, "", described.get(name, ""), tuple(held_by[name]), None) for name in names]
    stable = _stable_names(root)
    entries = []
    paths = device_paths(root)
    held_by = holders(paths, root)
    for path in paths:
        about = root / "sys" / "class" / "tty" / Path(path).name
        description = _description(about)
        if about.exists() and not description:
            continue
        held = tuple(held_by[path])
        usable = os.access(path, READ_AND_WRITE)
        entries.append(PortEntry(path, stable.get(os.path.realpath(path), ""), description, held, usable))
    return entries


def device_paths(root: Path = Path("/")) -> list[str]:
    """Return the paths of all serial devices that the system names, sorted."""
    if IS_WINDOWS:
        from . import windows_listing

        return windows_listing.port_names()
    return sorted(str(path) for kind in DEVICE_KINDS for path in (root / "dev").glob(kind))


def holders_of(path: str, root: Path = Path("/")) -> list[str]:
    """Return the processes that have a device open, as ``name (number)``; those that may be looked into."""
    return holders([path], root)[path]


def holders(paths: Sequence[str], root: Path = Path("/")) -> dict[str, list[str]]:
    """Return the processes that have each device open, as `holders_of` does."""
    if IS_WINDOWS:
        from . import windows_holders

        return windows_holders.holders(paths)
    if not (root / "proc" / "self").exists() and root == Path("/"):
        return _holders_by_lsof(paths)
    wanted = {os.path.realpath(path): path for path in paths}
    held: dict[str, list[str]] = {path: [] for path in paths}
    for folder in (root / "proc").glob("[0-9]*"):
        try:
            there = {os.path.realpath(link) for link in (folder / "fd").iterdir()} & wanted.keys()
            if there:
                name = (folder / "comm").read_text(encoding="utf-8", errors="replace").strip()
                for device in there:
                    held[wanted[device]].append(f"{name} ({folder.name})")
        except OSError:
            continue  # it has ended, or belongs to another user
    return {path: sorted(known) for path, known in held.items()}


def _holders_by_lsof(paths: Sequence[str]) -> dict[str, list[str]]:
    """Ask the program ``lsof``, which macOS and the BSDs have, in the form that it prints for other programs."""
    held: dict[str, list[str]] = {path: [] for path in paths}
    try:
        listed = subprocess.run(
            ["lsof", "-w", "-F", "pcn", "--", *paths], capture_output=True, text=True, timeout=LSOF_S, check=False
        ).stdout
    except (OSError, subprocess.SubprocessError):
        return held
    number = name = ""
    for line in listed.splitlines():
        kind, value = line[:1], line[1:]
        if kind == "p":
            number, name = value, "a program"
        elif kind == "c":
            name = value
        elif kind == "n" and value in held and (holder := f"{name} ({number})") not in held[value]:
            held[value].append(holder)
    return held


def _stable_names(root: Path) -> dict[str, str]:
    folder = root / "dev" / "serial" / "by-id"
    return {os.path.realpath(link): str(link) for link in folder.glob("*")} if folder.is_dir() else {}


def _description(about: Path) -> str:
    """Return what the adapter says of itself, from the nearest folder above that knows; else the driver's name."""
    device = about / "device"
    if not device.exists():
        return ""
    folder = Path(os.path.realpath(device))
    for above in [folder, *list(folder.parents)[:3]]:
        words = [_word(above / name) for name in ("manufacturer", "product", "serial")]
        if any(words):
            return " ".join(word for word in words if word)
    if _word(about / "type") == "0":
        return ""  # a name that the kernel keeps for hardware that is not there
    drivers = [above / "driver" for above in [folder, *list(folder.parents)[:3]]]
    names = [Path(os.path.realpath(driver)).name for driver in drivers if driver.exists()]
    return next((name for name in names if name not in INNER_DRIVERS), "")


def _word(path: Path) -> str:
    try:
        return path.read_text(encoding="utf-8", errors="replace").strip()
    except OSError:
        return ""
