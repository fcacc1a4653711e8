"""Where the rows of captures are kept: one SQLite file, or a folder of Parquet files."""

from __future__ import annotations

import json
import sqlite3
from abc import ABC, abstractmethod
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any, ClassVar, NamedTuple, Self

from larkreader.capture.files.json_text import parse_json
from larkreader.errors import RequestError
from larkreader.sources import write_whole

from .tables import STORE_VERSION, TABLES, names_of

if TYPE_CHECKING:
    from .summary import CaptureRows

About = Mapping[str, str]
INDEXED = [name for name in TABLES if name != "captures"]


class Known(NamedTuple):
    """What a store knows of a file that was read: its number, size, time and hash, and whether it was read at all."""

    number: int
    bytes: int | None
    modified_ns: int | None
    sha256: str | None
    is_read: bool | int


class Store(ABC):
    """Keeps the rows of captures, and what they were read against.

    Attributes
    ----------
    commit_s : float
        How long what was read waits before it is kept, in seconds.
    """

    commit_s: ClassVar[float] = 0.5

    @property
    @abstractmethod
    def about(self) -> About:
        """What the captures were read against, as ``version``, ``sheet`` and ``sheet_sha256``."""

    @abstractmethod
    def known(self) -> dict[str, Known]:
        """Return what is known of each file, by its path."""

    @abstractmethod
    def add(self, captures: Iterable[CaptureRows], labels: Mapping[str, Mapping[str, str]]) -> None:
        """Keep captures in the place of what was known of the same files; what is added is kept from then on.

        Parameters
        ----------
        captures : iterable of CaptureRows
            What to keep.
        labels : mapping of str to mapping
            The labels of each file, by its path.
        """

    @abstractmethod
    def relabel(self, labels: Mapping[int, Mapping[str, str]]) -> None:
        """Set the labels of captures that are kept.

        Parameters
        ----------
        labels : mapping of int to mapping
            The labels of each, by its number.
        """

    @abstractmethod
    def rows(self, table: str) -> list[tuple[Any, ...]]:
        """Return the rows of a table, by the number of the capture.

        Parameters
        ----------
        table : str
            Its name.
        """

    @abstractmethod
    def close(self) -> None:
        """Let go of the files."""

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()


class SqliteStore(Store):
    """One SQLite file; in memory without a path.

    Parameters
    ----------
    path : pathlib.Path, optional
        The file; made if it is not there.
    about : mapping of str to str, optional
        What the captures of a new store are read against.

    Raises
    ------
    RequestError
        If the file is not a store, or of another version.
    """

    def __init__(self, path: Path | None = None, about: About | None = None) -> None:
        self._name = "store" if path is None else str(path)
        self._database = sqlite3.connect(":memory:" if path is None else path, isolation_level=None)
        try:
            tables = {name for (name,) in self._database.execute("SELECT name FROM sqlite_master WHERE type = 'table'")}
            if "about" in tables:
                check_version(self.about, self._name)
            elif about is None or tables:
                raise RequestError(self._name, "is not a store of captures")
            else:
                self._make(about)
        except sqlite3.OperationalError as error:
            self.close()
            raise RequestError(self._name, f"cannot be used: {error}") from None
        except sqlite3.DatabaseError as error:
            self.close()
            raise RequestError(self._name, f"is not a store of captures: {error}") from None
        except RequestError:
            self.close()
            raise

    def _make(self, about: About) -> None:
        run = self._database.execute
        run("BEGIN")
        for table, columns in TABLES.items():
            held = ", ".join(f'"{column.name}" {column.type.upper()}' for column in columns)
            run(f"CREATE TABLE {table} ({held})")
        run("CREATE UNIQUE INDEX captures_number ON captures (capture)")
        run("CREATE UNIQUE INDEX captures_path ON captures (path)")
        for table in INDEXED:
            run(f"CREATE INDEX {table}_capture ON {table} (capture)")
        run("CREATE TABLE about (name TEXT PRIMARY KEY, value TEXT)")
        self._database.executemany("INSERT INTO about VALUES (?, ?)", {**about, "version": STORE_VERSION}.items())
        run("COMMIT")

    @property
    def about(self) -> About:
        """What the captures were read against."""
        return dict(self._database.execute("SELECT name, value FROM about"))

    def known(self) -> dict[str, Known]:
        """Return what is known of each file, by its path."""
        query = "SELECT path, capture, bytes, modified_ns, sha256, error IS NULL FROM captures"
        return {path: Known(*more) for path, *more in self._database.execute(query)}

    def add(self, captures: Iterable[CaptureRows], labels: Mapping[str, Mapping[str, str]]) -> None:
        """Keep captures, in one transaction."""
        run = self._database.execute
        with self._refused():
            run("BEGIN IMMEDIATE")
            for item in captures:
                for table in TABLES:
                    run(f"DELETE FROM {table} WHERE capture = ?", (item.number,))
                for table, rows in rows_with_labels(item, labels.get(item.path, {})).items():
                    marks = ", ".join("?" * len(TABLES[table]))
                    self._database.executemany(f"INSERT INTO {table} VALUES ({marks})", rows)
            run("COMMIT")

    @contextmanager
    def _refused(self) -> Iterator[None]:
        """Undo a transaction that does not come to its end, and put in words why it cannot be written."""
        try:
            yield
        except sqlite3.OperationalError as error:
            raise RequestError(f'store "{self._name}"', f"cannot be written: {error}") from None
        finally:
            if self._database.in_transaction:
                self._database.execute("ROLLBACK")

    def relabel(self, labels: Mapping[int, Mapping[str, str]]) -> None:
        """Set the labels of captures that are kept."""
        run = self._database.execute
        with self._refused():
            run("BEGIN IMMEDIATE")
            for number, items in labels.items():
                run("DELETE FROM labels WHERE capture = ?", (number,))
                self._database.executemany("INSERT INTO labels VALUES (?, ?, ?)", label_rows(number, items))
            run("COMMIT")

    def rows(self, table: str) -> list[tuple[Any, ...]]:
        """Return the rows of a table, by the number of the capture."""
        return list(self._database.execute(f"SELECT * FROM {table} ORDER BY capture, rowid"))

    def close(self) -> None:
        """Let go of the file."""
        self._database.close()


