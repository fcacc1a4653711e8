"""What may stand wherever a file is meant: its path, or an open binary file."""

from __future__ import annotations

import errno
import os
import shutil
import stat
import tempfile
import weakref
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any, BinaryIO, Protocol

from larkreader.errors import RequestError


class Readable(Protocol):
    """An open binary file, or anything that is read like one."""

    def read(self, size: int = -1, /) -> bytes:
        """Return the next bytes; none at the end."""
        ...


Source = str | os.PathLike[str] | Readable
"""A file to read: its path, or an open binary file, of which the rest is read."""
Target = str | os.PathLike[str] | BinaryIO
"""A file to write: its path, or an open binary file, which stays open."""
PIECE = 1 << 20  # bytes of a file that are hashed at once
NO_ROOM = (errno.ENOSPC, errno.EFBIG, getattr(errno, "EDQUOT", errno.ENOSPC))


class SpooledPath(type(Path())):  # type: ignore[misc]  # the kind of path that this system has
    """The path of a temporary copy that is called by the name of what it is a copy of."""

    shown = ""

    def __str__(self) -> str:
        return self.shown or self.__fspath__()

    def __fspath__(self) -> str:
        return str(super().__str__())


def _copied(pipe: Path) -> Path:
    """Return the path of a copy of what a named pipe holds."""
    with pipe.open("rb") as stream:
        return path_of(stream)


def path_of(source: Source) -> Path:
    """Return the path of a file to read.

    Parameters
    ----------
    source : str, path or binary file
        The rest of an open file, and what a pipe holds, is copied, as captures are read more than once; the copy goes
        with the path that is returned.

    Returns
    -------
    pathlib.Path
        Where it can be read; its text is what to call it.

    Raises
    ------
    RequestError
        If it is neither, or a file of text.
    """
    if isinstance(source, (str, os.PathLike)):
        path = source if isinstance(source, Path) else Path(source)
        return path if not path.is_fifo() else _copied(path)
    if not hasattr(source, "read"):
        raise RequestError("file", f"is of type {type(source).__name__}", "must be a path or an open binary file")
    name = getattr(source, "name", None)
    shown = name if isinstance(name, str) else type(source).__name__
    folder = tempfile.mkdtemp(prefix="larkreader-")
    try:
        path = SpooledPath(folder, "capture" + "".join(Path(shown).suffixes[-2:]))
        with path.open("wb") as copy:
            shutil.copyfileobj(source, copy, 1 << 20)
    except BaseException as error:
        shutil.rmtree(folder, ignore_errors=True)
        if isinstance(error, TypeError):
            raise RequestError(shown, "is open as text", 'must be opened as bytes, with "rb"') from None
        raise
    path.shown = shown
    weakref.finalize(path, shutil.rmtree, folder, ignore_errors=True)
    return path


@contextmanager
def written_whole(path: str | os.PathLike[str]) -> Iterator[BinaryIO]:
    """Open a file to write bytes into, which has its name only once all of it is on the disk.

    It is written under another name in the same folder. Whatever ends the work before, a file that was there is still
    there, whole. What is not a file, such as a pipe or a device, is written directly, as is a file in a folder in which
    no other may be made.

    Parameters
    ----------
    path : str or pathlib.Path
        The file. Through a symbolic link that to which it leads is written.

    Yields
    ------
    binary file
        What to write into.

    Raises
    ------
    OSError
        If it cannot be written.
    """
    given = Path(path)
    if (given.exists() and not given.is_file()) or given.is_relative_to("/dev") or given.is_relative_to("/proc"):
        with given.open("wb") as file:
            yield file
        return
    final = Path(os.path.realpath(given))
    if final.exists() and not os.access(final, os.W_OK):
        raise PermissionError(errno.EACCES, os.strerror(errno.EACCES), str(path))
    try:
        handle, name = tempfile.mkstemp(dir=final.parent, prefix=f".{final.name[:100]}.", suffix=".part")
    except PermissionError:
        with final.open("wb") as file:
            yield file
        return
    except OSError as error:
        error.filename = str(path)
        raise
    beside = Path(name)
    try:
        with os.fdopen(handle, "wb") as file:
            yield file
            file.flush()
            os.fsync(file.fileno())
        beside.chmod(stat.S_IMODE(final.stat().st_mode) if final.exists() else 0o666 & ~_umask())
        beside.replace(final)
    except BaseException as error:
        beside.unlink(missing_ok=True)
        if isinstance(error, OSError) and error.errno in NO_ROOM and error.filename is None:
            error.filename = str(path)
        raise


def write_whole(path: str | os.PathLike[str], content: str | bytes) -> None:
    """Write a file, which has its name only once all of it is on the disk; see `written_whole`.

    Parameters
    ----------
    path : str or pathlib.Path
        The file.
    content : str or bytes
        What it will hold; text as UTF-8.
    """
    with written_whole(path) as file:
        file.write(content.encode() if isinstance(content, str) else content)


def _umask() -> int:
    """Return which permissions new files do not get; it can only be read by setting it."""
    mask = os.umask(0)
    os.umask(mask)
    return mask


@contextmanager
def opened_to_write(target: Target) -> Iterator[Any]:
    """Open a file to write bytes into, which then is whole or not there; one that is open already stays open."""
    if isinstance(target, (str, os.PathLike)):
        with written_whole(target) as file:
            yield file
    else:
        yield target
        target.flush()


def name_of(path: Path) -> str:
    """Return what to call a file: its name without folders, or what it is a copy of."""
    return str(path) if isinstance(path, SpooledPath) else path.name


def identity_of(path: Path) -> str:
    """Return what distinguishes a file from others: its size and its hash."""
    return f"{path.stat().st_size:,} bytes, SHA-256 {hash_of(path)}"


def hash_of(path: Path) -> str:
    """Return the SHA-256 of what a file holds, in hexadecimal."""
    from hashlib import sha256

    digest = sha256()
    with path.open("rb") as file:
        while piece := file.read(PIECE):
            digest.update(piece)
    return digest.hexdigest()
