"""Characters in comma-separated text, in the columns ``begin_s,end_s,wire,value,faults``.

``faults`` is empty, or names joined by ``+``; times may be left empty.
"""

from __future__ import annotations

import io
import re
import warnings
from collections.abc import Iterable, Iterator, Mapping
from typing import TYPE_CHECKING, Any

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import FAULT_NAMES, Characters, fault_names
from larkreader.errors import CaptureError, nearest
from larkreader.sources import Target, opened_to_write

from .character_pieces import Pieces, blocks_of
from .content import Content
from .csv_text import Choice, Computed, csv_lines

if TYPE_CHECKING:
    import pandas as pd

_LINE = re.compile(r"\bline (\d+)")
CHARACTER_COLUMNS = ("begin_s", "end_s", "wire", "value", "faults")


def character_pieces(file: Content) -> Pieces:
    """Read characters, by wire, piece by piece.

    Parameters
    ----------
    file : Content
        At its beginning.

    Yields
    ------
    dict of str to Characters

    Returns
    -------
    str
        That the last row is left out, which is incomplete.

    Raises
    ------
    CaptureError
        If the file is not of this form.
    """
    header, rows, lines, truncated = b"", 0, 0, ""
    for block in blocks_of(file, cut_at=b"\n"):
        whole = block
        if not block.endswith(b"\n"):
            whole, truncated = _whole_rows(block)
        if (table := _quick_table(header + whole)) is not None:
            value, begin, end = (table[column].to_numpy() for column in ("value", "begin_s", "end_s"))
        else:
            table = _table(header + whole, file.name, lines_before=lines - bool(header))
            if tuple(table.columns) != CHARACTER_COLUMNS:
                wanted = f"must have {','.join(CHARACTER_COLUMNS)}"
                raise CaptureError(file.name, f"has the columns {list(table.columns)}", wanted)
            value = _numbers(table, "value", file.name, rows)
            begin, end = (_numbers(table, column, file.name, rows, may_lack=True) for column in ("begin_s", "end_s"))
            table = table.astype({"wire": "category", "faults": "category"})
        header = ",".join(CHARACTER_COLUMNS).encode() + b"\n"
        wrong = np.flatnonzero((value < 0) | (value > 511) | (value != np.floor(value)))
        if wrong.size:
            row = rows + wrong[0] + 2
            raise CaptureError(f"{file.name}: row {row}", f"has the value {value[wrong[0]]:g}", "must be 0 to 511")
        faults = _faults_of(table["faults"], file.name)
        yield dict(_by_wire(table["wire"], begin, end, value.astype(np.uint16), faults))
        rows += len(table)
        lines += block.count(b"\n")
    return truncated


def _faults_of(column: pd.Series[Any], name: str) -> npt.NDArray[np.uint8]:
    """Return the flags of each row; an empty cell has none."""
    known = {text: int(fault) for fault, text in FAULT_NAMES.items()}
    flags = []
    for text in map(str, column.cat.categories):
        parts = [part for part in text.split("+") if part]
        if unknown := [part for part in parts if part not in known]:
            raise CaptureError(f"{name}: column faults", f'has "{unknown[0]}"', advice=nearest(unknown[0], list(known)))
        flags.append(sum({known[part] for part in parts}))
    return np.array([*flags, 0], dtype=np.uint8)[column.cat.codes.to_numpy()]


def _by_wire(
    column: pd.Series[Any],
    begin: npt.NDArray[np.float64],
    end: npt.NDArray[np.float64],
    value: npt.NDArray[np.uint16],
    faults: npt.NDArray[np.uint8],
) -> Iterator[tuple[str, Characters]]:
    """Yield the characters of each wire, in the order in which the wires occur."""
    codes = column.cat.codes.to_numpy()
    there, first = np.unique(codes, return_index=True)
    for code in there[np.argsort(first)].tolist():
        rows = slice(None) if len(there) == 1 else np.flatnonzero(codes == code)
        wire = str(column.cat.categories[code])
        yield wire, Characters(begin[rows], end[rows], value[rows], faults[rows], np.empty(0), has_line=False)


def write_characters(target: Target, wires: Mapping[str, Characters]) -> None:
    """Write characters of several wires in order of time.

    Parameters
    ----------
    target : str, pathlib.Path or binary file
        The file.
    wires : mapping of str to Characters
        The characters, by wire.

    Raises
    ------
    OSError
        If the file cannot be written.
    """
    write_character_pieces(target, [wires])