class ParquetStore(Store):
    """A folder with Parquet files: in the folder of each table one file for each part of a run.

    The part of the table ``captures`` is written last, so that a part without it was interrupted, and is left out.

    Parameters
    ----------
    folder : pathlib.Path
        The folder; made if it is not there.
    about : mapping of str to str, optional
        What the captures of a new store are read against.

    Raises
    ------
    RequestError
        If pyarrow is not installed, or the folder is not a store, or of another version.
    """

    commit_s: ClassVar[float] = 10.0  # as each time is a file for each table

    def __init__(self, folder: Path, about: About | None = None) -> None:
        self._folder, self._about_file = folder, folder / "about.json"
        if self._about_file.exists():
            check_version(self.about, str(folder))
        elif about is None or (folder.is_dir() and any(folder.iterdir())):
            raise RequestError(str(folder), "is not a store of captures")
        _check_pyarrow(folder)
        if about is not None and not self._about_file.exists():
            for table in TABLES:
                (folder / table).mkdir(parents=True, exist_ok=True)
            write_whole(self._about_file, json.dumps({**about, "version": str(STORE_VERSION)}, indent=1).encode())

    @property
    def about(self) -> About:
        """What the captures were read against."""
        about: dict[str, str] = parse_json(self._about_file.read_text(encoding="utf-8"))
        return about

    def _parts(self) -> list[str]:
        """Return the names of the parts that are whole."""
        return sorted(path.name for path in (self._folder / "captures").glob("part-*.parquet"))

    def known(self) -> dict[str, Known]:
        """Return what is known of each file, by its path."""
        rows = (dict(zip(names_of("captures"), row, strict=True)) for row in self.rows("captures"))
        return {
            row["path"]: Known(row["capture"], row["bytes"], row["modified_ns"], row["sha256"], row["error"] is None)
            for row in rows
        }

    def add(self, captures: Iterable[CaptureRows], labels: Mapping[str, Mapping[str, str]]) -> None:
        """Keep captures, as a part; parts with older rows of the same captures are written anew without those."""
        every = list(captures)
        numbers = {item.number for item in every}
        tables: dict[str, list[tuple[Any, ...]]] = {table: [] for table in TABLES}
        for item in every:
            for table, rows in rows_with_labels(item, labels.get(item.path, {})).items():
                tables[table] += rows
        parts = self._parts()
        old = [name for name in parts if numbers & {row[0] for row in self._read("captures", name)}]
        self._write(f"part-{int(parts[-1][5:13]) + 1 if parts else 1:08}.parquet", tables)
        for name in old:
            kept = {table: [row for row in self._read(table, name) if row[0] not in numbers] for table in TABLES}
            self._write(name, kept)

    def relabel(self, labels: Mapping[int, Mapping[str, str]]) -> None:
        """Set the labels of captures that are kept."""
        for name in self._parts():
            rows = self._read("labels", name)
            there = {row[0] for row in self._read("captures", name)} & labels.keys()
            if there:
                kept = [row for row in rows if row[0] not in there]
                more = [row for number in sorted(there) for row in label_rows(number, labels[number])]
                self._write_table("labels", name, kept + more)

    def rows(self, table: str) -> list[tuple[Any, ...]]:
        """Return the rows of a table, by the number of the capture; of a capture in two parts those of the later."""
        latest: dict[int, int] = {}
        parts = self._parts()
        for place, name in enumerate(parts):
            latest |= dict.fromkeys((row[0] for row in self._read("captures", name)), place)
        rows = [
            row for place, name in enumerate(parts) for row in self._read(table, name) if latest.get(row[0]) == place
        ]
        return sorted(rows, key=lambda row: row[0])

    def close(self) -> None:
        """Do nothing: no file stays open."""

    def _read(self, table: str, name: str) -> list[tuple[Any, ...]]:
        import pyarrow.parquet as pq  # type: ignore[import-untyped]

        path = self._folder / table / name
        if not path.exists():
            return []
        columns = pq.read_table(path).select(list(names_of(table))).to_pydict().values()
        return list(zip(*columns, strict=True))

    def _write(self, name: str, tables: Mapping[str, Sequence[tuple[Any, ...]]]) -> None:
        for table in sorted(TABLES, key=lambda table: table == "captures"):
            self._write_table(table, name, tables[table])

    def _write_table(self, table: str, name: str, rows: Sequence[tuple[Any, ...]]) -> None:
        import pyarrow as pa
        import pyarrow.parquet as pq

        kinds = {"integer": pa.int64(), "real": pa.float64(), "text": pa.string()}
        schema = pa.schema([(column.name, kinds[column.type]) for column in TABLES[table]])
        columns = list(zip(*rows, strict=True)) or [()] * len(TABLES[table])
        arrays = [pa.array(values, field.type) for values, field in zip(columns, schema, strict=True)]
        buffer = pa.BufferOutputStream()
        pq.write_table(pa.Table.from_arrays(arrays, schema=schema), buffer)
        write_whole(self._folder / table / name, buffer.getvalue().to_pybytes())


