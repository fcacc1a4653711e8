"""What stands in the documents as code, run as a reader would run it: in one folder, from the top of a page to its end."""

import doctest
import re
import shlex
import subprocess
import sys
from pathlib import Path

from larkreader.cli import larkreader, run

BLOCK = re.compile(r"^```(\w+)[^\n]*\n(.*?)^```$", re.MULTILINE | re.DOTALL)
SAVED = re.compile(r"[Ss]ave (?:this )?as\s`([\w.-]+)`[^\n]*:\n\n```\w+\n(.*?)^```$", re.MULTILINE | re.DOTALL)
LOOSELY = doctest.ELLIPSIS | doctest.NORMALIZE_WHITESPACE
WIDTH = "100"


def saved_files(text):
    """Return what a page has its reader save: where it stands, the file's name, and what it holds."""
    return [(match.start(2), match[1], match[2]) for match in SAVED.finditer(text)]


def typed(text):
    """Yield the commands of a page with what they print: where each block stands, and a list of command and output."""
    for match in BLOCK.finditer(text):
        if match[1] == "console":
            parts = re.split(r"^\$ ", match[2], flags=re.MULTILINE)[1:]
            yield match.start(), [tuple(part.partition("\n")[::2]) for part in parts]


def lines_to_type(text):
    """Commands that need hardware, or are shown alone: whether they can be read is all that is tried."""
    for match in BLOCK.finditer(text):
        if match[1] == "sh":
            yield from (line for line in match[2].splitlines() if line.startswith("larkreader "))


def type_in(command, capsys):
    """Run a command of a page in this folder; return its exit status and what it prints."""
    words = shlex.split(command, comments=True)
    if words[0] == "larkreader":
        capsys.readouterr()
        status = run(words[1:])
        out, err = capsys.readouterr()
        return status, out + err
    assert words[0] == "python", command
    done = subprocess.run([sys.executable, *words[1:]], capture_output=True, text=True, check=False)
    return done.returncode, done.stdout + done.stderr


def read_only(command):
    """Let the command's own parser read a line, without running it."""
    words = shlex.split(command, comments=True)[1:]
    context = larkreader.make_context("larkreader", list(words), resilient_parsing=False)
    found = larkreader.get_command(context, words[0])
    assert found is not None, command
    found.make_context(words[0], words[1:], parent=context)


def is_as_told(shown, printed):
    return not shown.strip() or doctest.OutputChecker().check_output(shown, printed, LOOSELY)


def walk(path: Path, capsys):
    """Do what a page says, in order; return what comes out otherwise than told."""
    text = path.read_text(encoding="utf-8")
    events = [(at, "save", (name, held)) for at, name, held in saved_files(text)]
    events += [(at, "type", commands) for at, commands in typed(text)]
    wrong = []
    for _, what, held in sorted(events, key=lambda event: event[0]):
        if what == "save":
            Path(held[0]).write_text(held[1], encoding="utf-8")
            continue
        for command, shown in held:
            status, printed = type_in(command, capsys)
            refused = status == 2 and shown.strip()  # a page that shows what an error looks like
            if (status not in (0, 1) and not refused) or not is_as_told(shown, printed):
                wrong.append(f"$ {command}\n{printed}\nexit status {status}; the page shows:\n{shown}")
    return wrong
