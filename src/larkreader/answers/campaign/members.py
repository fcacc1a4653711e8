"""Which captures are read, and which labels each has: files, folders, patterns, lists, recordings of a series."""

from __future__ import annotations

import csv
import io
import os
import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from glob import glob, has_magic
from pathlib import Path
from typing import Any

from larkreader.capture.files.json_text import parse_json
from larkreader.errors import CaptureError, RequestError

ENDINGS = frozenset(
    (".vcd", ".jsonl", ".csv", ".tsv", ".log", ".bin", ".raw", ".dat", ".hex", ".npz", ".npy", ".wav", ".gz")
)
"""Endings of files that are taken for captures where a folder is named."""
CAPTURE_COLUMN = "capture"
MANIFEST_ENDING = "manifest.json"
_PLACE = re.compile(r"\{([^\W\d]\w*)\}|(\*)")


@dataclass(frozen=True)
class CaptureFileOf:
    """A capture of a campaign.

    Parameters
    ----------
    path : str
        Its file.
    labels : mapping of str to str
        What distinguishes it, such as ``{"board": "3", "build": "1.2"}``.
    """

    path: str
    labels: Mapping[str, str] = field(default_factory=dict)


def find_captures(
    named: Iterable[str | os.PathLike[str] | CaptureFileOf], *, labels: str | None = None
) -> tuple[CaptureFileOf, ...]:
    """Find the captures that are meant, each once.

    Parameters
    ----------
    named : iterable of str, path or CaptureFileOf
        A file, a folder (all files below it that end as captures do), a pattern such as ``runs/*/wire.vcd``, a list of
        captures (a CSV file whose first line has the column ``capture``, and a column for each label), or the manifest
        that live listening leaves beside its recordings.
    labels : str, optional
        Where labels stand in paths, such as ``{board}/{build}/{temperature}C.vcd``: the end of a path, in which
        ``{name}`` and ``*`` stand for letters other than ``/``. An ending that it does not have is left out.

    Returns
    -------
    tuple of CaptureFileOf
        In the order named; files of a folder and of a pattern sorted, with numbers in order of their value.

    Raises
    ------
    RequestError
        If nothing is found, or a path does not have the labels.
    CaptureError
        If a list or a manifest cannot be read.
    """
    pattern = None if labels is None else path_pattern(labels)
    found: dict[str, CaptureFileOf] = {}
    for item in named:
        for member in _members_of(item):
            own = {} if pattern is None else _labels_in(pattern, member.path, labels or "")
            known = found.get(key_of(member.path))
            more = {} if known is None else known.labels
            path = member.path if known is None else known.path
            found[key_of(member.path)] = CaptureFileOf(path, {**own, **more, **member.labels})
    return tuple(found.values())


def key_of(path: str) -> str:
    """Return what two ways to write the path of a file have in common."""
    return os.path.normcase(os.path.abspath(path))  # noqa: PTH100 (a link is a file of its own)


def _members_of(item: str | os.PathLike[str] | CaptureFileOf) -> Iterator[CaptureFileOf]:
    if isinstance(item, CaptureFileOf):
        yield item
        return
    path = Path(item)
    if path.is_dir():
        yield from _in_folder(path)
    elif path.name.endswith(MANIFEST_ENDING) and path.is_file():
        yield from _of_manifest(path)
    elif path.suffix.lower() == ".csv" and _is_list(path):
        yield from _in_list(path)
    elif not path.exists() and has_magic(str(path)):
        names = glob(str(path), recursive=True)  # noqa: PTH207 (a pattern may be absolute, which `Path.glob` refuses)
        files = sorted((name for name in names if Path(name).is_file()), key=natural)
        if not files:
            raise RequestError(f'"{path}"', "matches no file", "must match captures")
        for name in files:
            yield from _members_of(name)
    else:
        yield CaptureFileOf(_shown(path))


def _shown(path: Path) -> str:
    return path.as_posix()


def _in_folder(folder: Path) -> Iterator[CaptureFileOf]:
    files = [
        Path(where, name)
        for where, folders, names in os.walk(folder)
        if _keep_visible(folders)
        for name in names
        if not name.startswith(".")
    ]
    manifests = sorted((path for path in files if path.name.endswith(MANIFEST_ENDING)), key=natural)
    listed: set[str] = set()
    for path in manifests:
        for member in _of_manifest(path):
            listed.add(key_of(member.path))
            yield member
    captures = [path for path in files if path.suffix.lower() in ENDINGS and key_of(str(path)) not in listed]
    lists = {path for path in captures if path.suffix.lower() == ".csv" and _is_list(path)}
    if not captures and not listed:
        wanted = f"must hold captures: files that end in {', '.join(sorted(ENDINGS))}"
        raise RequestError(f'folder "{folder}"', "holds no capture", wanted)
    for path in sorted(set(captures) - lists, key=natural):
        yield CaptureFileOf(_shown(path))


def _keep_visible(folders: list[str]) -> bool:
    """Leave out hidden folders in place, as `os.walk` has it."""
    folders[:] = [name for name in folders if not name.startswith(".")]
    return True