def open_store(path: Path, about: About | None = None) -> Store:
    """Open a store, or make it if `about` says what its captures are read against.

    Parameters
    ----------
    path : pathlib.Path
        A folder of Parquet files, or a path without an ending, is a `ParquetStore`; a file an `SqliteStore`.
    about : mapping of str to str, optional
        What the captures of a new store are read against.

    Returns
    -------
    Store
        Open.

    Raises
    ------
    RequestError
        If it is not a store, or not there.
    """
    if path.is_dir() or (not path.exists() and not path.suffix):
        if about is None and not path.exists():
            raise RequestError(f'store "{path}"', "is not there")
        return ParquetStore(path, about)
    if about is None and not path.exists():
        raise RequestError(f'store "{path}"', "is not there")
    return SqliteStore(path, about)


def _check_pyarrow(folder: Path) -> None:
    """Raise `RequestError` if there is nothing that reads Parquet files."""
    try:
        import pyarrow as pa  # noqa: F401
    except ImportError:
        advice = "Install lark-reader[parquet], or name a store that ends in .sqlite"
        raise RequestError(f'store "{folder}"', "is of Parquet files, for which there is no pyarrow", "", advice) from (
            None
        )


def check_version(about: About, name: str) -> None:
    """Raise `RequestError` if a store has another version than ours."""
    if str(about.get("version")) != str(STORE_VERSION):
        found = f"is a store of version {about.get('version')}"
        raise RequestError(name, found, f"must be of version {STORE_VERSION}", "Read the captures again")


def rows_with_labels(item: CaptureRows, labels: Mapping[str, str]) -> dict[str, Sequence[tuple[Any, ...]]]:
    """Return the rows of a capture, with those of its labels."""
    return {**item.rows, "labels": label_rows(item.number, labels)}


def label_rows(number: int, labels: Mapping[str, str]) -> list[tuple[Any, ...]]:
    """Return the rows of a capture's labels."""
    return [(number, name, value) for name, value in labels.items()]
