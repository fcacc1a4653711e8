"""The formats of captures: how each is recognised, and how its signals or wires are read."""

from __future__ import annotations

import zipfile
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import Literal

from larkreader.capture.characters import Characters
from larkreader.capture.trace import Trace
from larkreader.declare.run.capture_form import CaptureForm, CaptureKind
from larkreader.errors import CaptureError

from .byte_files import byte_pieces, hex_pieces, marked_pieces, whole_pairs, word_pieces
from .character_pieces import closed
from .content import Content
from .csv_characters import CHARACTER_COLUMNS, character_pieces
from .csv_form import find_form
from .csv_levels import level_pieces
from .csv_rows import CsvRows
from .hex_text import is_hex
from .log import is_log, log_pieces
from .recording import is_recording, recording_pieces
from .samples import channel_names, sample_pieces
from .trace_arrays import names_in, trace_arrays
from .vcd import vcd_pieces
from .vcd_header import is_vcd, read_header
from .voltage_files import NPY_MAGIC, ZIP_MAGIC, is_wav, open_voltage_file, voltage_pieces

BYTE_ENDINGS = (".bin", ".raw", ".dat")


@dataclass(frozen=True)
class LevelFormat:
    """A format that holds levels, or voltages that become levels.

    Parameters
    ----------
    is_this : callable
        Whether a file is of this format, found from how it begins.
    signals : callable
        The names of the signals that have a level.
    pieces : callable
        What happened on some signals, piece by piece.
    """

    is_this: Callable[[Content], bool]
    signals: Callable[[Content, CaptureForm], list[str]]
    pieces: Callable[[Content, Sequence[str], CaptureForm], Iterator[dict[str, Trace]]]


@dataclass(frozen=True)
class CharacterFormat:
    """A format that holds characters.

    Parameters
    ----------
    is_this : callable
        Whether a file is of this format, found from how it begins.
    pieces : callable
        The characters by wire, piece by piece, the last with every wire; the wire is `ONE_WIRE` where the file names
        none.
    """

    is_this: Callable[[Content], bool]
    pieces: Callable[[Content, CaptureForm], Iterator[dict[str, Characters]]]


def _never(file: Content) -> bool:
    """Return False: nothing in such a file distinguishes it from others."""
    return False


def _bare(file: Content) -> bytes:
    """Return how a file begins, without the mark that some editors put before UTF-8 text."""
    return file.head.removeprefix(b"\xef\xbb\xbf")


def _is_characters(file: Content) -> bool:
    lines = [line for line in _bare(file).splitlines() if line.strip() and not line.startswith(b"#")]
    columns = [cell.strip() for cell in lines[0].decode("latin-1").split(",")] if lines else []
    return tuple(columns) == CHARACTER_COLUMNS


def _is_levels(file: Content) -> bool:
    return _in_archive(file) == "levels" or _in_table(file) == "levels"


def _is_voltages(file: Content) -> bool:
    if is_wav(file.head) or file.head.startswith(NPY_MAGIC):
        return True
    return _in_archive(file) == "voltages" or _in_table(file) == "voltages"


def _in_table(file: Content) -> Literal["levels", "voltages"] | None:
    form = find_form(_bare(file))
    return None if form is None else form.holds


def _in_archive(file: Content) -> Literal["levels", "voltages"] | None:
    """Return what an archive of NumPy arrays holds: traces as we write them, or samples; None for other files."""
    if not file.head.startswith(ZIP_MAGIC):
        return None
    try:
        with zipfile.ZipFile(file) as archive:
            names = archive.namelist()
    except (zipfile.BadZipFile, NotImplementedError, ValueError, EOFError) as error:
        raise CaptureError(file.name, f"is a damaged NumPy file, or is cut off: {error}") from None
    if not names or not all(name.endswith(".npy") for name in names):
        found = f"is an archive of {', '.join(names[:3]) or 'nothing'}"
        raise CaptureError(file.name, found, "must hold NumPy arrays")
    return "levels" if any(name.endswith(".edges.npy") for name in names) else "voltages"


def _level_signals(file: Content, form: CaptureForm) -> list[str]:
    if file.head.startswith(ZIP_MAGIC):
        return names_in(file)
    return list(CsvRows(file, with_times=form.rate is None).form.signals)


def _level_pieces(file: Content, signals: Sequence[str], form: CaptureForm) -> Iterator[dict[str, Trace]]:
    if file.head.startswith(ZIP_MAGIC):
        return trace_arrays(file, signals)
    return level_pieces(file, signals, rate=form.rate)


FORMATS: dict[CaptureKind, LevelFormat | CharacterFormat] = {
    "vcd": LevelFormat(
        lambda file: is_vcd(_bare(file)),
        lambda file, _: read_header(file).one_bit_signals(),
        lambda file, signals, _: vcd_pieces(file, signals),
    ),
    "recording": CharacterFormat(
        lambda file: is_recording(_bare(file)), closed(lambda file, _: recording_pieces(file))
    ),
    "characters": CharacterFormat(_is_characters, closed(lambda file, _: character_pieces(file))),
    "log": CharacterFormat(lambda file: is_log(_bare(file)), closed(lambda file, _: log_pieces(file))),
    "voltages": LevelFormat(
        _is_voltages,
        lambda file, form: list(open_voltage_file(file, form).signals),
        lambda file, signals, form: voltage_pieces(open_voltage_file(file, form), signals, form),
    ),
    "levels": LevelFormat(_is_levels, _level_signals, _level_pieces),
    "samples": LevelFormat(_never, lambda _, form: channel_names(form), sample_pieces),
    "bytes": CharacterFormat(_never, closed(byte_pieces)),
    "hex": CharacterFormat(_never, closed(hex_pieces)),
    "words": CharacterFormat(_never, closed(word_pieces)),
    "marked": CharacterFormat(_never, closed(marked_pieces)),
}
"""Each format by its word, in the order in which a file is tried; one that nothing distinguishes is never found."""


def known_keys(file: Content, kind: CaptureKind) -> tuple[str, ...]:
    """Return the keys of a form whose values a file has itself."""
    return ("rate",) if kind == "levels" and file.head.startswith(ZIP_MAGIC) else ()


def find_format(file: Content, form: CaptureForm) -> CaptureKind:
    """Find the format of a file: from its content; else from what its sheet or user states, or from its name.

    Raises
    ------
    CaptureError
        If it is empty, or of no format that can be found.
    """
    head = _bare(file)
    if not head:
        raise CaptureError(file.name, "is empty", advice="Was anything recorded?")
    found = next((kind for kind, item in FORMATS.items() if item.is_this(file)), None) or form.kind
    if found is None and form.rate is not None and (table := find_form(head, with_times=False)) is not None:
        found = table.holds
    if found is not None:
        return found
    ending = file.ending
    if ending in BYTE_ENDINGS:  # bytes that were received have no rate
        return "bytes" if form.rate is None else "samples"
    if is_hex(whole_pairs(head)[0].decode("latin-1")):
        return "hex"
    begins = head[:16].decode("latin-1").encode("unicode_escape").decode()
    if ending == ".vcd":
        raise CaptureError(file.name, f'is not a VCD file: it begins with "{begins}"', "a VCD file begins with $")
    raise CaptureError(
        file.name,
        f'does not show what kind of capture it is: it begins with "{begins}"',
        "must be a VCD file, a table that begins with a time, a WAV or NumPy file, or a log of bytes",
        "Add --kind bytes for bytes as they arrived, or --kind samples and their --rate for samples of levels",
    )