def natural(path: object) -> list[tuple[int, int, str]]:
    """Return by what texts with numbers are sorted: build 9 before build 10."""
    parts = re.split(r"(\d+)", str(path))
    return [(1, int(part), "") if part.isdecimal() else (0, 0, part.casefold()) for part in parts]


def _is_list(path: Path) -> bool:
    try:
        with path.open(encoding="utf-8-sig", errors="replace") as file:
            head = file.readline(4096)
    except OSError:
        return False
    return CAPTURE_COLUMN in [name.lower() for name in _columns_of(head)[1]]


def _columns_of(head: str) -> tuple[str, list[str]]:
    """Return what separates the columns of a list, and their names; none where it does not begin like a table."""
    separator = ";" if ";" in head and "," not in head else ","
    try:
        return separator, [cell.strip() for cell in next(csv.reader([head], delimiter=separator), [])]
    except csv.Error:
        return separator, []


def _in_list(path: Path) -> Iterator[CaptureFileOf]:
    try:
        text = path.read_text(encoding="utf-8-sig")
    except (OSError, UnicodeDecodeError) as error:
        raise CaptureError(str(path), f"cannot be read: {error}", "must be a CSV file in UTF-8") from None
    head, _, rest = text.partition("\n")
    separator, names = _columns_of(head)
    place = [name.lower() for name in names].index(CAPTURE_COLUMN)
    for name in names:
        if not name or names.count(name) > 1:
            raise CaptureError(str(path), f'has the column "{name}"', "each column must have a name of its own")
    rows = csv.reader(io.StringIO(rest, newline=""), delimiter=separator)
    try:
        for row in rows:
            cells = [cell.strip() for cell in row]
            if not any(cells):
                continue
            if len(cells) != len(names) or not cells[place]:
                found = f"has {len(cells)} cells" if len(cells) != len(names) else "names no capture"
                wanted = f"must have {len(names)}, the capture among them"
                raise CaptureError(f"{path}: line {rows.line_num + 1}", found, wanted)
            columns = enumerate(zip(names, cells, strict=True))
            labels = {name: cell for at, (name, cell) in columns if at != place and cell}
            yield CaptureFileOf(_shown(path.parent / cells[place]), labels)
    except csv.Error as error:
        raise CaptureError(f"{path}: line {rows.line_num + 1}", f"cannot be read: {error}", "must be CSV") from None


def _of_manifest(path: Path) -> Iterator[CaptureFileOf]:
    """Yield the recordings that a manifest lists, in order of time."""
    try:
        content: Any = parse_json(path.read_text(encoding="utf-8"))
        recordings: Sequence[Mapping[str, Any]] = content["recordings"]
        began = str(content["began"])
        files = [(str(item["file"]), float(item["from_s"])) for item in recordings]
    except (OSError, ValueError, KeyError, TypeError, OverflowError) as error:
        raise CaptureError(str(path), f"is not a manifest of recordings: {error!r}") from None
    series = path.name.removesuffix(MANIFEST_ENDING).rstrip(".") or path.parent.name
    for number, (name, from_s) in enumerate(files, 1):
        if name in ("", "..") or Path(name).name != name:
            raise CaptureError(str(path), f'names "{name}"', "must name files beside it")
        labels = {"series": series, "part": str(number), "began": began, "hour": f"{from_s / 3600:.6g}"}
        yield CaptureFileOf(_shown(path.with_name(name)), labels)


def path_pattern(text: str) -> re.Pattern[str]:
    """Return the regular expression for where labels stand in paths.

    Parameters
    ----------
    text : str
        As of `find_captures`.

    Raises
    ------
    RequestError
        If it has no label, a label twice, or a brace too many.
    """
    names = [match[1] for match in _PLACE.finditer(text) if match[1]]
    rest = _PLACE.sub("", text)
    is_odd = len(set(names)) < len(names) or not all(map(str.isidentifier, names))
    if not names or is_odd or "{" in rest or "}" in rest:
        wanted = 'must have each label once, such as "{board}/{build}.vcd"'
        raise RequestError(f'labels "{text}"', "cannot be looked for in paths", wanted)
    parts, at = [], 0
    for match in _PLACE.finditer(text):
        parts += [re.escape(text[at : match.start()]), f"(?P<{match[1]}>[^/]+?)" if match[1] else "[^/]*?"]
        at = match.end()
    has_ending = "." in _PLACE.sub("", text.rpartition("/")[2])
    ending = "" if has_ending else r"(?:\.[A-Za-z]\w*){0,2}"
    return re.compile(f"(?:^|/){''.join(parts)}{re.escape(text[at:])}{ending}$")


def _labels_in(pattern: re.Pattern[str], path: str, text: str) -> dict[str, str]:
    match = pattern.search(path.replace("\\", "/"))
    if match is None:
        raise RequestError(f'"{path}"', f'does not end as "{text}" says', "must have the labels")
    return {name: value for name, value in match.groupdict().items() if value}
