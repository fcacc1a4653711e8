#!/usr/bin/env python3
"""Makes a release: ``python tools/release.py VERSION [--really]``.

Checks that the folder is clean and the version a later one; writes the version, moves the files of ``changes`` into
the changelog, builds and checks the packages, lists what they bring with them (SBOM), commits and tags. Without
``--really`` all of it happens in a copy that is thrown away. Nothing leaves this machine: pushing and uploading are
yours.
"""

from __future__ import annotations

import re
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

PROJECT = Path(__file__).resolve().parent.parent
VERSION_IN = Path("src/larkreader/__init__.py")
VERSION = re.compile(r'^__version__ = "([^"]+)"$', re.MULTILINE)


def main() -> int:
    """Make the release, or try it."""
    names = [one for one in sys.argv[1:] if not one.startswith("-")]
    if len(names) != 1 or not re.fullmatch(r"\d+\.\d+\.\d+", names[0]):
        print("use: python tools/release.py VERSION [--really]   (VERSION as in 1.2.3)")
        return 2
    if "--really" in sys.argv:
        return release(PROJECT, names[0])
    with tempfile.TemporaryDirectory() as folder:
        copy = Path(folder) / "project"
        git(PROJECT, "clone", "--quiet", "--no-hardlinks", str(PROJECT), str(copy))
        status = release(copy, names[0])
        print("tried in a copy; with --really it is done here" if status == 0 else "tried in a copy")
        return status


def release(project: Path, version: str) -> int:
    """Make the release in a folder."""
    file = project / VERSION_IN
    text = file.read_text(encoding="utf-8")
    before = VERSION.search(text)[1]
    tags = git(project, "tag", "--list").split()
    if git(project, "status", "--porcelain"):
        print("There are changes that are not committed. Commit them first.")
        return 1
    if f"v{version}" in tags or numbers(version) < numbers(before) or (version == before and f"v{before}" in tags):
        print(f"{version} is no later version than {before}, or has been released. Choose a later one.")
        return 1
    file.write_text(VERSION.sub(f'__version__ = "{version}"', text), encoding="utf-8")
    steps = [
        [sys.executable, "-m", "towncrier", "build", "--yes", "--version", version],
        [sys.executable, "-m", "build", "--outdir", str(project / "dist")],
        [sys.executable, "-m", "twine", "check", "--strict"],
        [sys.executable, str(project / "tools" / "check_package.py"), str(project / "dist")],
    ]
    shutil.rmtree(project / "dist", ignore_errors=True)
    for step in steps:
        more = map(str, (project / "dist").glob("*")) if "twine" in step else ()
        done = subprocess.run([*step, *more], cwd=project, capture_output=True, text=True, check=False)
        if done.returncode:
            print(f"{' '.join(step[1:4])} failed:\n{done.stdout}{done.stderr}")
            git(project, "checkout", "--quiet", "HEAD", "--", ".")
            return 1
    bill = project / "dist" / f"lark-reader-{version}.cdx.json"
    if not write_bill(next((project / "dist").glob("*.whl")), project / "pyproject.toml", bill):
        git(project, "checkout", "--quiet", "HEAD", "--", ".")
        return 1
    git(project, "add", "--all")
    git(project, "commit", "--quiet", "--message", f"Release {version}")
    git(project, "tag", "--annotate", f"v{version}", "--message", f"Release {version}")
    print(f"{version} is committed and tagged v{version}; the packages are in {project / 'dist'}")
    return 0


def write_bill(wheel: Path, project: Path, bill: Path) -> bool:
    """Write which packages the wheel brings with it, as CycloneDX (ECMA-424); return whether that worked."""
    with tempfile.TemporaryDirectory() as folder:
        python = Path(folder) / "venv" / ("Scripts" if sys.platform == "win32" else "bin") / "python"
        listed = ["cyclonedx_py", "environment", str(python), "--pyproject", str(project), "--mc-type", "library"]
        for command in (
            [sys.executable, "-m", "venv", str(python.parents[1])],
            [str(python), "-m", "pip", "install", "--quiet", "--disable-pip-version-check", str(wheel)],
            [str(python), "-m", "pip", "uninstall", "--quiet", "--yes", "pip", "setuptools"],
            [sys.executable, "-m", *listed, "--output-reproducible", "--short-PURLs", "-o", str(bill)],
        ):
            done = subprocess.run(command, capture_output=True, text=True, check=False)
            if done.returncode:
                print(f"{' '.join(command[1:4])} failed:\n{done.stdout}{done.stderr}")
                return False
    return True


def numbers(version: str) -> tuple[int, ...]:
    """Return the parts of a version, for comparing."""
    return tuple(map(int, version.split(".")))


def git(project: Path, *arguments: str) -> str:
    """Run git in a folder, and return what it prints."""
    command = ["git", "-C", str(project), *arguments]
    return subprocess.run(command, check=True, capture_output=True, text=True).stdout.strip()


if __name__ == "__main__":
    sys.exit(main())
