"""The command ``larkreader``: reads arguments, calls the core, hands the result to `present`.

Exit status: 0 nothing wrong, 1 findings of severity error, 2 the request or the input could not be used, 70 a bug in
Lark Reader, 130 interrupted, 141 the reader of the output went away.
"""

from __future__ import annotations

import errno
import io
import os
import sys
from importlib import import_module

import click

from larkreader import __version__

from .interrupts import Interrupts, PipeClosedError, forget_interrupts
from .plain_letters import PLAIN_LETTERS

COMMANDS = {
    "demo": "Run the whole story on the dosing rig's data.",
    "new": "Write a commented sheet to begin with.",
    "plan": "Work out clock, margins and load before anything is sent.",
    "decode": "Read a capture: characters, frames, findings.",
    "batch": "Read many captures: which fail, since when, which are odd.",
    "timeline": "Show what was on which wire when, and what answers what.",
    "report": "Write a reading as a single page, to hand to a colleague.",
    "layout": "Show where the bits of each field lie in a frame.",
    "emit": "Write the frames and parsers of a sheet as C for firmware.",
    "check-layout": "Compare the frames of a sheet with the structs of C.",
    "diagnose": "Find out what a wire looks like and why it does not read.",
    "convert": "Write a capture in another format.",
    "loopback": "Send patterns into a port, or between two, and compare.",
    "dialogue": "Send the exchanges of a sheet and check the replies.",
    "draw": "Draw a figure from a capture.",
    "send": "Send typed text, bytes or frames and show the replies.",
    "listen": "Show what arrives at one port or two, live.",
    "ports": "Show which ports there are and who holds them.",
    "schema": "Print the sheet's JSON Schema, for editors.",
    "serve": "Offer a stand-in device on a port.",
}

# What NumPy and pydantic do at their start and no command of ours needs: threads for matrices, a search for plugins.
QUICK_START = {"OPENBLAS_NUM_THREADS": "1", "PYDANTIC_DISABLE_PLUGINS": "__all__"}
COMPLETION = "_LARKREADER_COMPLETE"  # set by the shells' scripts, as click has it
OK, FINDINGS, UNUSABLE, BUG, INTERRUPTED, PIPE_CLOSED = 0, 1, 2, 70, 130, 141


class _LateGroup(click.Group):
    """Loads a command when it is called, so that help is immediate."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        if cmd_name not in COMMANDS:
            return None
        word = cmd_name.replace("-", "_")
        command: click.Command = getattr(import_module(f".{word}", __name__), word)
        return command

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        if args and args[0] not in COMMANDS and not args[0].startswith("-"):
            from larkreader.errors import nearest

            ctx.fail(f'There is no command "{args[0]}". {nearest(args[0], list(COMMANDS))}')
        return super().resolve_command(ctx, args)

    def invoke(self, ctx: click.Context) -> object:
        """Run a command; click would end with 1 where the reader of the output has gone, which is that of findings."""
        try:
            return super().invoke(ctx)
        except BrokenPipeError as gone:
            raise PipeClosedError from gone

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        with formatter.section("Commands"):
            formatter.write_dl(list(COMMANDS.items()))


@click.command(cls=_LateGroup, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(__version__, message="%(prog)s %(version)s")
def larkreader() -> None:
    """Declare a UART link once, on one sheet; read a capture by it, judge it, and exercise the link."""


def main() -> None:
    """Run the command and exit with its status. Whatever asks it to end, ports and files are left in order."""
    for name, value in QUICK_START.items():
        os.environ.setdefault(name, value)
    interrupts = Interrupts()
    interrupts.install()
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, io.TextIOWrapper):  # a terminal that lacks a letter shows the nearest that it has
            stream.reconfigure(errors=PLAIN_LETTERS)
    if COMPLETION in os.environ:
        from . import completion  # noqa: F401 (it adds a shell to those that click knows)
    status = run(sys.argv[1:])
    interrupts.ignore()
    sys.exit(status)


def _end_without_reader() -> int:
    """Let what is still to be written go nowhere, as the reader of the output has gone."""
    os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
    return PIPE_CLOSED


def run(arguments: list[str]) -> int:
    """Run the command.

    Parameters
    ----------
    arguments : list of str
        What stands behind its name on the command line.

    Returns
    -------
    int
        The exit status.
    """
    from larkreader.errors import LarkReaderError

    forget_interrupts()
    try:
        status = larkreader.main(arguments, prog_name="larkreader", standalone_mode=False)
        sys.stdout.flush()
        return status if isinstance(status, int) else OK
    except click.exceptions.NoArgsIsHelpError as help_wanted:
        help_wanted.show()
        return UNUSABLE
    except click.exceptions.Exit as ended:
        return ended.exit_code
    except click.ClickException as error:
        error.show()
        return UNUSABLE
    except LarkReaderError as error:
        click.echo(f"larkreader: {error}", err=True)
        return UNUSABLE
    except (click.Abort, KeyboardInterrupt):
        click.echo("larkreader: interrupted", err=True)
        return INTERRUPTED
    except (BrokenPipeError, PipeClosedError):
        return _end_without_reader()
    except OSError as error:
        if os.name == "nt" and error.errno == errno.EINVAL and error.filename is None:
            return _end_without_reader()  # as Windows says it of a pipe
        where = f"{error.filename}: " if error.filename else ""
        click.echo(f"larkreader: {where}{error.strerror or error}", err=True)
        return UNUSABLE
    except MemoryError:
        click.echo(
            "larkreader: this needs more memory than there is. Split the capture, or read it elsewhere", err=True
        )
        return UNUSABLE
    except Exception:
        import traceback

        traceback.print_exc()
        click.echo("larkreader: this is a bug in Lark Reader; the lines above show where", err=True)
        return BUG
