"""Opening a capture: what kind a file is, and its wires by name.

The kind is found from the content. A file of mere bytes looks like nothing in particular, so that it must say so
by its ending (``.bin``, ``.raw``, ``.dat``) or be named as such.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from typing import Literal

import numpy as np

from larkreader.capture.characters import Characters
from larkreader.capture.ring import RingMemory
from larkreader.capture.trace import Trace
from larkreader.errors import CaptureError, CaptureFileError, RequestError, nearest

from .csv_form import find_form
from .csv_tables import CHARACTER_COLUMNS, level_columns, read_characters, read_levels
from .hex_text import is_hex, read_hex
from .recording import is_recording, read_recording
from .vcd import Progress, read_vcd
from .vcd_header import NOT_LEVELS, read_header

CaptureKind = Literal["vcd", "levels", "characters", "recording", "bytes", "hex"]
CapturePath = str | Path
BYTE_ENDINGS = (".bin", ".raw", ".dat")
_LOOKED_AT = 1 << 16  # bytes from which the kind is found
_VCD_KEYWORD = re.compile(
    rb"\s*\$(date|version|comment|timescale|scope|var|upscope|enddefinitions|attrbegin)\b", re.ASCII
)


def open_trace(path: CapturePath, wire: str, *, kind: CaptureKind | None = None) -> Trace:
    """Read the level changes of one signal of a capture.

    Parameters
    ----------
    path : str or pathlib.Path
        A VCD file, or level changes in CSV.
    wire : str
        The signal, by its name in the file.
    kind : {"vcd", "levels"}, optional
        What the file is; found from its content unless said.

    Returns
    -------
    Trace

    Raises
    ------
    CaptureFileError
        If the file cannot be opened.
    CaptureError
        If it holds no levels, is damaged, or lacks the signal.
    """
    opened = open_capture(path, {wire: wire}, kind=kind)[wire]
    if isinstance(opened, Characters):
        raise CaptureError(str(path), "holds characters, not levels", "must be a VCD file or level changes in CSV")
    return opened


def open_capture(
    path: CapturePath,
    signals: Mapping[str, str],
    *,
    kind: CaptureKind | None = None,
    wire: str | None = None,
    progress: Progress | None = None,
) -> dict[str, Trace | Characters]:
    """Read the wires of a capture.

    Parameters
    ----------
    path : str or pathlib.Path
        The file.
    signals : mapping of str to str
        What each wire is called in the capture, by wire.
    kind : {"vcd", "levels", "characters", "recording", "bytes", "hex"}, optional
        What the file is; found from its content unless said.
    wire : str, optional
        Read this wire alone. A file of bytes holds one wire and does not say which.
    progress : callable, optional
        Called with the bytes read and the bytes there are, now and then.

    Returns
    -------
    dict of str to Trace or Characters
        By wire. A file of characters may lack some of the wires.

    Raises
    ------
    CaptureFileError
        If the file cannot be opened.
    CaptureError
        If it is not what it was taken for, is damaged, or lacks a signal.
    RequestError
        If `wire` is none of `signals`, or is needed and not given.
    """
    path = Path(path)
    if wire is not None and wire not in signals:
        raise RequestError(f'wire "{wire}"', "is not a wire of the sheet", advice=nearest(wire, list(signals)))
    wanted = dict(signals) if wire is None else {wire: signals[wire]}
    with _file_errors(path):
        kind = kind or find_kind(path)
        if kind in ("bytes", "hex"):
            if len(wanted) != 1:
                advice = f"Say on which wire they were: {', '.join(wanted)}"
                raise RequestError(str(path), "holds the bytes of one wire, but the sheet declares several", "", advice)
            data = np.frombuffer(_bytes_in(path, kind), dtype=np.uint8)
            if not len(data):
                raise CaptureError(str(path), "is empty", advice="Was anything recorded?")
            return {one: Characters.from_bytes(data) for one in wanted}
        if kind in ("characters", "recording"):
            read = read_characters if kind == "characters" else read_recording
            return dict(_known_wires(read(path, name=str(path)), wanted, str(path)))
        names = list(dict.fromkeys(wanted.values()))
        if kind == "vcd":
            traces = read_vcd(path, names, name=str(path), progress=progress)
        else:
            traces = read_levels(path, names, name=str(path))
    return {one: traces[signal] for one, signal in wanted.items()}


def signal_names(path: CapturePath, *, kind: CaptureKind | None = None) -> list[str]:
    """Name the signals of a capture that have a level.

    Parameters
    ----------
    path : str or pathlib.Path
        A VCD file, or level changes in CSV.
    kind : {"vcd", "levels"}, optional
        What the file is; found from its content unless said.

    Returns
    -------
    list of str
        Scalars and vectors of one bit; bits of wider vectors must be named one by one.

    Raises
    ------
    CaptureFileError
        If the file cannot be opened.
    CaptureError
        If it holds no levels, or is damaged.
    """
    path = Path(path)
    with _file_errors(path):
        kind = kind or find_kind(path)
        if kind == "vcd":
            with path.open("rb") as file:
                variables = read_header(file, str(path)).variables
            return [name for name, one in variables.items() if one.kind not in NOT_LEVELS and one.size == 1]
        if kind == "levels":
            return level_columns(path, str(path))
    raise CaptureError(str(path), f"holds {kind}, not levels", "must be a VCD file or level changes in CSV")


def open_ring(path: CapturePath, write_index: int, count: int | None = None) -> RingMemory:
    """Read the memory of a ring buffer, as a debugger wrote it to a file.

    Parameters
    ----------
    path : str or pathlib.Path
        A file of its bytes, from the lowest address on.
    write_index : int
        Where the next character would be written.
    count : int, optional
        How many characters count; all of them unless said.

    Returns
    -------
    RingMemory

    Raises
    ------
    CaptureFileError
        If the file cannot be read.
    RequestError
        If the index or the count is not of it, or it is empty.
    """
    with _file_errors(Path(path)):
        memory = Path(path).read_bytes()
    return RingMemory(memory, write_index, count)


def find_kind(path: CapturePath) -> CaptureKind:
    """Find from a file's content what kind of capture it is.

    Parameters
    ----------
    path : str or pathlib.Path
        The file.

    Returns
    -------
    {"vcd", "levels", "characters", "recording", "bytes", "hex"}

    Raises
    ------
    CaptureError
        If it is empty, or looks like none of these and does not end like a file of bytes.
    """
    path = Path(path)
    if path.is_dir():
        raise CaptureFileError(str(path), "is a folder, not a file")
    with path.open("rb") as file:
        head = file.read(_LOOKED_AT).removeprefix(b"\xef\xbb\xbf")
    if not head:
        raise CaptureError(str(path), "is empty", advice="Was anything recorded?")
    if _VCD_KEYWORD.match(head):
        return "vcd"
    if is_recording(head):
        return "recording"
    lines = [line for line in head.splitlines() if line.strip() and not line.startswith(b"#")]
    columns = [cell.strip() for cell in lines[0].decode("latin-1").split(",")] if lines else []
    if tuple(columns) == CHARACTER_COLUMNS:
        return "characters"
    if find_form(head) is not None:
        return "levels"
    ending = path.suffix.lower()
    if ending in BYTE_ENDINGS:
        return "bytes"
    if is_hex(head.decode("latin-1")):
        return "hex"
    begins = head[:16].decode("latin-1").encode("unicode_escape").decode()
    if ending == ".vcd":
        raise CaptureError(str(path), f'is not a VCD file: it begins with "{begins}"', "a VCD file begins with $")
    raise CaptureError(
        str(path),
        f'is no kind of capture that can be told from its content: it begins with "{begins}"',
        "must be a VCD file, or CSV that begins with time_s, or CSV with the columns " + ",".join(CHARACTER_COLUMNS),
        'If it holds the bytes as they arrived, say that its kind is "bytes"',
    )


@contextmanager
def _file_errors(path: Path) -> Iterator[None]:
    """Turn what the system says of a file into an error of ours."""
    try:
        yield
    except FileNotFoundError:
        raise CaptureFileError(str(path), "does not exist") from None
    except OSError as error:
        if isinstance(error, CaptureFileError):
            raise
        raise CaptureFileError(str(path), f"cannot be read: {error.strerror}") from None


def _bytes_in(path: Path, kind: CaptureKind) -> bytes:
    """Return the bytes of a file that holds nothing else, or holds them written in hexadecimal."""
    data = path.read_bytes()
    if kind == "bytes":
        return data
    return read_hex(data.decode("utf-8-sig", errors="replace"), str(path))


def _known_wires(found: Mapping[str, Characters], wanted: Mapping[str, str], name: str) -> dict[str, Characters]:
    known = {wire: characters for wire, characters in found.items() if wire in wanted}
    if not known:
        wires = ", ".join(found) or "none"
        raise CaptureError(name, f"holds the wires {wires}", f"must hold one of {', '.join(wanted)}")
    return known
