"""Opening a capture: its wires by name, whole or in pieces."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from pathlib import Path

from larkreader.capture.characters import Characters
from larkreader.capture.trace import Trace
from larkreader.capture.voltages import Voltages
from larkreader.declare.run.capture_form import CaptureForm, CaptureKind
from larkreader.errors import CaptureError, RequestError, nearest
from larkreader.sources import Source, path_of

from .byte_files import characters_of
from .content import Content, Progress, file_errors
from .csv_characters import read_characters
from .csv_levels import level_pieces
from .csv_rows import CsvRows
from .kinds import LOOKED_AT, TRACES, find_kind
from .log import ONE_WIRE, read_log
from .recording import read_recording
from .samples import channel_names, sample_pieces
from .trace_arrays import names_in, trace_arrays
from .vcd import vcd_pieces
from .vcd_header import NOT_LEVELS, read_header
from .voltage_files import ZIP_MAGIC, VoltageFile, open_voltage_file, voltage_pieces, voltages_of

BYTES = 1 << 22  # of a file of bytes that make a piece
CapturePath = Source
Measured = Trace | Characters


def open_trace(
    path: CapturePath, wire: str, *, kind: CaptureKind | None = None, form: CaptureForm | None = None
) -> Trace:
    """Read the level changes of one signal of a capture.

    Parameters
    ----------
    path : str, pathlib.Path or binary file
        A file of levels or voltages.
    wire : str
        The signal, by its name in the file.
    kind : str, optional
        What the file is, as in `open_capture`; found from its content unless said.
    form : CaptureForm, optional
        What the file does not say of itself.

    Returns
    -------
    Trace
        The level changes.

    Raises
    ------
    CaptureFileError
        If the file cannot be opened.
    CaptureError
        If it holds no levels, is damaged, or lacks the signal.

    Examples
    --------
    >>> import pathlib, tempfile
    >>> path, line = pathlib.Path(tempfile.mkdtemp()) / "pump.vcd", lr.LineSettings.parse("57600 8E1")
    >>> lr.write_vcd(path, {"pump_tx": lr.transmit(b"flow", line)})
    >>> bytes(lr.receive(lr.open_trace(path, "pump_tx"), line).value.astype("u1"))
    b'flow'
    """
    path = path_of(path)
    opened = open_capture(path, {wire: wire}, kind=kind, form=form)[wire]
    if isinstance(opened, Characters):
        raise CaptureError(str(path), "holds characters, not levels", "must be a file of levels or voltages")
    return opened


def open_capture(
    path: CapturePath,
    signals: Mapping[str, str],
    *,
    kind: CaptureKind | None = None,
    wire: str | None = None,
    form: CaptureForm | None = None,
    progress: Progress | None = None,
) -> dict[str, Measured]:
    """Read the wires of a capture.

    Parameters
    ----------
    path : str, pathlib.Path or binary file
        The file.
    signals : mapping of str to str
        What each wire is called in the capture, by wire.
    kind : str, optional
        What the file is: ``vcd``, ``levels``, ``voltages`` or ``samples``, which hold levels; ``characters``,
        ``recording``, ``log``, ``bytes``, ``hex``, ``words`` or ``marked``, which hold characters. Found from its
        content unless said.
    wire : str, optional
        Read this wire alone. A file of bytes holds one wire and does not say which.
    form : CaptureForm, optional
        What the file does not say of itself.
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

    Examples
    --------
    >>> import pathlib, tempfile
    >>> path, line = pathlib.Path(tempfile.mkdtemp()) / "pump.vcd", lr.LineSettings.parse("57600 8E1")
    >>> lr.write_vcd(path, {"pump_tx": lr.transmit(b"flow", line)})
    >>> wires = lr.open_capture(path, {"from_pump": "pump_tx"})
    >>> bytes(lr.receive(wires["from_pump"], line).value.astype("u1"))
    b'flow'
    """
    found: dict[str, list[Trace]] = {}
    told: dict[str, list[Characters]] = {}
    for pieces in open_pieces(path, signals, kind=kind, wire=wire, form=form, progress=progress):
        for one, piece in pieces.items():
            if isinstance(piece, Trace):
                found.setdefault(one, []).append(piece)
            else:
                told.setdefault(one, []).append(piece)
    whole: dict[str, Measured] = {one: Characters.joined(parts) for one, parts in told.items()}
    return whole | {one: Trace.joined(found[one]) for one in signals if one in found}


def open_pieces(
    path: CapturePath,
    signals: Mapping[str, str],
    *,
    kind: CaptureKind | None = None,
    wire: str | None = None,
    form: CaptureForm | None = None,
    progress: Progress | None = None,
) -> Iterator[dict[str, Measured]]:
    """Read the wires of a capture piece by piece, so that a file may be larger than memory.

    Parameters
    ----------
    path : str, pathlib.Path or binary file
        As of `open_capture`.
    signals : mapping of str to str
        As of `open_capture`.
    kind : str, optional
        As of `open_capture`.
    wire : str, optional
        As of `open_capture`.
    form : CaptureForm, optional
        As of `open_capture`.
    progress : callable, optional
        As of `open_capture`.

    Yields
    ------
    dict of str to Trace or Characters
        What happened next, by wire; not every wire is in every piece. The pieces of a trace go on where the last one
        ended, as `CharacterReader.feed` takes them. Characters come whole, but for files of bytes alone.

    Raises
    ------
    CaptureFileError, CaptureError, RequestError
        As `open_capture`.

    Examples
    --------
    >>> import pathlib, tempfile
    >>> path, line = pathlib.Path(tempfile.mkdtemp()) / "pump.vcd", lr.LineSettings.parse("57600 8E1")
    >>> lr.write_vcd(path, {"pump_tx": lr.transmit(b"flow", line)})
    >>> reader = lr.CharacterReader(line)
    >>> pieces = [reader.feed(piece["from_pump"]) for piece in lr.open_pieces(path, {"from_pump": "pump_tx"})]
    >>> b"".join(bytes(piece.value.astype("u1")) for piece in [*pieces, reader.close()])
    b'flow'
    """
    path, form = path_of(path), form or CaptureForm()
    if wire is not None and wire not in signals:
        raise RequestError(f'wire "{wire}"', "is not a wire of the sheet", advice=nearest(wire, list(signals)))
    wanted = dict(signals) if wire is None else {wire: signals[wire]}
    with file_errors(path):
        kind = kind or find_kind(path, form)
        if kind == "bytes" and len(wanted) == 1:
            for piece in _byte_pieces(path):
                yield dict.fromkeys(wanted, piece)
            return
        if kind not in TRACES:
            yield dict(_characters(path, wanted, kind, form))
            return
        names = list(dict.fromkeys(wanted.values()))
        for pieces in _trace_pieces(path, names, kind, form, progress):
            yield {one: pieces[signal] for one, signal in wanted.items() if signal in pieces}


def open_every_wire(
    path: CapturePath, *, kind: CaptureKind | None = None, form: CaptureForm | None = None
) -> dict[str, Characters]:
    """Read all wires of a capture of characters; one that names none has the wire ``wire``.

    Raises
    ------
    CaptureFileError, CaptureError
        As `open_capture`.
    """
    path, form = path_of(path), form or CaptureForm()
    with file_errors(path):
        found = _every_wire(path, kind or find_kind(path, form), form)
        return {wire or "wire": characters for wire, characters in found.items()}


def open_voltages(path: CapturePath, signal: str, *, form: CaptureForm | None = None) -> Voltages:
    """Read the voltages of one signal of a capture.

    Parameters
    ----------
    path : str, pathlib.Path or binary file
        A table of voltages in text, a WAV file, or NumPy arrays.
    signal : str
        The signal, by its name in the file, or its number where it has none.
    form : CaptureForm, optional
        What the file does not say of itself.

    Returns
    -------
    Voltages
        The voltages, with the times between them.

    Raises
    ------
    CaptureFileError
        If the file cannot be opened.
    CaptureError
        If it holds no voltages, is damaged, or lacks the signal.

    Examples
    --------
    >>> import pathlib, tempfile
    >>> path = pathlib.Path(tempfile.mkdtemp()) / "scope.npy"
    >>> np.save(path, np.array([[0.5], [3.25], [3.0], [0.0]]))
    >>> lr.open_voltages(path, "0", form=lr.CaptureForm(rate=1e6)).volts.tolist()
    [0.5, 3.25, 3.0, 0.0]
    """
    path = path_of(path)
    with file_errors(path):
        return voltages_of(_voltage_file(path, form or CaptureForm()), signal)


def signal_names(path: CapturePath, *, kind: CaptureKind | None = None, form: CaptureForm | None = None) -> list[str]:
    """Name the signals of a capture that have a level.

    Parameters
    ----------
    path : str, pathlib.Path or binary file
        A file of levels or voltages.
    kind : str, optional
        What the file is, as in `open_capture`; found from its content unless said.
    form : CaptureForm, optional
        What the file does not say of itself.

    Returns
    -------
    list of str
        Of a VCD file scalars and vectors of one bit; bits of wider vectors must be named one by one.

    Raises
    ------
    CaptureFileError
        If the file cannot be opened.
    CaptureError
        If it holds no levels, or is damaged.
    """
    path, form = path_of(path), form or CaptureForm()
    with file_errors(path):
        kind = kind or find_kind(path, form)
        if kind == "samples":
            return channel_names(form)
        if kind == "voltages":
            return list(_voltage_file(path, form).signals)
        if kind == "levels" and _head(path).startswith(ZIP_MAGIC):
            return names_in(path, str(path))
        with Content(path) as file:
            if kind == "vcd":
                variables = read_header(file, str(path)).variables
                return [name for name, one in variables.items() if one.kind not in NOT_LEVELS and one.size == 1]
            if kind == "levels":
                return list(CsvRows(file, str(path), with_times=form.rate is None).form.signals)
    advice = "If its bytes are samples of levels, say their --rate" if kind == "bytes" else ""
    raise CaptureError(str(path), f"holds {kind}, not levels", "must be a file of levels or voltages", advice)


def _trace_pieces(
    path: Path, names: Sequence[str], kind: CaptureKind, form: CaptureForm, progress: Progress | None
) -> Iterator[dict[str, Trace]]:
    """Yield the pieces of some signals."""
    name = str(path)
    if kind == "voltages":
        yield from voltage_pieces(_voltage_file(path, form), names, form)
    elif kind == "levels" and _head(path).startswith(ZIP_MAGIC):
        yield from trace_arrays(path, names, name=name)
    else:
        with Content(path, progress) as file:
            if kind == "vcd":
                yield from vcd_pieces(file, names, name=name)
            elif kind == "samples":
                yield from sample_pieces(file, names, name=name, form=form)
            else:
                yield from level_pieces(file, names, name=name, rate=form.rate)


def _characters(path: Path, wanted: Mapping[str, str], kind: CaptureKind, form: CaptureForm) -> dict[str, Characters]:
    """Return the characters of the wanted wires of a file that holds some."""
    name = str(path)
    found = _every_wire(path, kind, form)
    if set(found) == {ONE_WIRE}:
        if len(wanted) != 1:
            advice = f"Say on which wire they were: {', '.join(wanted)}"
            raise RequestError(name, "holds the bytes of one wire, but the sheet declares several", "", advice)
        return dict.fromkeys(wanted, found[ONE_WIRE])
    by_source = {source: one for one, source in wanted.items()}
    return _known_wires({by_source.get(one, one): told for one, told in found.items()}, wanted, name)


def _byte_pieces(path: Path) -> Iterator[Characters]:
    """Yield the bytes of a file that holds nothing else, some at a time."""
    with Content(path) as file:
        piece = file.read(BYTES)
        if not piece:
            raise CaptureError(str(path), "is empty", advice="Was anything recorded?")
        while piece:
            following = file.read(BYTES)
            cut_off = "the packed content breaks off" if file.is_cut_off and not following else ""
            yield replace(Characters.from_bytes(piece), cut_off=cut_off)
            piece = following


def _every_wire(path: Path, kind: CaptureKind, form: CaptureForm) -> dict[str, Characters]:
    """Return the characters of a file by wire; `ONE_WIRE` if it does not name any."""
    name = str(path)
    with Content(path) as file:
        data = file.readall()
        cut_off = "the packed content breaks off" if file.is_cut_off else ""
    if kind == "characters":
        found = read_characters(data, name)
    elif kind == "recording":
        found = read_recording(data, name)
    elif kind == "log":
        found = read_log(data.decode("utf-8-sig", errors="replace"), name)
    else:
        found = {ONE_WIRE: characters_of(data, kind, form, name)}
    return {one: replace(told, cut_off=told.cut_off or cut_off) for one, told in found.items()}


def _voltage_file(path: Path, form: CaptureForm) -> VoltageFile:
    return open_voltage_file(path, _head(path), form)


def _head(path: Path) -> bytes:
    with path.open("rb") as file:
        return file.read(LOOKED_AT)


def _known_wires(found: Mapping[str, Characters], wanted: Mapping[str, str], name: str) -> dict[str, Characters]:
    known = {wire: characters for wire, characters in found.items() if wire in wanted}
    if not known:
        wires = ", ".join(found) or "none"
        raise CaptureError(name, f"holds the wires {wires}", f"must hold one of {', '.join(wanted)}")
    return known
