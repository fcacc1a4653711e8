#!/usr/bin/env python3
"""Checks what the built packages hold: ``python tools/check_package.py dist``; fails with what is wrong."""

from __future__ import annotations

import re
import sys
import tarfile
import zipfile
from pathlib import Path

IN_WHEEL = ("larkreader/__init__.py", "larkreader/py.typed", "larkreader/data/rig.toml", "larkreader/__main__.py")
IN_SOURCE = ("README.md", "CHANGELOG.md", "CONTRIBUTING.md", "SECURITY.md", "LICENSE", "pyproject.toml", "Makefile")
FOLDERS_IN_SOURCE = ("src", "tests", "docs", "examples", "benchmarks", "tools", "changes")
STRANGE = re.compile(r"(^|/)(\.git/|\.venv/|__pycache__/|\.hypothesis/|larkreader-demo/|dist/|docs/_build/)|\.pyc$")
LARGEST = 8 << 20  # bytes of a package
RELATIVE = re.compile(r"\]\((?!https?:|#)[^)]*\)")


def problems(folder: Path) -> list[str]:
    """Return what is wrong with the one wheel and the one source package of a folder."""
    wheels, sources = sorted(folder.glob("*.whl")), sorted(folder.glob("*.tar.gz"))
    if (len(wheels), len(sources)) != (1, 1):
        return [f"{folder} holds {len(wheels)} wheels and {len(sources)} source packages; it must be one of each"]
    with zipfile.ZipFile(wheels[0]) as wheel:
        in_wheel = wheel.namelist()
        metadata = wheel.read(next(name for name in in_wheel if name.endswith("METADATA"))).decode()
    with tarfile.open(sources[0]) as source:
        in_source = [name.partition("/")[2] for name in source.getnames()]
    found = [f"the wheel lacks {name}" for name in IN_WHEEL if name not in in_wheel]
    outside = {name.split("/")[0] for name in in_wheel} - {"larkreader"}
    found += [f"the wheel holds {name}" for name in sorted(outside) if not name.endswith(".dist-info")]
    found += [f"the source package lacks {name}" for name in IN_SOURCE if name not in in_source]
    found += [
        f"the source package lacks {name}/"
        for name in FOLDERS_IN_SOURCE
        if not any(one.startswith(f"{name}/") for one in in_source)
    ]
    found += [f"a package holds {name}" for name in (*in_wheel, *in_source) if STRANGE.search(name)]
    found += [
        f"{one.name} has {one.stat().st_size:,} bytes" for one in (*wheels, *sources) if one.stat().st_size > LARGEST
    ]
    page = metadata.partition("\n\n")[2]
    if not page.startswith("# Lark Reader"):
        found.append("the page on an index is not the README")
    found += [f"the page on an index has the link {link}" for link in RELATIVE.findall(page)]
    return found


if __name__ == "__main__":
    wrong = problems(Path(sys.argv[1]))
    print("\n".join(wrong) or "the packages hold what they should")
    sys.exit(bool(wrong))
