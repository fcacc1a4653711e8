"""Ports over TCP: one that connects, and one that waits for a device to connect."""

from __future__ import annotations

import socket

from larkreader.errors import PortError

from .descriptor import DescriptorPort

CONNECT_S = 5.0


class TcpPort(DescriptorPort):
    """A connection over TCP.

    Parameters
    ----------
    connection : socket.socket
        Connected; it belongs to the port from now on.
    name : str
        What to call the port.
    """

    notes: tuple[str, ...] = ("over TCP the faults of characters and the exact times of their arrival are not known",)

    def __init__(self, connection: socket.socket, name: str) -> None:
        connection.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        connection.setblocking(False)
        super().__init__(connection.fileno(), name)
        self._connection = connection  # a socket is not a file on every system, so that its own calls are used

    def _give(self, data: memoryview) -> int:
        return self._connection.send(data)

    def _take(self, most: int) -> bytes:
        return self._connection.recv(most)

    def _release(self) -> None:
        self._connection.close()


def connect(host: str, number: int) -> TcpPort:
    """Connect to a device that listens.

    Parameters
    ----------
    host : str
        Its name or address.
    number : int
        Its TCP port, 1 to 65535.

    Returns
    -------
    TcpPort

    Raises
    ------
    PortError
        If it cannot be reached.
    """
    name = f"{host}:{number}"
    try:
        return TcpPort(socket.create_connection((host, number), timeout=CONNECT_S), name)
    except OSError as error:
        raise _unreachable(name, error) from None


def accept(host: str, number: int, *, limit_s: float | None = None) -> TcpPort:
    """Wait for a device to connect.

    Parameters
    ----------
    host : str
        The address of this machine at which to listen.
    number : int
        The TCP port at which to listen.
    limit_s : float, optional
        How long to wait, in seconds; for ever by default.

    Returns
    -------
    TcpPort

    Raises
    ------
    PortError
        If the address cannot be listened at, or there is no connection in time.
    """
    name = f"accept:{host}:{number}"
    try:
        with socket.create_server((host, number)) as server:
            server.settimeout(limit_s)
            connection, _ = server.accept()
    except TimeoutError:
        raise PortError(f"port {name}", f"saw no connection within {limit_s:g} s") from None
    except OSError as error:
        raise _unreachable(name, error) from None
    return TcpPort(connection, name)


def _unreachable(name: str, error: OSError) -> PortError:
    if isinstance(error, ConnectionRefusedError):
        return PortError(f"port {name}", "refuses the connection", advice="Is the device's server running there?")
    if isinstance(error, socket.gaierror):
        return PortError(
            f"port {name}", "names a host that is not known", advice="Check the spelling, or give its address"
        )
    if isinstance(error, TimeoutError):
        return PortError(f"port {name}", f"does not answer within {CONNECT_S:g} s")
    return PortError(f"port {name}", f"cannot be used: {error.strerror or error}")
