"""Opening a capture: its wires by name, whole or in pieces."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from larkreader.capture.characters import Characters
from larkreader.capture.measured import Measured
from larkreader.capture.trace import Trace
from larkreader.capture.voltages import Voltages
from larkreader.declare.run.capture_form import CaptureForm, CaptureKind
from larkreader.errors import CaptureError, RequestError, nearest
from larkreader.sources import Source

from .capture_file import CaptureFile
from .content import Progress


def open_trace(path: Source, wire: str, *, kind: CaptureKind | None = None, form: CaptureForm | None = None) -> Trace:
    """Read the level changes of one signal of a capture.

    Parameters
    ----------
    path : str, pathlib.Path or binary file
        A file of levels or voltages.
    wire : str
        The signal, by its name in the file.
    kind : str, optional
        What the file is, as in `open_capture`; found from its content if not given.
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
    with CaptureFile(path, kind=kind, form=form) as file:
        if not file.holds_levels:
            raise CaptureError(file.name, "holds characters, not levels", "must be a file of levels or voltages")
        return file.traces({wire: wire})[wire]


def open_capture(
    path: Source,
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
        content if not given.
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
    wanted = _wanted(signals, wire)
    with CaptureFile(path, kind=kind, form=form, progress=progress) as file:
        return file.wires(wanted)


def open_pieces(
    path: Source,
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
        What happened next, by wire; not every wire is in every piece. The pieces of a trace go on where the last
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
    >>> pieces = [reader.feed(piece["from_pump"]) for piece in lr.capture.open_pieces(path, {"from_pump": "pump_tx"})]
    >>> b"".join(bytes(piece.value.astype("u1")) for piece in [*pieces, reader.close()])
    b'flow'
    """
    wanted = _wanted(signals, wire)
    with CaptureFile(path, kind=kind, form=form, progress=progress) as file:
        yield from file.pieces(wanted)


def open_every_wire(
    path: Source, *, kind: CaptureKind | None = None, form: CaptureForm | None = None
) -> dict[str, Characters]:
    """Read all wires of a capture of characters; one that names none has the wire ``wire``.

    Raises
    ------
    CaptureFileError, CaptureError
        As `open_capture`.
    """
    with CaptureFile(path, kind=kind, form=form) as file:
        return file.every_wire()


def open_voltages(path: Source, signal: str, *, form: CaptureForm | None = None) -> Voltages:
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
    with CaptureFile(path, kind="voltages", form=form) as file:
        return file.voltages(signal)


def signal_names(path: Source, *, kind: CaptureKind | None = None, form: CaptureForm | None = None) -> list[str]:
    """Name the signals of a capture that have a level.

    Parameters
    ----------
    path : str, pathlib.Path or binary file
        A file of levels or voltages.
    kind : str, optional
        What the file is, as in `open_capture`; found from its content if not given.
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
    with CaptureFile(path, kind=kind, form=form) as file:
        return file.signals()


def _wanted(signals: Mapping[str, str], wire: str | None) -> dict[str, str]:
    """Return the signals to read: of all wires, or of the one that is named."""
    if wire is None:
        return dict(signals)
    if wire not in signals:
        raise RequestError(f'wire "{wire}"', "is not a wire of the sheet", advice=nearest(wire, list(signals)))
    return {wire: signals[wire]}
