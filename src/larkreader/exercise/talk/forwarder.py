"""A device with two ends that sends on at each what arrives at the other, both ways."""

from __future__ import annotations

from larkreader.exercise.ports.port import Port, Received

WRITE_LIMIT_S = 5.0  # for what is sent on; a far end that takes nothing for so long is stuck


class Forwarder:
    """Joins two ports.

    Parameters
    ----------
    first, second : Port
        Both open.

    Attributes
    ----------
    counts : list of int
        How many characters arrived at each.
    """

    def __init__(self, first: Port, second: Port) -> None:
        self._ports = (first, second)
        self.counts: list[int] = [0, 0]

    def look(self, limit_s: float) -> tuple[Received, Received]:
        """Look once at each port, for up to half of `limit_s` seconds, and send on what is there.

        Returns
        -------
        tuple of Received and Received
            What arrived at the first, and at the second.

        Raises
        ------
        PortError
            If a port is gone, or takes nothing.
        """
        return self.look_at(0, limit_s / 2), self.look_at(1, limit_s / 2)

    def look_at(self, number: int, limit_s: float) -> Received:
        """Look once at port 0 or 1, and send on what is there."""
        received = self._ports[number].read_some(4096, limit_s)
        if received.data:
            self.counts[number] += len(received.data)
            self._ports[1 - number].write(received.data, WRITE_LIMIT_S)
        return received
