"""Lines of text to field columns, by the pattern of their layout.

Lines are matched one by one: they are as few as a person can read, or a thousandth of what a line carries.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from larkreader.capture.ragged import Ragged
from larkreader.declare.frame.field_parts import REST
from larkreader.declare.frame.fields import NamedField
from larkreader.declare.frame.layout import FrameLayout
from larkreader.declare.frame.text_pattern import covered_text, without_backspaces

Places = npt.NDArray[np.uint64]
Mask = npt.NDArray[np.bool_]


@dataclass(frozen=True)
class Matched:
    """Lines matched with a pattern.

    Parameters
    ----------
    fits : ndarray of bool, shape (n_lines,)
        Whether the line matches.
    checksum_ok : ndarray of bool, shape (n_lines,)
        Whether its checksum is right; without a checksum it is.
    texts : mapping of str to list of str
        What each field holds, line by line; nothing where the line does not match.
    computed : ndarray of uint64, shape (n_lines,)
        The checksum that the line should hold; 0 without one.
    """

    fits: Mask
    checksum_ok: Mask
    texts: dict[str, list[str]]
    computed: Places


def match_lines(lines: Ragged, layout: FrameLayout) -> Matched:
    """Match lines with the pattern of a layout.

    Parameters
    ----------
    lines : Ragged of uint8
        The frames' contents, markers included.
    layout : FrameLayout
        Their layout, which has a pattern.

    Returns
    -------
    Matched
    """
    pattern, checksum = layout.text_pattern, layout.checksum
    assert pattern is not None
    fits, checksum_ok = np.zeros((2, len(lines)), dtype=np.bool_)
    computed = np.zeros(len(lines), dtype=np.uint64)
    texts: dict[str, list[str]] = {name: [] for name in pattern.fields}
    check = next((name for name, field in pattern.fields.items() if field.kind == "checksum"), None)
    for number, line in enumerate(lines):
        text = _text_of(line, layout)
        match = None if text is None else pattern.expression.fullmatch(text)
        for name, held in texts.items():
            held.append("" if match is None else match[name])
        if match is None or text is None:
            continue
        fits[number] = checksum_ok[number] = True
        if checksum is not None and check is not None:
            begin = match.start(check)
            spans = {name: match.span(name) for name in pattern.fields if match.end(name) <= begin}
            covered = covered_text(text, spans, checksum).encode(layout.encoding)
            computed[number] = checksum.method.of(covered)
            checksum_ok[number] = int(match[check], 16) == int(computed[number])
    return Matched(fits, checksum_ok, texts, computed)


def text_column(matched: Matched, name: str, layout: FrameLayout) -> Any:
    """Return the column of one field of lines that match.

    Parameters
    ----------
    matched : Matched
        The lines.
    name : str
        The field.
    layout : FrameLayout
        Their layout.

    Returns
    -------
    ndarray or Ragged
        float64 of a ``decimal``, int64 of an ``integer``, uint64 of a ``hex`` or a ``checksum``, objects of a ``word``
        or a ``text``; of shape (n_lines,), (n_lines, n_items) for several, and Ragged where their number varies.
    """
    field = next(entry for entry in layout.fields if isinstance(entry, NamedField) and entry.name == name)
    texts = matched.texts[name]
    if field.repeat == 1:
        return _numbers(texts, field.kind)
    items = [text.split(",") if text else [] for text in texts]
    flat = _numbers([item for some in items for item in some], field.kind)
    if field.repeat == REST:
        length = np.array([len(some) for some in items], dtype=np.int64)
        return Ragged(flat, np.cumsum(length) - length, length)
    return flat.reshape(len(texts), int(field.repeat))


def _numbers(texts: list[str], kind: str) -> npt.NDArray[Any]:
    if kind == "decimal":
        return np.array([float(text or "nan") for text in texts], dtype=np.float64)
    if kind == "integer":
        whole = [int(text or 0) for text in texts]
        return np.array(np.clip(np.array(whole, dtype=object), -(1 << 63), (1 << 63) - 1), dtype=np.int64)
    if kind in ("hex", "checksum"):
        return np.array([min(int(text or "0", 16), (1 << 64) - 1) for text in texts], dtype=np.uint64)
    column = np.empty(len(texts), dtype=object)
    column[:] = texts
    return column


def _text_of(line: npt.NDArray[np.uint8], layout: FrameLayout) -> str | None:
    """Return the text of a line without its markers; None if they are not there, or it is not text."""
    data = line.tobytes()
    if not (data.startswith(layout.marker) and data.endswith(layout.end_marker)):
        return None
    if len(data) < len(layout.marker) + len(layout.end_marker):
        return None
    try:
        text = data[len(layout.marker) : len(data) - len(layout.end_marker)].decode(layout.encoding)
    except UnicodeDecodeError:
        return None
    return without_backspaces(text) if layout.backspace == "apply" else text
