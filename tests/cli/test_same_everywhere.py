"""The same input gives the same bytes, whatever the locale, the time zone, the hash seed and the number of workers."""

import hashlib
import json
import os
import shutil
import subprocess
import sys
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest

SURROUNDINGS = {
    "reference": {"TZ": "UTC", "LC_ALL": "C.UTF-8", "PYTHONHASHSEED": "0"},
    "far in the east": {"TZ": "Asia/Kathmandu", "LC_ALL": "C.UTF-8", "PYTHONHASHSEED": "0"},
    "where summer time begins": {"TZ": "Europe/Berlin", "LC_ALL": "de_DE.UTF-8", "LANG": "de_DE.UTF-8"},
    "another hash seed": {"TZ": "America/St_Johns", "LC_ALL": "tr_TR.UTF-8", "PYTHONHASHSEED": "4711"},
    "no letters but ASCII": {"LC_ALL": "C", "PYTHONUTF8": "0", "PYTHONCOERCECLOCALE": "0", "PYTHONHASHSEED": "1"},
    "three workers, a narrow terminal": {"TZ": "UTC", "COLUMNS": "60", "WORKERS": "3", "NO_COLOR": "1"},
}
# what is run, in a folder with the data of the demo; every file that this leaves is compared
STORY = """
import contextlib, os, sys
from larkreader.cli import run
commands = '''
decode rig.toml rig.vcd --json --frames frames.csv --characters characters.csv --junit decode.xml
decode rig.toml rig.vcd --json --frames frames.npz
decode rig.toml rig.vcd --json --statistics
decode --line "57600 8E1" night.csv --json
plan rig.toml --json
timeline rig.toml rig.vcd --json
diagnose rig.vcd rig.toml --json
report rig.toml small.vcd --wire from_pump -o page.html
batch rig.toml captures --labels {build}-{board} --by build --json --report batch.html --workers WORKERS
convert rig.vcd copy.csv --json
convert rig.vcd copy.npz --json
convert rig.vcd copy.vcd --json
emit rig.toml -o firmware --json
check-layout rig.toml link.h --json
draw rig.toml rig.vcd waveform -o wave.svg --json
draw rig.toml rig.vcd timeline -o line.pdf --json
layout rig.toml status -o layout.png
'''.replace("WORKERS", os.environ.get("WORKERS", "1"))
import shlex
for number, command in enumerate(commands.strip().splitlines()):
    with open(f"out-{number:02}.txt", "w", encoding="utf-8") as out, contextlib.redirect_stdout(out):
        status = run(shlex.split(command))
        print("status", status)
        if status not in (0, 1):
            sys.exit(f"{command}: {status}")
"""


def run_story(folder: Path, rig_files, surroundings) -> dict[str, str]:
    """Run the story; return a hash of each file that it leaves."""
    folder.mkdir()
    for key in ("sheet", "capture"):
        shutil.copy(rig_files[key], folder)
    campaign = rig_files["sheet"].parent / "campaign"
    (folder / "captures").mkdir()
    for number, path in enumerate(sorted(campaign.rglob("*.vcd*"))[:6]):
        shutil.copy(path, folder / "captures" / f"{'ab'[number % 2]}-{number}{''.join(path.suffixes)}")
    shutil.copy(min((folder / "captures").iterdir()), folder / "small.vcd")
    (folder / "link.h").write_text("struct status { uint8_t kind; uint16_t count; };\n")
    # times of day without a zone, across the night in which summer time begins in Europe
    rows = "".join(
        f"2026-03-29T{1 + n // 3600:02}:{n // 60 % 60:02}:{n % 60:02},{n % 256:02X}\n" for n in range(3400, 3800, 7)
    )
    (folder / "night.csv").write_text("time,hex\n" + rows)
    environment = {"PATH": os.environ["PATH"], "SOURCE_DATE_EPOCH": "1700000000", "HOME": str(folder), **surroundings}
    done = subprocess.run(
        [sys.executable, "-c", STORY],
        cwd=folder,
        env=environment,
        capture_output=True,
        text=True,
        check=False,
        timeout=280,
    )
    assert done.returncode == 0, done.stderr
    kept = {"rig.toml", "rig.vcd", "small.vcd", "night.csv", "link.h"}
    files = sorted(path for path in folder.rglob("*") if path.is_file() and path.name not in kept)
    files = [path for path in files if not path.relative_to(folder).parts[0].startswith(".")]  # what Matplotlib keeps
    return {str(path.relative_to(folder)): hashlib.sha256(path.read_bytes()).hexdigest() for path in files}


@pytest.mark.skipif(os.name == "nt", reason="time zones and locales are set otherwise there")
def test_the_same_input_gives_the_same_bytes_in_six_surroundings(rig_files, tmp_path):
    with ThreadPoolExecutor(2) as pool:
        names = list(SURROUNDINGS)
        found = dict(
            zip(
                names,
                pool.map(
                    lambda name: run_story(tmp_path / name.replace(" ", "-"), rig_files, SURROUNDINGS[name]), names
                ),
                strict=True,
            )
        )
    reference = found.pop("reference")
    assert len(reference) > 25, json.dumps(list(reference))
    for name, files in found.items():
        differ = [path for path in reference if files.get(path) != reference[path]]
        assert (differ, len(files)) == ([], len(reference)), name
