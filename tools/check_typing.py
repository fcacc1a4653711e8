"""Whether those who use the installed package can type-check what they write, with mypy and with pyright.

``python tools/check_typing.py PYTHON``, with the interpreter of an environment that has the package installed, not
linked: the scripts in ``tests/consumers`` and ``examples`` pass both checkers without a plugin, a misspelt name and a
wrong value do not, and pyright knows the type of at least 99 % of all public names.
"""

from __future__ import annotations

import json
import os
import re
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Sequence
from pathlib import Path

PROJECT = Path(__file__).parents[1]
KNOWN_TYPES = 99.0  # per cent, of pyright --verifytypes
WRONG = """import larkreader as lr

lr.opne_sheet("rig.toml")
lr.LineSettings(buad=9600)
lr.ReceivePath(fifo=3)
lr.judge.nothing
"""


def run(command: Sequence[str], folder: Path, python: Path) -> tuple[int, str]:
    """Run a checker as in an activated environment; return its status and what it printed."""
    environment = os.environ | {"VIRTUAL_ENV": str(python.parents[1]), "PATH": f"{python.parent}:{os.environ['PATH']}"}
    done = subprocess.run(command, cwd=folder, env=environment, capture_output=True, text=True)
    return done.returncode, done.stdout + done.stderr


def main(python: Path) -> int:
    """Check; print what is wrong and return the exit status."""
    mypy = [sys.executable, "-m", "mypy", "--strict", "--python-executable", str(python), "."]
    pyright = [sys.executable, "-m", "pyright", "--pythonpath", str(python)]
    if subprocess.run([sys.executable, "-m", "pyright", "--version"], capture_output=True).returncode:
        print("left out: pyright does not start; its package fetches itself from the npm registry")
        return 0
    failed = []
    with tempfile.TemporaryDirectory() as name:
        good, bad = Path(name, "good"), Path(name, "bad")
        for folder in (good, bad):
            folder.mkdir()
            (folder / "mypy.ini").write_text("[mypy]\n")
            (folder / "pyrightconfig.json").write_text("{}")
        for script in [*PROJECT.glob("tests/consumers/*.py"), *PROJECT.glob("examples/*.py")]:
            shutil.copy(script, good)
        (bad / "wrong.py").write_text(WRONG)
        for command in (mypy, [*pyright, "."]):
            status, printed = run(command, good, python)
            failed += [printed] if status else []
            _, printed = run(command, bad, python)
            lines = {int(number) for number in re.findall(r"wrong\.py:(\d+)(?::\d+)?[: -]+error", printed)}
            failed += [] if lines == {3, 4, 5, 6} else [f"errors are wanted in lines 3 to 6 of\n{WRONG}\n{printed}"]
        command = [*pyright, "--verifytypes", "larkreader", "--ignoreexternal", "--outputjson"]
        _, printed = run([part for part in command if part not in ("--pythonpath", str(python))], good, python)
    share = 100 * json.loads(printed)["typeCompleteness"]["completenessScore"]
    print(f"pyright knows the types of {share:.1f} % of the public names")
    if share < KNOWN_TYPES:
        failed.append(f"at least {KNOWN_TYPES} % are wanted")
    print("\n".join(failed))
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main(Path(sys.argv[1])))