def write_character_pieces(target: Target, pieces: Iterable[Mapping[str, Characters]]) -> None:
    """Write characters piece by piece, each in order of time; see `write_characters`.

    Parameters
    ----------
    target : str, pathlib.Path or binary file
        The file.
    pieces : iterable of mapping of str to Characters
        The characters, by wire.
    """
    with opened_to_write(target) as file:
        file.write(",".join(CHARACTER_COLUMNS).encode() + b"\n")
        for wires in pieces:
            file.writelines(csv_lines([_columns_of(wire, some) for wire, some in wires.items()], _order_of(wires)))


def _order_of(wires: Mapping[str, Characters]) -> npt.NDArray[np.intp] | None:
    """Return in which order the characters of some wires began; None for that in which they are."""
    if len(wires) < 2:
        return None
    begin = np.concatenate([characters.begin_s for characters in wires.values()])
    return None if np.all(begin[:-1] <= begin[1:]) else np.argsort(begin, kind="stable")


def _columns_of(wire: str, characters: Characters) -> list[Any]:
    return [
        Computed(characters.begin_s, _rounded),
        Computed(characters.end_s, _rounded),
        Choice(np.broadcast_to(np.uint8(0), (len(characters),)), [wire]),
        _values_of(characters),
        Choice.of(characters.faults, fault_names),
    ]


def _whole_rows(block: bytes) -> tuple[bytes, str]:
    """Leave out an incomplete last row of a file that does not end with a line's end, and say so."""
    begin = block.rfind(b"\n") + 1
    *cells, faults = block[begin:].decode("latin-1").split(",")
    if len(cells) < 4 or not set(faults.strip().split("+")) <= {"", *FAULT_NAMES.values()}:
        return block[:begin], "its last row is incomplete"
    return block, ""


def _quick_table(data: bytes) -> pd.DataFrame | None:
    """Read numbers as numbers; None where a cell is not what it usually is, of which `_table` finds out what it is."""
    import pandas as pd

    is_old = int(pd.__version__.split(".", 1)[0]) < 3  # from then on there is no other precision
    number = {"float_precision": "round_trip"} if is_old else {}
    kinds = dict.fromkeys(("begin_s", "end_s", "value"), "float64") | dict.fromkeys(("wire", "faults"), "category")
    try:
        table = _read(data, dtype=kinds, na_values=[""], **number)
    except (ValueError, pd.errors.ParserWarning):
        return None
    if tuple(table.columns) != CHARACTER_COLUMNS or (table["wire"].cat.codes < 0).any():
        return None
    return table if all(np.isfinite(table[column]).all() for column in ("begin_s", "end_s", "value")) else None


def _read(data: bytes, **options: Any) -> pd.DataFrame:
    import pandas as pd

    with warnings.catch_warnings():
        warnings.simplefilter("error", pd.errors.ParserWarning)
        table: pd.DataFrame = pd.read_csv(
            io.BytesIO(data),
            comment="#",
            keep_default_na=False,
            skipinitialspace=True,
            index_col=False,
            encoding="utf-8-sig",
            **options,
        )
    return table


def _table(data: bytes, name: str, lines_before: int) -> pd.DataFrame:
    """Read all columns as text."""
    import pandas as pd

    try:
        table = _read(data, dtype=str)
    except pd.errors.ParserWarning:
        line = lines_before + 2
        found = f"has a row with more than {len(CHARACTER_COLUMNS)} cells, at line {line} or soon behind it"
        raise CaptureError(name, found, f"must have {','.join(CHARACTER_COLUMNS)}") from None
    except UnicodeDecodeError as error:
        line = data[: error.start].count(b"\n") + lines_before + 1
        raise CaptureError(f"{name}: line {line}", "is not text in UTF-8") from None
    except (pd.errors.ParserError, pd.errors.EmptyDataError) as error:
        found = _LINE.sub(lambda match: f"line {int(match[1]) + lines_before}", str(error))
        raise CaptureError(name, f"is not comma-separated text: {found}") from None
    return table.rename(columns=str.strip)


def _numbers(table: pd.DataFrame, column: str, name: str, before: int, *, may_lack: bool = False) -> Any:
    import pandas as pd

    texts = table[column]
    numbers = pd.to_numeric(texts, errors="coerce").to_numpy(dtype=np.float64)
    missing = ~np.isfinite(numbers)
    if may_lack:
        missing &= (texts != "").to_numpy()
    if missing.any():
        row = int(np.argmax(missing))
        raise CaptureError(
            f"{name}: row {before + row + 2}, column {column}", f'has "{texts.iloc[row]}"', "must be a number"
        )
    return numbers


def _rounded(times: npt.NDArray[np.float64]) -> npt.NDArray[np.float64]:
    """Return times to a picosecond."""
    return np.round(times, 12)


def _values_of(characters: Characters) -> npt.NDArray[np.uint16]:
    """Return the values; an address mark adds a ninth bit."""
    marks = characters.address_mark
    return characters.value if marks is None else characters.value + (marks.astype(np.uint16) << 8)
