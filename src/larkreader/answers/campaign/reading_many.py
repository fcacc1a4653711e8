"""Many captures read against one sheet, into a store."""

from __future__ import annotations

import hashlib
import os
import time
from collections.abc import Iterable, Mapping, Sequence
from concurrent.futures import Executor
from pathlib import Path

from larkreader.declare.document.sheet import Sheet
from larkreader.declare.document.sheet_file import open_sheet
from larkreader.declare.run.capture_form import CaptureForm, CaptureKind
from larkreader.errors import RequestError
from larkreader.sources import Source, hash_of, path_of

from .campaign import Campaign
from .members import CaptureFileOf, find_captures, key_of
from .run import Progress, read_all
from .store import Known, SqliteStore, Store, open_store
from .summary import CaptureRows, HowToRead, clock_limits
from .tables import names_of

COMMIT_MOST = 5000  # captures after which what was read is kept, however little time has passed


def read_many(
    sheet: Sheet | Source,
    captures: Iterable[str | os.PathLike[str] | CaptureFileOf] | str | os.PathLike[str],
    *,
    labels: str | None = None,
    store: str | os.PathLike[str] | None = None,
    resume: bool = False,
    executor: Executor | None = None,
    workers: int | None = None,
    kind: CaptureKind | None = None,
    form: CaptureForm | None = None,
    wire: str | None = None,
    progress: Progress | None = None,
) -> Campaign:
    r"""Read many captures against a sheet, and keep what each shows.

    Parameters
    ----------
    sheet : Sheet, str, path or binary file
        What was declared, or the file that holds it.
    captures : str, path, CaptureFileOf, or iterable of these
        Files, folders, patterns, lists, manifests; see `find_captures`.
    labels : str, optional
        Where labels stand in paths, as of `find_captures`.
    store : str or path, optional
        Where rows are kept: an SQLite file, or a folder of Parquet files where the path has no ending; in memory unless
        given. What was read is kept there from then on, even if the run is interrupted or killed.
    resume : bool
        Whether to go on with a store that is there: only captures that are new, have changed, or could not be read are
        read.
    executor : concurrent.futures.Executor, optional
        What runs the reading; processes of this machine unless given. The files must be at the same paths where it
        runs.
    workers : int, optional
        How many processes of this machine; as many as there are cores by default, and 1 reads in this process.
    kind, form, wire : optional
        As of `read`.
    progress : callable, optional
        Called with how many captures are read, and how many there are to read.

    Returns
    -------
    Campaign
        A file that cannot be read is a row with its error.

    Raises
    ------
    SheetError
        If the sheet cannot be used.
    RequestError
        If no capture is found, the store is there and `resume` is not wanted, its captures were read against another
        sheet, or the executor ends.
    CaptureError
        If a list or a manifest cannot be read.

    Examples
    --------
    >>> import pathlib, tempfile
    >>> folder = pathlib.Path(tempfile.mkdtemp())
    >>> for board in (1, 2):
    ...     _ = (folder / f"board{board}.bin").write_bytes(b"\xd7\x05" * 50 * board)
    >>> layout = lr.FrameLayout(
    ...     boundary={"kind": "marker", "marker": "D7"}, fields=[{"name": "flow", "type": "uint8"}]
    ... )
    >>> sheet = lr.Sheet(wire={"pump": {}}, frame={"status": layout})
    >>> campaign = lr.read_many(sheet, folder, labels="board{board}", workers=1)
    >>> campaign.captures[["board", "verdict"]].values.tolist()
    [['1', 'clean'], ['2', 'clean']]
    """
    declared = sheet if isinstance(sheet, Sheet) else open_sheet(path_of(sheet))
    declared.wires_named(wire)
    name = declared.title if isinstance(sheet, Sheet) else str(path_of(sheet))
    is_single = isinstance(captures, str | CaptureFileOf) or hasattr(captures, "__fspath__")
    members = find_captures([captures] if is_single else captures, labels=labels)  # type: ignore[list-item,arg-type]
    _check_labels(members)
    limits = {key: clock_limits(declared, key) for key in declared.wires_named(wire)}
    how = HowToRead(kind, form, wire, limits)
    as_declared = declared.model_dump_json(exclude={"policy"})  # which decides nothing about reading
    read_as = "\n".join((as_declared, str(kind), "" if form is None else form.model_dump_json(), str(wire)))
    about = {"sheet": name, "sheet_sha256": hashlib.sha256(read_as.encode()).hexdigest()}
    opened = _opened(None if store is None else Path(store), about, resume=resume)
    try:
        by_path = {member.path: member.labels for member in members}
        items = _to_read(opened, by_path)
        held: list[CaptureRows] = []
        committed_s = time.monotonic()
        try:
            for some in read_all(declared, how, items, executor=executor, workers=workers, progress=progress):
                held += some
                if len(held) >= COMMIT_MOST or time.monotonic() - committed_s >= opened.commit_s:
                    opened.add(held, by_path)
                    held, committed_s = [], time.monotonic()
        finally:
            opened.add(held, by_path)  # what was read before an interrupt is kept
    except BaseException:
        opened.close()
        raise
    return Campaign(opened)


def _opened(path: Path | None, about: Mapping[str, str], *, resume: bool) -> Store:
    if path is None:
        return SqliteStore(None, about)
    if not path.parent.is_dir():
        raise RequestError(f'store "{path}"', f"cannot be written: there is no folder {path.parent}")
    is_there = path.exists() and not (path.is_dir() and not any(path.iterdir()))
    if is_there and not resume:
        advice = "Resume it to read what is new, or remove it"
        raise RequestError(f'store "{path}"', "is there already", "must be new", advice)
    opened = open_store(path, about)
    before = opened.about
    if before["sheet_sha256"] != about["sheet_sha256"]:
        opened.close()
        found = f'has captures that were read against another sheet, or in another way: "{before["sheet"]}"'
        raise RequestError(f'store "{path}"', found, "must be resumed as it was begun", "Begin a new store")
    return opened


def _to_read(store: Store, members: Mapping[str, Mapping[str, str]]) -> list[tuple[int, str]]:
    """Return number and file of the captures that are new, changed, or could not be read; relabel the others."""
    known = {key_of(path): item for path, item in store.known().items()}
    following = 1 + max((item.number for item in known.values()), default=0)
    items: list[tuple[int, str]] = []
    kept: dict[int, Mapping[str, str]] = {}
    for path, labels in members.items():
        before = known.get(key_of(path))
        if before is None:
            items.append((following, path))
            following += 1
        elif _is_unchanged(path, before):
            kept[before.number] = labels
        else:
            items.append((before.number, path))
    labelled: dict[int, dict[str, str]] = {}
    for number, name, value in store.rows("labels") if kept else ():
        labelled.setdefault(number, {})[name] = value
    changed = {number: labels for number, labels in kept.items() if labelled.get(number, {}) != dict(labels)}
    if changed:
        store.relabel(changed)
    return items


def _is_unchanged(path: str, before: Known) -> bool:
    """Return whether a file that was read is as it was: by size and time, else by its content."""
    try:
        status = os.stat(path)  # noqa: PTH116 (a path of many)
    except OSError:
        return False
    if not before.is_read or status.st_size != before.bytes:
        return False
    return status.st_mtime_ns == before.modified_ns or hash_of(Path(path)) == before.sha256


def _check_labels(members: Sequence[CaptureFileOf]) -> None:
    taken = set(names_of("captures"))
    for name in dict.fromkeys(name for member in members for name in member.labels):
        if name in taken:
            raise RequestError(f'label "{name}"', "is a column of every store", "must have another name")
