"""A C header: the structs that it declares, each with where its members lie, and its tables of initial values.

The subset of C: directives and macros as `preprocessed` has them; ``typedef``, ``struct``, ``union`` and ``enum`` of
whole numbers, floats, arrays and bit-fields; attributes and pragmas that pack and align. Everything else that a header
may declare, functions and variables above all, is passed over.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from itertools import pairwise
from pathlib import Path
from typing import Any

from pycparser import c_ast, c_parser

from larkreader.errors import HeaderError

from .attributes import MARK, NONE, Attributes, Declaration, rewritten
from .constants import Evaluation
from .contents import CHeader
from .known_types import known_types, number_named
from .placing import lay_out
from .preprocessed import Macro, Preprocessor
from .split import declarations
from .targets import Target, target_of
from .tokens import Place, Token, refuse
from .types import Array, CType, Member, Number, Record

_QUALIFIERS = ("const", "volatile", "typedef", "static", "extern", "register", "unsigned", "signed", "long", "short")
_KNOWN_HEADERS = ("<stdint.h>", "<stdbool.h>", "<stddef.h>", "<string.h>", "<inttypes.h>", "<limits.h>")
_OWN_WORDS = ("struct", "union", "enum", "char", "int", "float", "double", "void", "_Bool", "}", ";")


def read_header(
    path: str | Path,
    target: str = "arm",
    *,
    define: Mapping[str, str] | None = None,
    folders: Sequence[str | Path] = (),
) -> CHeader:
    """Read what a C header declares. Nothing of it is compiled or run.

    Parameters
    ----------
    path : str or pathlib.Path
        The header. What it includes in quotes is read too; headers in angle brackets are not.
    target : {"arm", "avr", "msp430", "riscv", "powerpc", "x86-64", "windows"}
        Whose compiler lays its structs out.
    define : mapping of str to str, optional
        Macros that are defined before its first line.
    folders : sequence of str or pathlib.Path
        Where else included headers are looked for.

    Returns
    -------
    CHeader
        What it declares.

    Raises
    ------
    HeaderError
        If it cannot be read, or its directives cannot be understood. What else cannot be understood is reported when
        it is asked for.
    RequestError
        If the target is not known.
    """
    chosen = target_of(target)
    reader = Preprocessor([Path(folder) for folder in folders])
    reader.macros = {
        name: Macro([Token(text, "number", Place("target", 1))]) for name, text in chosen.predefined.items()
    }
    for name, text in (define or {}).items():
        reader.define(name, text)
    header = CHeader(str(path), chosen)
    parts = declarations(reader.read(Path(path)))
    return _Reading(header, reader).read(parts)


class _Reading:
    """Reads declarations in their order."""

    def __init__(self, header: CHeader, reader: Preprocessor) -> None:
        self.header, self.reader = header, reader
        self.types: dict[str, CType | None] = dict(known_types(header.target))  # None: known, but not for a wire
        self.tags: dict[str, CType] = {}
        self.attributes: Sequence[Attributes] = ()

    def read(self, parts: Any) -> CHeader:
        for words in parts:
            texts = {word.text for word in words}
            if "{" not in texts and "typedef" not in texts:
                continue
            try:
                self._declaration(rewritten(words))
            except HeaderError as error:
                self.header.broken.append((_names_of(words), error))
                self._forget(words)
            except RecursionError:
                deep = HeaderError(str(words[0].place), "is nested too deeply", "must be simpler")
                self.header.broken.append((_names_of(words), deep))
        self.header.missing = [name for name in dict.fromkeys(self.reader.missing) if name not in _KNOWN_HEADERS]
        return self.header

    def _forget(self, words: Sequence[Token]) -> None:
        """Keep the name of a ``typedef`` that cannot be understood, so that what uses it says so."""
        names = [word.text for word in words if word.kind == "word"]
        if names[:1] == ["typedef"] and len(names) > 1:
            self.types.setdefault(names[-1], None)

    def _declaration(self, declared: Declaration) -> None:
        self.attributes = declared.attributes
        self.header.notes += declared.notes
        files: list[str] = []
        text = self._text(declared.words, files)
        try:
            tree = c_parser.CParser().parse(text, "0")
        except c_parser.ParseError as error:
            raise self._not_parsed(declared.words, str(error), files) from error
        self.files = files
        for node in tree.ext:
            if self._place(node).file != "":
                self._declared(node)

    def _text(self, words: Sequence[Token], files: list[str]) -> str:
        """Return a declaration as text, behind the names of types that it uses; `files` gets the files it is from."""
        used = {word.text for word in words if word.kind == "word"} & self.types.keys()
        parts = ["".join(f"typedef int {name};" for name in sorted(used))]
        place = None
        for word in words:
            if word.place != place:
                if word.place.file not in files:
                    files.append(word.place.file)
                parts.append(f'\n# {word.place.line} "{files.index(word.place.file) + 1}"\n')
                place = word.place
            parts.append(word.text)
        return " ".join(parts)

    def _place(self, node: Any) -> Place:
        coord = node.coord
        if coord is None or str(coord.file) == "0":
            return Place("", 0)
        return Place(self.files[int(coord.file) - 1], coord.line)

    def _not_parsed(self, words: Sequence[Token], error: str, files: Sequence[str]) -> HeaderError:
        """Return what is wrong with a declaration that the parser refused: as a rule a type that it does not know."""
        begins = True
        for word in words:
            if begins and word.kind == "word" and word.text not in _QUALIFIERS:
                if word.text not in self.types and word.text not in _OWN_WORDS:
                    others = [name for name in dict.fromkeys(self.reader.missing) if name not in _KNOWN_HEADERS]
                    missing = f" ({', '.join(others)} not read)" if others else ""
                    return HeaderError(
                        str(word.place), f"uses the type {word.text}, which is not declared{missing}", "must be known",
                        f"Define it, as in --define {word.text}=uint8_t",
                    )  # fmt: skip
                begins = False
            begins = word.text in ("{", ";") or (begins and word.text in _QUALIFIERS)
        part = error.split(":")
        line = part[1] if len(part) > 1 and part[1].isdigit() else str(words[0].place.line)
        where = Place(words[0].place.file, int(line))
        if part[0].isdigit() and 0 < int(part[0]) <= len(files):
            where = Place(files[int(part[0]) - 1], int(line))
        return HeaderError(str(where), f"is not C that can be compared:{error.rsplit(':', 1)[-1]}", "must be C99")

    def _declared(self, node: Any) -> None:
        if isinstance(node, c_ast.Typedef):
            kind = self._type(node.type)
            if isinstance(kind, Number) and not kind.names:
                kind = replace(kind, text=node.name)
            self.types[node.name] = kind
            if isinstance(kind, Record):
                self.header.records[node.name] = kind
        elif isinstance(node, c_ast.Decl):
            if isinstance(node.type, c_ast.ArrayDecl) and isinstance(node.init, c_ast.InitList):
                self.header.tables[node.name] = (node, self._item_names(node.type), self._place(node))
            elif not isinstance(node.type, c_ast.FuncDecl):
                self._type(node.type)

    def _item_names(self, array: Any) -> list[str]:
        """Return the names of the members of a table's items, in their order."""
        kind = self._type(array.type)
        return [member.name for member in kind.members] if isinstance(kind, Record) else []

    def _evaluation(self, node: Any) -> Evaluation:
        return Evaluation(self._place(node), self.header.enumerators, self._size_of)

    def _size_of(self, node: Any) -> int:
        if isinstance(node, c_ast.Typename):
            kind = self._type(node.type)
            if kind is not None:
                return kind.bits // 8
        refuse(self._place(node), "asks for the size of what has none here")

    def _type(self, node: Any) -> CType | None:
        """Return a type; None where it has no place on a wire, as a pointer."""
        match node:
            case c_ast.TypeDecl():
                return self._type(node.type)
            case c_ast.IdentifierType():
                return self._named(node)
            case c_ast.Struct() | c_ast.Union():
                return self._record(node)
            case c_ast.Enum():
                return self._enum(node)
            case c_ast.ArrayDecl():
                return self._array(node)
        return None

    def _named(self, node: Any) -> CType | None:
        names = list(node.names)
        if len(names) == 1 and names[0] in self.types:
            return self.types[names[0]]
        return number_named(names, self.header.target)

    def _array(self, node: Any) -> CType | None:
        of = self._type(node.type)
        if of is None:
            return None
        if node.dim is None:
            return Array(of, 0, is_open=True)
        count = self._evaluation(node).of(node.dim)
        if not 0 <= count <= 1 << 20:
            refuse(self._place(node), f"has an array of {count}", "must be 0 to 1048576")
        return Array(of, count, is_open=count == 0)

    def _enum(self, node: Any) -> CType:
        if node.values is None:
            known = self.tags.get(f"enum {node.name}")
            if known is None:
                refuse(self._place(node), f"uses enum {node.name}, which is not declared")
            return known
        values: dict[str, int] = {}
        attributes, following = NONE, 0
        for item in node.values.enumerators:
            if item.name.startswith(MARK):
                attributes = self.attributes[int(item.name.removeprefix(MARK))]
                continue
            value = following if item.value is None else self._evaluation(item).of(item.value)
            values[item.name] = self.header.enumerators[item.name] = value
            following = value + 1
        kind = _enum_number(f"enum {node.name}" if node.name else "enum", values, attributes, self.header.target)
        if node.name:
            self.tags[f"enum {node.name}"] = kind
        return kind

    def _record(self, node: Any) -> CType | None:
        word = "union" if isinstance(node, c_ast.Union) else "struct"
        name = f"{word} {node.name}" if node.name else word
        if node.decls is None:
            return self.tags.get(name)
        place = self._place(node)
        attributes, ahead = NONE, NONE
        members: list[Member] = []
        for item in node.decls:
            if not isinstance(item, c_ast.Decl):
                continue
            if item.name and item.name.startswith(MARK):
                ahead = self.attributes[int(item.name.removeprefix(MARK))]
                if item is node.decls[-1]:
                    attributes = ahead
                continue
            members += self._member(item, ahead)
            ahead = NONE
        if not members:
            refuse(place, f"has {name} without members", "must have some")
        record = lay_out(name, members, attributes, self.header.target, place, is_union=word == "union")
        if node.name:
            self.tags[name] = self.header.records[name] = record
        return record

    def _member(self, item: Any, attributes: Attributes) -> list[Member]:
        kind, place = self._type(item.type), self._place(item)
        if isinstance(item.type, (c_ast.Struct, c_ast.Union)) and item.type.name and item.name is None:
            return []  # a struct that is declared within another, without a member of it
        if kind is None:
            what = "a pointer or a function" if _is_pointer(item.type) else "a type without a place on a wire"
            refuse(place, f"{item.name or 'a member'} is {what}", "must be a number, or an array or a struct of them")
        width = None
        if item.bitsize is not None:
            width = self._evaluation(item).of(item.bitsize)
            if not isinstance(kind, Number) or kind.kind == "float" or not 0 <= width <= 64:
                refuse(place, f"{item.name or 'a bit-field'} has {width} bits", "must be a whole number with 0 to 64")
        return [Member(item.name or "", kind, width, attributes, place)]


