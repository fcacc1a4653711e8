"""Ten megabytes looped back through a pseudo terminal and through TCP, beside a bare read and write loop on the same.

The echo at the other end is the same in both: a thread that writes back what it reads.
"""

from __future__ import annotations

import os
import select
import socket
import threading
import time
import tty
from collections.abc import Iterator
from contextlib import contextmanager
from statistics import median

import larkreader as lr
from larkreader.exercise.ports.tcp import TcpPort

COUNT = 10_000_000
ROUNDS = 3
PATTERN = bytes(range(256)) * 16  # written at once, with as much under way


def echo(number: int) -> None:
    """Write back what arrives until the other end goes away."""
    while True:
        try:
            data = os.read(number, 1 << 16)
            while data:
                data = data[os.write(number, data) :]
        except OSError:
            return


@contextmanager
def pty_pair() -> Iterator[lr.Port]:
    port = lr.open_port("pty")
    far = os.open(port.name, os.O_RDWR | os.O_NOCTTY)
    tty.setraw(far)
    threading.Thread(target=echo, args=(far,), daemon=True).start()
    with port:
        yield port
    os.close(far)


@contextmanager
def tcp_pair() -> Iterator[lr.Port]:
    with socket.create_server(("127.0.0.1", 0)) as server:
        near = socket.create_connection(server.getsockname())
        far, _ = server.accept()
    far.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
    threading.Thread(target=echo, args=(far.fileno(),), daemon=True).start()
    with TcpPort(near, "tcp") as port:
        yield port
    far.close()


def bare(port: lr.Port) -> float:
    """Write and read the same bytes with nothing around it; return the bytes a second."""
    number, sent, received = port._descriptor, 0, 0
    begin = time.perf_counter()
    while received < COUNT:
        if sent < COUNT and sent - received < 2 * len(PATTERN):
            sent += os.write(number, PATTERN[: COUNT - sent])
        ready, _, _ = select.select([number], [], [], 5)
        received += len(os.read(number, 1 << 16)) if ready else 0
    return COUNT / (time.perf_counter() - begin)


def ours(port: lr.Port) -> float:
    """Loop back; return the bytes a second from the first one written to the last one read."""
    result = lr.run_loopback(port, lr.LoopbackPlan(characters=COUNT, limit_s=0.2))
    assert result.verdict == "pass"
    return result.characters_per_second


def main() -> None:
    for title, pair in (("pseudo terminal", pty_pair), ("TCP", tcp_pair)):
        ratios, rates = [], []
        for _ in range(ROUNDS):
            with pair() as port:
                plain = bare(port)
                rates.append(ours(port))
                ratios.append(rates[-1] / plain)
        print(f"{title}: {median(rates) / 1e6:.1f} MB/s, {median(ratios):.2f} of the bare loop's")


if __name__ == "__main__":
    main()
