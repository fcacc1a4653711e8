"""A capture as a file: opened once, its format found once, its signals named, its wires read."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import AbstractContextManager
from dataclasses import replace
from typing import Self

from larkreader.capture.characters import Characters
from larkreader.capture.measured import Measured
from larkreader.capture.trace import Trace
from larkreader.capture.voltages import Voltages
from larkreader.declare.run.capture_form import CaptureForm, CaptureKind
from larkreader.errors import CaptureError, RequestError
from larkreader.harmless import harmless
from larkreader.sources import Source, path_of

from .character_pieces import ONE_WIRE
from .content import Content, Progress, file_errors
from .first_part import FirstPart, first_traces, first_voltages
from .formats import FORMATS, CharacterFormat, LevelFormat, find_format, known_keys
from .voltage_files import open_voltage_file, voltages_of


class CaptureFile:
    """A capture that is open; its format is found when it is opened.

    Parameters
    ----------
    source : str, pathlib.Path or binary file
        The file; one packed with gzip is unpacked as it is read.
    kind : str, optional
        What the file is: ``vcd``, ``levels``, ``voltages`` or ``samples``, which hold levels; ``characters``,
        ``recording``, ``log``, ``bytes``, ``hex``, ``words`` or ``marked``, which hold characters. Found from its
        content if not given.
    form : CaptureForm, optional
        What the file does not say of itself.
    progress : callable, optional
        Called with the bytes read and the bytes there are, now and then.
    workers : int
        How many processes may take part in reading a VCD file of 64 MB or more. A script that asks for more than one
        needs the guard ``if __name__ == "__main__":``, as for `multiprocessing`.

    Attributes
    ----------
    name : str
        What to call the file.
    kind : str
        As given or found.
    form : CaptureForm
        As given.

    Raises
    ------
    CaptureFileError
        If the file cannot be opened.
    CaptureError
        If it is empty, or its kind cannot be found and is not given.
    RequestError
        If the form states something that must apply and does not.

    Examples
    --------
    >>> import pathlib, tempfile
    >>> path, line = pathlib.Path(tempfile.mkdtemp()) / "pump.vcd", lr.LineSettings.parse("57600 8E1")
    >>> lr.write_vcd(path, {"pump_tx": lr.transmit(b"flow", line)})
    >>> with lr.capture.CaptureFile(path) as file:
    ...     print(file.kind, file.signals())
    ...     wires = file.wires({"from_pump": "pump_tx"})
    vcd ['pump_tx']
    >>> bytes(lr.receive(wires["from_pump"], line).value.astype("u1"))
    b'flow'
    """

    name: str
    kind: CaptureKind
    form: CaptureForm

    def __init__(
        self,
        source: Source,
        *,
        kind: CaptureKind | None = None,
        form: CaptureForm | None = None,
        progress: Progress | None = None,
        workers: int = 1,
    ) -> None:
        path = path_of(source)
        self.name = harmless(str(path), is_name=True)
        self.form = form or CaptureForm()
        with file_errors(path):
            self._content = Content(path, progress, workers)
            try:
                self.kind = kind or find_format(self._content, self.form)
                self.form.check_kind(self.name, self.kind, known_keys(self._content, self.kind))
            except BaseException:
                self.close()
                raise
        self._format = FORMATS[self.kind]

    @property
    def holds_levels(self) -> bool:
        """Whether it holds levels, or voltages that become levels; else it holds characters."""
        return isinstance(self._format, LevelFormat)

    def signals(self) -> list[str]:
        """Name the signals that have a level.

        Of a VCD file scalars and vectors of one bit; bits of wider vectors must be named one by one.

        Raises
        ------
        CaptureError
            If the file holds no levels, or is damaged.
        """
        if isinstance(self._format, CharacterFormat):
            advice = "If its bytes are samples of levels, add their --rate" if self.kind == "bytes" else ""
            wanted = "must be a file of levels or voltages"
            raise CaptureError(self.name, f"holds {self.kind}, not levels", wanted, advice)
        with self._from_its_beginning():
            return [harmless(name, is_name=True) for name in self._format.signals(self._content, self.form)]

    def pieces(self, signals: Mapping[str, str]) -> Iterator[dict[str, Measured]]:
        """Yield what happened next on some wires; the whole capture need not fit into memory.

        Parameters
        ----------
        signals : mapping of str to str
            What each wire is called in the capture, by wire.

        Yields
        ------
        dict of str to Trace or Characters
            By wire. The pieces of a trace go on where the last piece ended, as `CharacterReader.feed` takes them; the
            pieces of characters too. Traces reach to the same time in each piece; a wire is missing as long as its
            level is not known. Characters may be of some wires alone.

        Raises
        ------
        CaptureError
            If the file is not what it was taken for, is damaged, or lacks a signal.
        RequestError
            If the file does not name its wire, and several are wanted.
        """
        with self._from_its_beginning():
            if isinstance(self._format, LevelFormat):
                signals = {wire: self._in_the_file(signal) for wire, signal in signals.items()}
                wires_of: dict[str, list[str]] = {}
                for wire, signal in signals.items():
                    wires_of.setdefault(signal, []).append(wire)
                for levels in self._format.pieces(self._content, list(wires_of), self.form):
                    yield {wire: _harmless(held) for signal, held in levels.items() for wire in wires_of[signal]}
            else:
                found: dict[str, None] = {}
                for held in self._format.pieces(self._content, self.form):
                    characters = _named_harmlessly(held)
                    found |= dict.fromkeys(characters)
                    _check_named(found, self.name)
                    yield dict(_wanted_wires(characters, signals, self.name))
                _check_wires(list(found), signals, self.name)

    def wires(self, signals: Mapping[str, str]) -> dict[str, Measured]:
        """Return some wires whole, by wire; errors as of `pieces`.

        A file of characters may lack some of the wires.

        Parameters
        ----------
        signals : mapping of str to str
            What each wire is called in the capture, by wire.
        """
        traces: dict[str, list[Trace]] = {}
        characters: dict[str, list[Characters]] = {}
        for pieces in self.pieces(signals):
            for wire, piece in pieces.items():
                if isinstance(piece, Trace):
                    traces.setdefault(wire, []).append(piece)
                else:
                    characters.setdefault(wire, []).append(piece)
        whole: dict[str, Measured] = {wire: Characters.joined(parts) for wire, parts in characters.items()}
        return whole | {wire: Trace.joined(traces[wire]) for wire in signals if wire in traces}

    def traces(self, signals: Mapping[str, str]) -> dict[str, Trace]:
        """Return the levels of some wires whole, by wire; errors as of `pieces`.

        A file of characters has none.

        Parameters
        ----------
        signals : mapping of str to str
            What each wire is called in the capture, by wire.
        """
        return {wire: held for wire, held in self.wires(signals).items() if isinstance(held, Trace)}

    def every_wire(self) -> dict[str, Characters]:
        """Return the characters of all wires; one that the file does not name is called ``wire``.

        Raises
        ------
        CaptureError
            If the file holds levels, is not what it was taken for, or is damaged.
        """
        parts: dict[str, list[Characters]] = {}
        for pieces in self.pieces_of_every_wire():
            for wire, piece in pieces.items():
                parts.setdefault(wire, []).append(piece)
        return {wire: Characters.joined(held) for wire, held in parts.items()}

    def pieces_of_every_wire(self) -> Iterator[dict[str, Characters]]:
        """Yield the characters of all wires piece by piece; errors as of `every_wire`."""
        if isinstance(self._format, LevelFormat):
            raise CaptureError(self.name, "holds levels", "must be a file of characters")
        with self._from_its_beginning():
            found: dict[str, None] = {}
            for pieces in self._format.pieces(self._content, self.form):
                characters = _named_harmlessly(pieces)
                found |= dict.fromkeys(characters)
                _check_named(found, self.name)
                yield {wire or "wire": piece for wire, piece in characters.items()}

    def voltages(self, signal: str) -> Voltages:
        """Return the voltages of a signal.

        Parameters
        ----------
        signal : str
            The signal, by its name in the file, or its number where it has none.

        Raises
        ------
        CaptureError
            If the file holds no voltages, is damaged, or lacks the signal.
        """
        with self._from_its_beginning():
            return voltages_of(open_voltage_file(self._content, self.form), self._in_the_file(signal))

    def first_parts(self, signals: Mapping[str, str]) -> dict[str, FirstPart]:
        """Return the first part of some wires, in bounded memory: voltages of a file of voltages, else level changes.

        Parameters
        ----------
        signals : mapping of str to str
            What each wire is called in the capture, by wire.

        Returns
        -------
        dict of str to FirstPart
            By wire. The file is read to its end, so that it is known how much is left out. Voltages are made level
            changes where the form gives thresholds.

        Raises
        ------
        CaptureError
            If the file holds characters, is damaged, or lacks a signal.
        """
        if not self.holds_levels:
            raise CaptureError(self.name, f"holds {self.kind}, not levels", "must be a file of levels or voltages")
        if self.kind != "voltages" or self.form.thresholds is not None:
            return first_traces(self.pieces(signals))
        with self._from_its_beginning():
            file = open_voltage_file(self._content, self.form)
            return {wire: first_voltages(file, self._in_the_file(signal)) for wire, signal in signals.items()}

    def close(self) -> None:
        """Close the file."""
        self._content.close()

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *exception: object) -> None:
        self.close()

    def _in_the_file(self, signal: str) -> str:
        """Return what a signal is called in the file, if its name as it is shown has escapes."""
        if "\\" not in signal or not isinstance(self._format, LevelFormat):
            return signal
        names = self._format.signals(self._content, self.form)
        self._content.seek(0)
        return next((name for name in names if harmless(name, is_name=True) == signal), signal)

    def _from_its_beginning(self) -> AbstractContextManager[None]:
        self._content.seek(0)
        return file_errors(self._content.path)


def _harmless(trace: Trace) -> Trace:
    name = harmless(trace.name, is_name=True)
    return trace if name == trace.name else replace(trace, name=name)


def _named_harmlessly(found: Mapping[str, Characters]) -> dict[str, Characters]:
    return {harmless(wire, is_name=True): held for wire, held in found.items()}


def _check_named(found: Mapping[str, None], name: str) -> None:
    """Raise `CaptureError` if some characters of a file are of a wire without a name, and others of a named wire."""
    if ONE_WIRE in found and len(found) > 1:
        named = ", ".join(wire for wire in found if wire != ONE_WIRE)
        raise CaptureError(name, f"has characters without a wire, beside those of {named}", "each must have a wire")


def _wanted_wires(found: Mapping[str, Characters], signals: Mapping[str, str], name: str) -> Mapping[str, Characters]:
    """Return the characters of the wanted wires."""
    if ONE_WIRE in found:
        if len(signals) != 1:
            advice = f"Name the wire: {', '.join(signals)}"
            raise RequestError(name, "holds bytes of a single wire, but the sheet declares several", "", advice)
        return dict.fromkeys(signals, found[ONE_WIRE])
    by_signal = {signal: wire for wire, signal in signals.items()}
    named = {by_signal.get(wire, wire): held for wire, held in found.items()}
    return {wire: held for wire, held in named.items() if wire in signals}


def _check_wires(found: Sequence[str], signals: Mapping[str, str], name: str) -> None:
    """Raise `CaptureError` if a file has none of the wanted wires."""
    if not {ONE_WIRE, *signals, *signals.values()} & set(found):
        raise CaptureError(
            name, f"holds the wires {', '.join(found) or 'none'}", f"must hold one of {', '.join(signals)}"
        )