def _names_of(words: Sequence[Token]) -> frozenset[str]:
    """Return what a declaration declares: the tags in it, and the names behind its last bracket."""
    texts = [word.text for word in words]
    tags = {behind for word, behind in pairwise(texts) if word in ("struct", "union") and behind.isidentifier()}
    behind = len(texts) - texts[::-1].index("}") if "}" in texts else 0
    return frozenset({*tags, *(word.text for word in words[behind:] if word.kind == "word")})


def _is_pointer(node: Any) -> bool:
    while isinstance(node, (c_ast.ArrayDecl, c_ast.TypeDecl)):
        node = node.type
    return isinstance(node, (c_ast.PtrDecl, c_ast.FuncDecl))


def _enum_number(text: str, values: Mapping[str, int], attributes: Attributes, target: Target) -> Number:
    """Return the number in which an enum is held: an int, or as narrow as its values allow."""
    low, high = min(values.values(), default=0), max(values.values(), default=0)
    has_sign = low < 0
    bits = target.int_bits
    if attributes.packed or target.short_enums:
        bits = 8
    while not (-(1 << bits - 1) <= low and high < 1 << (bits - has_sign)):
        bits *= 2
        if bits > 64:
            refuse(text, f"has {low if has_sign else high}", "must be a number of 64 bits at most")
    has_sign |= target.own_units  # Microsoft's enums are ints
    return Number("int" if has_sign else "uint", bits, min(bits, target.most_aligned), text, dict(values))
