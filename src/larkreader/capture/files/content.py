"""The content of a file, unpacked where it was packed with gzip (RFC 1952), as far as it goes."""

from __future__ import annotations

import gzip
import io
import stat
import zlib
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from functools import cached_property
from pathlib import Path
from typing import Any, BinaryIO, Literal, cast

import numpy as np
import numpy.typing as npt

from larkreader.errors import CaptureError, CaptureFileError

Progress = Callable[[int, int], None]

GZIP_MAGIC = b"\x1f\x8b"
LARGE = 1 << 26  # bytes of a file
LOOKED_AT = 1 << 16  # bytes from which is found what a file holds


class Content(io.RawIOBase):
    """A file that is read; packed content that breaks off ends there, and `truncated` says so.

    Parameters
    ----------
    path : pathlib.Path
        The file.
    progress : callable, optional
        Called with the bytes read and the bytes there are, whenever some were read.
    workers : int
        How many processes may take part in reading it, where its format allows that.
    """

    name: str
    truncated: str

    def __init__(self, path: Path, progress: Progress | None = None, workers: int = 1) -> None:
        self.path: Path = path
        self.workers: int = workers
        self.name: str = str(path)
        self._file = path.open("rb")
        found = path.stat()
        self._size, self._is_regular = found.st_size, stat.S_ISREG(found.st_mode)  # a file may grow while it is read
        self._progress = progress
        self.is_packed: bool = self._file.read(2) == GZIP_MAGIC
        self._file.seek(0)
        self._from: BinaryIO = cast(BinaryIO, gzip.GzipFile(fileobj=self._file)) if self.is_packed else self._file
        self.truncated = ""

    def readable(self) -> bool:
        """Return True."""
        return True

    def seekable(self) -> bool:
        """Return True."""
        return True

    def read(self, size: int = -1, /) -> bytes:
        """Return the next bytes, as many as are wanted unless the content ends, where it ended when it was opened."""
        parts, wanted = [], size if size >= 0 else 1 << 62
        if self._is_regular and not self.is_packed:
            wanted = min(wanted, max(self._size - self._file.tell(), 0))
        while wanted:
            part = b""
            with self._unpacking():
                most = wanted if self._is_regular and not self.is_packed else min(wanted, 1 << 24)
                part = self._from.read1(most) if self.is_packed else self._from.read(most)  # type: ignore[attr-defined]  # as gzip has it
            if not part:
                break
            parts.append(part)
            wanted -= len(part)
        if self._progress is not None:
            self._progress(self._file.tell(), self._size)
        return b"".join(parts)

    def readall(self) -> bytes:
        """Return all the rest."""
        return self.read(-1)

    def readinto(self, buffer: bytearray | memoryview, /) -> int:  # type: ignore[override]  # what io calls it with
        """Read into a buffer; return how many bytes."""
        data = self.read(len(buffer))
        buffer[: len(data)] = data
        return len(data)

    @property
    def ending(self) -> str:
        """The ending of the file's name, in lower case, without the one of gzip."""
        return Path(self.path.stem if self.path.suffix == ".gz" else self.path).suffix.lower()

    @cached_property
    def head(self) -> bytes:
        """How the content begins; reading goes on from the beginning."""
        head = self.read(LOOKED_AT)
        self.seek(0)
        return head

    @property
    def is_shared(self) -> bool:
        """Whether other processes are to take part: a file that is not packed, and large enough to be worth it."""
        return self.workers > 1 and not self.is_packed and self._is_regular and self._size >= LARGE

    def go_to(self, place: int) -> None:
        """Go to a place up to which others have read."""
        self.seek(place)
        if self._progress is not None:
            self._progress(place, self._size)

    @cached_property
    def size(self) -> int:
        """Bytes of the content; packed content is read to its end to count them."""
        if not self.is_packed:
            return self._size
        place, size = self.tell(), 0
        self.seek(0)
        while piece := self.read(1 << 24):
            size += len(piece)
        self.seek(place)
        return size

    def array(
        self, dtype: np.dtype[Any], shape: tuple[int, ...], offset: int, order: Literal["C", "F"]
    ) -> npt.NDArray[Any]:
        """Return an array that the content holds: mapped into memory where the file is not packed."""
        if not self.is_packed:
            return np.memmap(self.path, dtype, mode="r", offset=offset, shape=shape, order=order)
        self.seek(offset)
        data = self.read(dtype.itemsize * int(np.prod(shape, dtype=np.int64)))
        return np.frombuffer(data, dtype).reshape(shape, order=order)

    def seek(self, offset: int, whence: int = 0, /) -> int:
        """Go to a place of the content."""
        if whence == io.SEEK_END:
            offset, whence = offset + self.size, io.SEEK_SET
        with self._unpacking():
            self._from.seek(offset, whence)
        return self._from.tell()

    @contextmanager
    def _unpacking(self) -> Iterator[None]:
        """Take note where packed content breaks off; refuse it where it is damaged."""
        try:
            yield
        except EOFError:
            self.truncated = "the packed content breaks off"
        except (gzip.BadGzipFile, zlib.error) as error:
            raise CaptureError(self.name, f"is a damaged gzip file: {error}") from None

    def tell(self) -> int:
        """Return the place in the content."""
        return self._from.tell()

    def close(self) -> None:
        """Close the file, if it could be opened."""
        if not self.closed and hasattr(self, "_file"):
            self._file.close()
        super().close()


@contextmanager
def file_errors(path: Path) -> Iterator[None]:
    """Turn what the system says of a file into an error of ours."""
    try:
        yield
    except FileNotFoundError:
        raise CaptureFileError(str(path), "does not exist") from None
    except IsADirectoryError:
        raise CaptureFileError(str(path), "is a folder, not a file") from None
    except OSError as error:
        if isinstance(error, CaptureFileError):
            raise
        raise CaptureFileError(str(path), f"cannot be read: {error.strerror or error}") from None
