"""What a loopback is run with: ports that are opened at any settings, and what patterns of content send."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import ExitStack, contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

from .live import open_named

if TYPE_CHECKING:
    from larkreader.declare.document.sheet import Sheet
    from larkreader.declare.link.line import LineSettings
    from larkreader.declare.run.loopback import LoopbackMatrix
    from larkreader.exercise.loopback.matrix import OpenAt
    from larkreader.exercise.ports.port import Port


def opener(
    ports: Sequence[str],
    declared: Sheet | None,
    named: Sheet | None,
    line: LineSettings,
    *,
    far: LineSettings | None,
) -> OpenAt:
    """Return what opens the ports with some settings; the far end of a stand-in has the same unless given."""
    noted: set[str] = set()

    @contextmanager
    def open_at(settings: LineSettings) -> Iterator[Sequence[Port]]:
        with ExitStack() as stack:
            opened = [
                stack.enter_context(
                    open_named(name, declared, _own(named, name, line, settings), far=far, quiet=name in noted)
                )
                for name in ports
            ]
            noted.update(ports)
            yield opened

    return open_at


def _own(declared: Sheet | None, name: str, line: LineSettings, settings: LineSettings) -> LineSettings:
    """Return the settings of a port: its own on the sheet, but for what the matrix varies."""
    own = declared.line_of(name) if declared and name in declared.port else line
    changed = {
        key: getattr(settings, key) for key in ("baud", "format") if getattr(settings, key) != getattr(line, key)
    }
    return own.model_copy(update=changed)


def content_of(matrix: LoopbackMatrix, declared: Sheet | None, file: Path) -> dict[str, bytes]:
    """Return what the patterns of content send: a file, and frames of a layout of the sheet."""
    content: dict[str, bytes] = {}
    if "file" in matrix.patterns:
        content["file"] = file.read_bytes()
    if "frames" in matrix.patterns:
        from larkreader.exercise.payload.patterns import frame_turn

        assert declared
        content["frames"] = frame_turn(declared.frame[str(matrix.frame)])
    return content
