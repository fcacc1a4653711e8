"""Lark Reader: declare a UART link once, on one sheet; calculate it, read it, judge it and exercise it.

The house, from left to right; each folder uses only those before it::

    errors      every exception                shown  what a notebook asks for
    declare     what the engineer says: line, layout, sheet
    capture     what was measured: traces, characters, files
    decode      from measured to meaning: characters, frames, fields
    judge       is it right, and if not, why: readings and findings
    exercise    make it happen: transmit, ports, loopback
    present     tables and figures            demo   the dosing rig
    cli         the command

The public names stand in `public_names` and are loaded when first used, so that the command starts fast.
"""

from importlib import import_module
from typing import Any

from .public_names import HOMES as _HOMES
from .shown import show_by

__version__ = "0.1.0"

__all__ = sorted(_HOMES)


def __getattr__(name: str) -> Any:
    if name not in _HOMES:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    value = getattr(import_module(f".{_HOMES[name]}", __name__), name)
    globals()[name] = value
    return value


def __dir__() -> list[str]:
    return sorted([*globals(), *_HOMES])


def _html_of(shown: Any) -> str:
    made: str = import_module(".present.notebook", __name__).html_of(shown)
    return made


show_by(_html_of)
