"""Lark Reader: declare a UART link once, on one sheet; calculate it, read it, judge it and exercise it.

The house, from left to right; each stage uses only those before it::

    errors      every exception                shown  what a notebook asks for
    declare     what the engineer says: line, layout, sheet
    capture     what was measured: traces, characters, files
    decode      from measured to meaning: characters, frames, fields
    simulate    what buffers and services do with characters
    judge       is it right, and if not, why: measurements and findings
    exercise    make it happen: transmit, ports, loopback
    answers     what a user asks: a reading, a plan
    present     tables and figures            demo   the dosing rig
    cli         the command

The names used daily are here, ``larkreader.read``; all others are in their stage, ``larkreader.declare.Wire``. Each is
loaded when it is first used, so that the command starts fast; `public_names` has the tables.
"""

from importlib import import_module
from typing import Any

from .public_names import lazy
from .shown import show_by

__version__ = "0.1.0"

__all__, __getattr__, __dir__ = lazy(__name__)


def _html_of(shown: Any) -> str:
    made: str = import_module(".present.notebook", __name__).html_of(shown)
    return made


def _text_of(layout: Any) -> str:
    made: str = import_module(".present.tables.layout_table", __name__).layout_text(layout)
    return made


show_by(_html_of, _text_of)
