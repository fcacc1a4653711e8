"""Which serial ports Windows has, and what they are: from the registry."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from typing import Any

SERIALCOMM = r"HARDWARE\DEVICEMAP\SERIALCOMM"
ENUM = r"SYSTEM\CurrentControlSet\Enum"
LEVELS = 3  # below it: bus, device, instance
# devguid.h: GUID_DEVCLASS_PORTS and GUID_DEVCLASS_MODEM
CLASSES = {"{4d36e978-e325-11ce-bfc1-08002be10318}", "{4d36e96d-e325-11ce-bfc1-08002be10318}"}


def port_names() -> list[str]:
    """Return the names of the ports that drivers have registered, in the order of their numbers."""
    try:
        names = {str(value) for _, value in _values(SERIALCOMM)}
    except OSError:
        return []
    return sorted(names, key=lambda name: (len(name), name))


def descriptions() -> dict[str, str]:
    """Return what each port is, by name, as the device manager shows it."""
    found: dict[str, str] = {}
    for path in _below(ENUM, LEVELS):
        with contextlib.suppress(OSError):
            about = dict(_values(path))
            if str(about.get("ClassGUID", "")).lower() not in CLASSES:
                continue
            name = str(dict(_values(rf"{path}\Device Parameters"))["PortName"])
            shown = str(about.get("FriendlyName") or about.get("DeviceDesc") or "")
            found[name] = shown.rpartition(";")[2].removesuffix(f"({name})").strip()
        # a port that is not plugged in is described here too; `port_names` has only those that are
    return found


def _values(path: str) -> Iterator[tuple[str, Any]]:
    winreg = _winreg()
    with winreg.OpenKey(winreg.HKEY_LOCAL_MACHINE, path) as key:
        for place in range(winreg.QueryInfoKey(key)[1]):
            name, value, _ = winreg.EnumValue(key, place)
            yield name, value


def _below(path: str, levels: int) -> Iterator[str]:
    """Yield the paths of all keys so many levels below one; those that may not be read are left out."""
    if not levels:
        yield path
        return
    winreg = _winreg()
    try:
        with winreg.OpenKey(winreg.HKEY_LOCAL_MACHINE, path) as key:
            names = [winreg.EnumKey(key, place) for place in range(winreg.QueryInfoKey(key)[0])]
    except OSError:
        return
    for name in names:
        yield from _below(rf"{path}\{name}", levels - 1)


def _winreg() -> Any:
    import winreg

    return winreg
