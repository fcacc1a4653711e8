"""Completion: the shells' own scripts where the shell is there, and what is offered for figures, ports and frames."""

import os
import shutil
import subprocess
import sys

import pytest

COMMAND = [sys.executable, "-m", "larkreader"]


def offered(folder, shell="bash", **asked):
    """Return what a shell is offered, as its script would ask for it."""
    environment = os.environ | {"_LARKREADER_COMPLETE": f"{shell}_complete"} | asked
    done = subprocess.run(COMMAND, cwd=folder, env=environment, capture_output=True, text=True, check=False)
    assert done.stderr == ""
    separator = "\t" if shell == "powershell" else ","
    return [line.split(separator)[1] for line in done.stdout.splitlines()]


@pytest.mark.parametrize(
    ("line", "expected"),
    [
        ("larkreader dec", ["decode"]),
        ("larkreader draw SHEET wav", ["waveform"]),
        ("larkreader draw SHEET cap.vcd wid", ["widths"]),
        ("larkreader layout SHEET st", ["status"]),
        ("larkreader loopback SHEET stand-in:l", ["stand-in:line-answerer", "stand-in:lossy-echo"]),
        ("larkreader send stand-in:pu", ["stand-in:pump"]),
        ("larkreader plan SHEET --only lo", ["load"]),
    ],
)
def test_words_are_completed_in_every_shell(rig_files, line, expected):
    line = line.replace("SHEET", rig_files["sheet"].name)
    words = line.split()
    bash = offered(rig_files["sheet"].parent, COMP_WORDS=line, COMP_CWORD=str(len(words) - 1))
    powershell = offered(rig_files["sheet"].parent, "powershell", LARKREADER_LINE=line, LARKREADER_WORD=words[-1])
    assert bash == powershell == expected


@pytest.mark.parametrize(
    ("shell", "check"),
    [
        (
            "bash",
            'COMP_WORDS=(larkreader dec); COMP_CWORD=1; _larkreader_completion larkreader; echo "${COMPREPLY[@]}"',
        ),
        ("zsh", "echo ${functions[_larkreader_completion]} | grep -o _LARKREADER_COMPLETE=zsh_complete | head -1"),
        ("fish", "complete -C 'larkreader dec'"),
    ],
)
def test_the_script_of_a_shell_is_read_by_it(tmp_path, shell, check):
    if shutil.which(shell) is None:
        pytest.skip(f"there is no {shell} here")
    program = tmp_path / "larkreader"
    program.write_text(f'#!/bin/sh\nexec "{sys.executable}" -m larkreader "$@"\n')
    program.chmod(0o755)
    path = f"{tmp_path}{os.pathsep}{os.environ['PATH']}"
    environment = os.environ | {"PATH": path, "_LARKREADER_COMPLETE": f"{shell}_source"}
    script = subprocess.run([program], env=environment, capture_output=True, text=True, check=True).stdout
    begin = "autoload -Uz compinit && compinit -u -D\n" if shell == "zsh" else ""
    command = [shell, *(["-f"] if shell == "zsh" else ["--no-config"] if shell == "fish" else []), "-c"]
    done = subprocess.run(
        [*command, f"{begin}{script}\n{check}"],
        env=os.environ | {"PATH": path},
        capture_output=True,
        text=True,
        check=False,
    )
    expected = "_LARKREADER_COMPLETE=zsh_complete" if shell == "zsh" else "decode"
    assert done.stdout.split()[:1] == [expected], done.stderr


def test_powershell_has_a_script_of_its_own():
    environment = os.environ | {"_LARKREADER_COMPLETE": "powershell_source"}
    script = subprocess.run(COMMAND, env=environment, capture_output=True, text=True, check=True).stdout
    assert script.startswith("Register-ArgumentCompleter -Native -CommandName larkreader ")
    assert '$env:_LARKREADER_COMPLETE = "powershell_complete"' in script
