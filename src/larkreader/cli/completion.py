"""Completion of the command line: for PowerShell, which click does not know, and of figures, ports and frames.

In bash, zsh and fish the shell reads a script that click makes; PowerShell is given one of the same kind here.
"""

from __future__ import annotations

import os
from pathlib import Path
from typing import TYPE_CHECKING

import click
from click.shell_completion import CompletionItem, ShellComplete, add_completion_class, split_arg_string

if TYPE_CHECKING:
    from larkreader.declare.document.sheet import Sheet

_SCRIPT = """\
Register-ArgumentCompleter -Native -CommandName %(prog_name)s -ScriptBlock {
    param($wordToComplete, $commandAst, $cursorPosition)
    $env:%(complete_var)s = "powershell_complete"
    $env:LARKREADER_LINE = $commandAst.ToString()
    $env:LARKREADER_WORD = $wordToComplete
    try {
        %(prog_name)s | ForEach-Object {
            $type, $value, $help = $_ -split "`t", 3
            if ($type -eq "plain") {
                if (-not $help) { $help = $value }
                [System.Management.Automation.CompletionResult]::new($value, $value, "ParameterValue", $help)
            }
        }
    } finally {
        Remove-Item Env:%(complete_var)s, Env:LARKREADER_LINE, Env:LARKREADER_WORD
    }
}
"""


class PowerShellComplete(ShellComplete):
    """Completion for PowerShell; where a file is wanted it completes by itself."""

    name = "powershell"
    source_template = _SCRIPT

    def get_completion_args(self) -> tuple[list[str], str]:
        """Return the arguments that stand before the word, and the word."""
        word = os.environ.get("LARKREADER_WORD", "")
        words = split_arg_string(os.environ.get("LARKREADER_LINE", ""))[1:]
        return (words[:-1] if word and words and words[-1] == word else words), word

    def format_completion(self, item: CompletionItem) -> str:
        """Return kind, value and help, as the script takes them apart."""
        return f"{item.type}\t{item.value}\t{item.help or ''}"


add_completion_class(PowerShellComplete)


def complete_figures(context: click.Context, parameter: click.Parameter, word: str) -> list[CompletionItem]:
    """Complete the name of a figure; a capture is completed as a file."""
    from .figures import FIGURES

    known = [CompletionItem(name, help=figure.summary) for name, figure in FIGURES.items() if name.startswith(word)]
    return known or [CompletionItem(word, type="file")]


def complete_ports(context: click.Context, parameter: click.Parameter, word: str) -> list[CompletionItem]:
    """Complete a port: a device that is there, a port of the sheet, or a stand-in."""
    from larkreader.exercise.devices.stand_ins import STAND_INS
    from larkreader.exercise.ports.listing import device_paths

    names = [*_ports_of(context), *device_paths(), *(f"stand-in:{name}" for name in STAND_INS), "pty"]
    return [CompletionItem(name) for name in names if name.startswith(word)] or [CompletionItem(word, type="file")]


def complete_frames(context: click.Context, parameter: click.Parameter, word: str) -> list[CompletionItem]:
    """Complete the name of a frame of the sheet."""
    sheet = _sheet_of(context)
    return [CompletionItem(name) for name in (sheet.frame if sheet else ()) if name.startswith(word)]


def _ports_of(context: click.Context) -> list[str]:
    sheet = _sheet_of(context)
    return list(sheet.port) if sheet else []


def _sheet_of(context: click.Context) -> Sheet | None:
    """Return the sheet that was named before, if it can be read."""
    from larkreader.declare.document.sheet_file import open_sheet
    from larkreader.errors import LarkReaderError

    before = [context.params.get("sheet"), *(context.params.get("places") or ())]
    named = next((item for item in before if isinstance(item, Path | str)), None)
    if named is None or not Path(named).is_file():
        return None
    try:
        return open_sheet(named)
    except LarkReaderError:
        return None
