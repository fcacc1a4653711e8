"""Write the stubs of the package and its stages, so that type checkers know each public name and no other.

``python tools/write_stubs.py`` after a change of `larkreader.public_names`; a test fails where that was forgotten.
"""

from __future__ import annotations

from pathlib import Path

import larkreader as lr
from larkreader.public_names import STAGES, homes_of, root_homes

PACKAGE = Path(lr.__file__).parent


def stub_of(stage: str) -> str:
    """Return the stub of a stage; of the package itself for an empty name."""
    homes = homes_of(stage) if stage else root_homes()
    lines = [f"from .{module} import {name} as {name}" for name, module in homes.items()]
    if not stage:
        lines += [f"from . import {package} as {package}" for package in (*STAGES, "errors")]
    head = '"""The public names, for type checkers; made from `larkreader.public_names`."""\n\n'
    tail = "" if stage else "\n__version__: str\n"
    return head + "\n".join(sorted(lines, key=_place)) + "\n" + tail


def _place(line: str) -> tuple[bool, str, str]:
    _, module, _, name, *_ = line.split()
    return module != ".", module, f"{name[0].islower()} {name.lower()}"


def main() -> None:
    """Write all of them."""
    for stage in ("", *STAGES):
        (PACKAGE / stage / "__init__.pyi").write_text(stub_of(stage), encoding="utf-8")


if __name__ == "__main__":
    main()
