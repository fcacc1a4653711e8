"""A VCD file that is scanned: a large one by several processes, each a stretch of it in turn.

What a stretch holds is found without what stands before it, as long as it holds nothing but times and changes of
scalars, as most do. Whatever else it holds is left to this process, which then goes through it as if it were alone, so
that the result is the same with any number of processes. The beginning and the end of a file are always its own.

Each process has one stretch at a time, and its result is fetched before it is given the next: neither side ever waits
for the other to read, and what is under way is bounded.
"""

from __future__ import annotations

import io
import os
from collections import deque
from collections.abc import Generator, Iterator, Sequence
from contextlib import suppress
from typing import TYPE_CHECKING, Any, BinaryIO

from .content import Content
from .vcd_blocks import VcdBlocks
from .vcd_header import Variable
from .vcd_scan import Scan, Scanned

if TYPE_CHECKING:  # few files are so large, and what begins processes takes a while to load
    from multiprocessing.connection import Connection
    from multiprocessing.process import BaseProcess

ALONE = 1 << 24  # bytes that are scanned before other processes are begun
STRETCH = 1 << 22  # bytes that a process scans at a time
LOOKED_AT = 1 << 12  # bytes in which a stretch has to end

Wanted = Sequence[tuple[Variable, int]]


class VcdStretches:
    """The rest of a VCD file, which is scanned as it is iterated over.

    Each item is how many bytes were read, and of them those that were not scanned: the last block of the file, if it
    does not end with white space.

    Parameters
    ----------
    file : Content
        Behind its header.
    scan : Scan
        What takes in what the file holds.

    Attributes
    ----------
    truncated : str
        As of `VcdBlocks`.
    """

    truncated: str

    def __init__(self, file: Content, scan: Scan) -> None:
        self._file, self._scan = file, scan
        self.truncated = ""

    def __iter__(self) -> Generator[tuple[int, bytes], None, None]:
        pool: ScanPool | None = None
        is_shared = self._file.is_shared and all(variable.size == 1 for variable, _ in self._scan.wanted)
        blocks, read = VcdBlocks(self._file), 0
        rest = iter(blocks)
        try:
            for block in rest:
                yield self._scanned(block)
                read += len(block)
                if is_shared and read >= ALONE:
                    pool = pool or ScanPool(self._file, self._scan.wanted)
                    if pool.is_ready():
                        yield from self._shared(pool, blocks.place)
                        blocks = VcdBlocks(self._file)
                        rest = iter(blocks)
                        break
            for block in rest:  # behind what was shared, if anything was
                yield self._scanned(block)
        finally:
            if pool is not None:
                pool.close()
        self.truncated = blocks.truncated

    def _shared(self, pool: ScanPool, begin: int) -> Iterator[tuple[int, bytes]]:
        """Let other processes scan the rest, but for the end of the file; it is read from there on."""
        place = begin
        for first, end, found in pool.scanned(self._cuts(begin)):
            if found is not None and self._scan.take(found, end - first):
                yield end - first, b""
            else:
                self._file.seek(first)
                data = self._file.read(end - first)
                if b"\0" in data:  # the file may end here
                    break
                yield from map(self._scanned, VcdBlocks(_Part(data, self._file.name)))
            place = end
            self._file.go_to(place)
        self._file.seek(place)

    def _cuts(self, begin: int) -> Iterator[tuple[int, int]]:
        """Yield stretches of the file that end before a time, as far as there are such, but for its end."""
        while begin + 2 * STRETCH < self._file.size:
            self._file.seek(begin + STRETCH - LOOKED_AT)
            data = self._file.read(LOOKED_AT)
            cut = data.rfind(b"\n#") + 1
            last = data[:cut].rsplit(None, 1)
            if not cut or (last and last[-1][:1] in b"bBrRsS"):  # a vector, whose code may begin with a #
                return
            end = begin + STRETCH - LOOKED_AT + cut
            yield begin, end
            begin = end

    def _scanned(self, block: bytes) -> tuple[int, bytes]:
        """Scan a block, unless it does not end with white space."""
        if block[-1] > 0x20:
            return len(block), block
        self._scan.feed(block)
        return len(block), b""


class _Part(io.BytesIO):
    """A part of a file, with its name."""

    def __init__(self, data: bytes, name: str) -> None:
        super().__init__(data)
        self.name = name


class ScanPool:
    """Processes that scan stretches of a file, in turn.

    Parameters
    ----------
    file : Content
        The file, with how many processes there are to be.
    wanted : sequence of tuple of Variable and int
        Which variables, and which bit of each.
    """

    def __init__(self, file: Content, wanted: Wanted) -> None:
        from larkreader.processes import worker_context

        context: Any = worker_context([__name__])
        self._workers: list[tuple[BaseProcess, Connection]] = []
        try:
            for _ in range(file.workers):
                here, there = context.Pipe()
                arguments = (there, os.fspath(file.path), wanted)
                process = context.Process(target=_work, args=arguments, daemon=True)
                process.start()
                there.close()
                self._workers.append((process, here))
        except BaseException:
            self.close()
            raise

    def is_ready(self) -> bool:
        """Return whether all of them have begun to work."""
        return all(connection.poll() for _, connection in self._workers)

    def scanned(self, cuts: Iterator[tuple[int, int]]) -> Iterator[tuple[int, int, Scanned | None]]:
        """Yield where stretches begin and end, in their order, and what each holds; None if no process found that."""
        busy: deque[tuple[int, int, Connection]] = deque()
        idle = deque(connection for _, connection in self._workers)
        for connection in idle:
            _received(connection)  # that it is ready
        for begin, end in cuts:
            done: tuple[int, int, Scanned | None] | None = None
            if not idle:
                first, until, connection = busy.popleft()
                done = first, until, _received(connection)
                idle.append(connection)
            connection = idle.popleft()
            with suppress(OSError):  # of a process that was ended
                connection.send((begin, end))
            busy.append((begin, end, connection))
            if done is not None:
                yield done
        for first, until, connection in busy:
            yield first, until, _received(connection)

    def close(self) -> None:
        """End the processes, whatever they are doing."""
        for process, connection in self._workers:
            process.terminate()
            connection.close()
        for process, _ in self._workers:
            process.join()


def _received(connection: Connection) -> Scanned | None:
    """Return what a process found; None if it found nothing, or was ended."""
    try:
        found: Scanned | None = connection.recv()
    except (EOFError, OSError):
        return None
    return found


def _work(connection: Connection, path: str, wanted: Wanted) -> None:
    """Scan one stretch after the other, until the other end is closed."""
    from larkreader.processes import begin_worker

    begin_worker()
    with suppress(EOFError, OSError), open(path, "rb") as file:  # noqa: PTH123  # it is the name of a file
        connection.send(None)
        while True:
            begin, end = connection.recv()
            connection.send(scan_part(file, begin, end, wanted))


def scan_part(file: BinaryIO, begin: int, end: int, wanted: Wanted) -> Scanned | None:
    """Return what a part of a file holds; None unless it holds nothing but times and changes of scalars."""
    file.seek(begin)
    blocks = VcdBlocks(_Part(file.read(end - begin), ""))
    found = Scanned.of(blocks, wanted)
    return None if blocks.truncated else found
