"""Lines of text with named values in them: ``temp={temperature} flow={flow}``.

What stands in braces is a field; everything else stands in the line as it is, but that a single blank in the pattern is
any number of blanks in a line. Two braces are one that stands for itself. Several values of one field, parted by
commas, are one field with a `repeat`.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

from larkreader.declare.checks.checksum import FrameChecksum
from larkreader.errors import RequestError, nearest

from .field_kinds import NUMBERS, WRITTEN, Encoding
from .field_parts import REST
from .fields import FieldEntry, NamedField

_PART = re.compile(r"\{\{|\}\}|\{([^{}]*)\}|[^{}]+|[{}]")
_WRITTEN: Mapping[str, str] = {
    "decimal": r"[+-]?(?:\d+(?:\.\d*)?|\.\d+)(?:[eE][+-]?\d+)?",
    "integer": r"[+-]?\d+",
    "hex": r"[0-9A-Fa-f]+",
    "word": r"[^\s,;]+",
    "text": r".*?",
}
BACKSPACES = "\x08\x7f"


@dataclass(frozen=True)
class TextPattern:
    """A pattern of lines, ready for use.

    Parameters
    ----------
    expression : re.Pattern
        Matches a whole line, with a group a field.
    parts : tuple of tuple of str
        What the pattern consists of, in order: ``("text", ...)`` or ``("field", name)``.
    fields : mapping of str to NamedField
        The fields by name.
    """

    expression: re.Pattern[str]
    parts: tuple[tuple[str, str], ...]
    fields: Mapping[str, NamedField]

    @property
    def shortest(self) -> int:
        """Fewest characters that a line can have."""
        return sum(len(text) if kind == "text" else 0 for kind, text in self.parts)


def pattern_of(text: str, fields: Sequence[FieldEntry], checksum: FrameChecksum | None) -> TextPattern:
    """Make a pattern ready for use; it has no mistakes."""
    return _pattern(text, tuple(field for field in fields if isinstance(field, NamedField)), _digits(checksum))


def pattern_mistakes(
    text: str, fields: Sequence[FieldEntry], checksum: FrameChecksum | None
) -> Iterator[tuple[str, str, str]]:
    """Yield place, what was found and what is wanted for all that is wrong with a pattern."""
    names = [field.name for field in fields if isinstance(field, NamedField)]
    asked = [match[1] for match in _PART.finditer(text) if match[1] is not None]
    if any(match[0] in "{}" and len(match[0]) == 1 for match in _PART.finditer(text)):
        yield "pattern", f'"{text}"', "has an unpaired brace; {{ stands for a literal brace."
    for name in asked:
        if name not in names:
            yield "pattern", f'"{{{name}}}"', f"is not a field of this frame. {nearest(name, names)}"
        elif asked.count(name) > 1:
            yield "pattern", f'"{{{name}}}"', "stands there more than once."
    for place, field in enumerate(fields):
        if not isinstance(field, NamedField):
            yield f"fields[{place}]", "", "is not a named field, of which a pattern consists."
            continue
        if field.name not in asked:
            yield f"fields[{place}].name", f'"{field.name}"', f"is not in the pattern. Write {{{field.name}}} there."
        if field.kind not in _WRITTEN and field.kind != "checksum":
            wanted = "cannot be written in text; it must be decimal, integer, hex, word, text or checksum."
            yield f"fields[{place}].type", f'"{field.type}"', wanted
        if field.when or (isinstance(field.repeat, str) and field.repeat != REST):
            wanted = 'cannot depend on another field in a pattern; repeat may be a number or "rest".'
            yield f"fields[{place}]", f'"{field.name}"', wanted
    checks = [field for field in fields if isinstance(field, NamedField) and field.kind == "checksum"]
    if bool(checks) != bool(checksum) or len(checks) > 1:
        yield "checksum", "", "and one field of type checksum go together."
    for key in ("from_", "to"):
        name = getattr(checksum, key, None)
        if name is not None and name not in names and not (key == "from_" and name == "marker"):
            yield f"checksum.{key.rstrip('_')}", f'"{name}"', f"is not a field of this frame. {nearest(name, names)}"


def written_mistakes(fields: Sequence[FieldEntry]) -> Iterator[tuple[str, str, str]]:
    """Yield the fields that only a pattern can have."""
    for place, field in enumerate(fields):
        if isinstance(field, NamedField) and field.kind in WRITTEN:
            yield (
                f"fields[{place}].type",
                f'"{field.type}"',
                'is written in text; give the frame a pattern = "..." too.',
            )


def without_backspaces(text: str) -> str:
    """Return what is left of a line when each backspace has deleted the character before it."""
    left: list[str] = []
    for character in text:
        if character not in BACKSPACES:
            left.append(character)
        elif left:
            left.pop()
    return "".join(left)


def write_line(
    pattern: TextPattern, values: Mapping[str, Any], checksum: FrameChecksum | None, encoding: Encoding
) -> bytes:
    """Write a line from the values of its fields.

    Raises
    ------
    RequestError
        If a name is not a field, or a value cannot be written so.
    """
    for name in values:
        if name not in pattern.fields:
            raise RequestError(name, "is not a field of this pattern", advice=nearest(name, list(pattern.fields)))
    line = ""
    spans: dict[str, tuple[int, int]] = {}
    check = next((name for name, field in pattern.fields.items() if field.kind == "checksum"), None)
    for kind, text in pattern.parts:
        begin = len(line)
        if kind == "text":
            line += text
        elif text == check and check not in values:
            assert checksum is not None
            wanted = checksum.method.of(covered_text(line, spans, checksum).encode(encoding, "replace"))
            line += f"{wanted:0{-(-checksum.method.width // 4)}X}"
        else:
            line += _written(pattern.fields[text], values.get(text))
        if kind == "field":
            spans[text] = (begin, len(line))
    if not pattern.expression.fullmatch(line):
        raise RequestError("pattern", f'would give "{line}", which is read otherwise', "must be such values as part it")
    try:
        return line.encode(encoding)
    except UnicodeEncodeError as error:
        raise RequestError("pattern", f'would give "{line[error.start]}", which is not in {encoding}') from None


def covered_text(line: str, spans: Mapping[str, tuple[int, int]], checksum: FrameChecksum) -> str:
    """Return the part of a line that its checksum covers; `spans` are those of the fields before it."""
    first, last = checksum.from_, checksum.to
    begin = 0 if first in (None, "marker") else spans[str(first)][0]
    if last is not None:
        return line[begin : spans[last][1]]
    return line[begin : max((end for _, end in spans.values()), default=len(line))]


def _written(field: NamedField, value: Any) -> str:
    items = list(value) if hasattr(value, "__iter__") and not isinstance(value, str) else [value]
    if isinstance(field.repeat, int) and field.repeat != len(items) and value is not None:
        raise RequestError(field.name, f"has {len(items)} items", f"must have {field.repeat}")
    if value is None:
        items = [None] * (field.repeat if isinstance(field.repeat, int) else 1)
    return ",".join(_item(field, item) for item in items)


def _item(field: NamedField, value: Any) -> str:
    if field.kind not in NUMBERS:
        text = "" if value is None else str(value)
        if not re.fullmatch(_WRITTEN["text" if field.kind == "checksum" else field.kind], text):
            raise RequestError(field.name, f'"{text}" has a blank, a comma, or nothing', "must be one word")
        return text
    if isinstance(value, str):
        if value not in field.names:
            raise RequestError(field.name, f'"{value}" is none of its names', f"must be one of {list(field.names)}")
        value = field.names[value] * field.scale + field.offset
    raw = ((field.equals or 0) if value is None else value) if not field.is_scaled else _unscaled(field, value)
    if field.kind == "decimal":
        return repr(float(raw)).removesuffix(".0") if field.decimals is None else f"{float(raw):.{field.decimals}f}"
    if raw != int(raw) or (field.kind == "hex" and raw < 0):
        raise RequestError(field.name, f"{value} cannot be written as {field.kind}", "must be a whole number")
    return f"{int(raw):X}" if field.kind == "hex" else str(int(raw))


def _unscaled(field: NamedField, value: Any) -> float:
    return round(((value or 0) - field.offset) / field.scale, 9)


def _digits(checksum: FrameChecksum | None) -> int:
    return -(-checksum.method.width // 4) if checksum else 2


@lru_cache(maxsize=256)
def _compiled(text: str, kinds: tuple[tuple[str, str, int | str], ...], digits: int) -> re.Pattern[str]:
    known = {name: (kind, repeat) for name, kind, repeat in kinds}
    expression = ""
    for kind, part in _parts(text):
        if kind == "text":
            expression += re.sub(r"(\\ )+", r"[ \\t]+", re.escape(part))
            continue
        of, repeat = known[part]
        item = f"[0-9A-Fa-f]{{{digits}}}" if of == "checksum" else _WRITTEN[of]
        if repeat != 1:
            more = "*" if repeat == REST else f"{{{int(repeat) - 1}}}"
            item = f"{item}(?:,{item}){more}"
        expression += f"(?P<{part}>{item})"
    return re.compile(expression, re.DOTALL)


def _pattern(text: str, fields: tuple[NamedField, ...], digits: int) -> TextPattern:
    kinds = tuple((field.name, field.kind, field.repeat) for field in fields)
    return TextPattern(_compiled(text, kinds, digits), tuple(_parts(text)), {field.name: field for field in fields})


def _parts(text: str) -> Iterator[tuple[str, str]]:
    for match in _PART.finditer(text):
        if match[1] is not None:
            yield "field", match[1]
        else:
            yield "text", {"{{": "{", "}}": "}"}.get(match[0], match[0])
