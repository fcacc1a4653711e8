"""What a port is: something that bytes are sent into and received from, with a clock of its own."""

from __future__ import annotations

from abc import ABC, abstractmethod
from types import TracebackType
from typing import Literal, NamedTuple, Self

from larkreader.declare.link.line import LineSettings
from larkreader.errors import PortError

HELD_BACK = "Check flow control, and whether the other end reads"


class Received(NamedTuple):
    """What a port returned, and what ended the wait for it.

    Parameters
    ----------
    data : bytes
        The characters, a byte each.
    ended_by : {"length", "time"}
        Whether all that was asked for arrived, or the time was up first.
    faults : bytes
        Flags of `Fault`, one byte a character; empty where the port knows of none.
    """

    data: bytes
    ended_by: Literal["length", "time"]
    faults: bytes = b""


class Port(ABC):
    """One end of a line. A context manager; one thread may read while another writes.

    Attributes
    ----------
    name : str
        What it is called; for a pseudo terminal, the path that the other side opens.
    line : LineSettings or None
        Its settings; None where there are none, as over a network.
    marks_faults : bool
        Whether faults of the line are marked in what is received.
    is_simulated : bool
        Whether its time is its own and goes on only while it is read.
    notes : tuple of str
        What is worth knowing about this port: settings that the driver did not take, faults that it cannot report.
    """

    name: str = ""
    line: LineSettings | None = None
    marks_faults: bool = False
    is_simulated: bool = False
    notes: tuple[str, ...] = ()
    _closed: bool = False

    @abstractmethod
    def read_some(self, most: int, limit_s: float) -> Received:
        """Receive what is there, `most` characters at most; wait up to `limit_s` seconds for one.

        Parameters
        ----------
        most : int
            Most characters.
        limit_s : float
            How long to wait for the first, in seconds.
        """

    @abstractmethod
    def write(self, data: bytes, limit_s: float | None = None) -> None:
        """Send all of `data`; return when the port has taken it.

        Parameters
        ----------
        data : bytes
            What to send; two bytes a character with nine data bits.
        limit_s : float, optional
            How long the port may take, in seconds.

        Raises
        ------
        PortError
            If the port is gone, or has not taken all within `limit_s` seconds; the message gives how much it took.
        """

    @abstractmethod
    def now_s(self) -> float:
        """Return the time on the port's own clock, in seconds."""

    @abstractmethod
    def close(self) -> None:
        """Give the port back as it was found. Closing it once more does nothing."""

    def read(self, length: int, limit_s: float) -> Received:
        """Receive `length` characters, or as many as arrive within `limit_s` seconds.

        Parameters
        ----------
        length : int
            How many characters are wanted.
        limit_s : float
            How long to wait for all of them.

        Returns
        -------
        Received
            ``ended_by`` shows which of the two ended it.

        Raises
        ------
        PortError
            If the port is gone.
        """
        data, faults = bytearray(), bytearray()
        deadline = self.now_s() + limit_s
        while len(data) < length:
            remaining = deadline - self.now_s()
            if remaining < 0:
                break
            some = self.read_some(length - len(data), remaining)
            data += some.data
            faults += some.faults
            if not some.data:  # then it has waited as long as it may
                break
        return Received(bytes(data), "length" if len(data) == length else "time", bytes(faults))

    def set_modem_line(self, name: str, asserted: bool) -> None:
        """Assert or release a control line, ``rts`` or ``dtr``.

        Parameters
        ----------
        name : {"rts", "dtr"}
            The line.
        asserted : bool
            Whether to assert it.

        Raises
        ------
        PortError
            If the port has no such line.
        """
        raise PortError(f"port {self.name}", "has no control lines")

    def send_break(self) -> None:
        """Hold the line at start level for longer than a character.

        Raises
        ------
        PortError
            If the port cannot.
        """
        raise PortError(f"port {self.name}", "cannot send a break")

    def modem_lines(self) -> dict[str, bool]:
        """Return which control lines are asserted, by name; empty where the port has none."""
        return {}

    def error_counters(self) -> dict[str, int]:
        """Return how many errors of each kind the port's driver has counted; empty where it counts none."""
        return {}

    def path_fates(self) -> dict[str, int]:
        """Return what has become of the characters in a simulated far end's receive path; empty where there is none."""
        return {}

    def _took_too_little(self, taken: int, length: int, limit_s: float | None, advice: str = "") -> PortError:
        """Return the error of a write that the port did not take in time."""
        within = "" if limit_s is None else f" within {limit_s:g} s"
        return PortError(f"port {self.name}", f"took {taken} of {length} bytes{within}", "", advice)

    def _check_open(self) -> None:
        """Raise `PortError` if the port has been closed; who closes one sets `_closed`."""
        if self._closed:
            raise PortError(f"port {self.name}", "is closed")

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()
