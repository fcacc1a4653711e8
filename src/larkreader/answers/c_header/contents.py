"""What a C header declares: its structs by name, its tables, and what of it cannot be understood."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from typing import Any

from larkreader.errors import HeaderError, nearest

from .leaves import Leaf, leaves
from .targets import Target
from .tokens import refuse
from .types import Array, CType, Record


@dataclass
class CHeader:
    """What a C header declares.

    Parameters
    ----------
    name : str
        What it is called in messages.
    target : Target
        The compiler by whose rules its structs are laid out.
    records : dict
        Its structs and unions, by tag, by the name that a ``typedef`` gives, or both.
    tables : dict of str to c_ast.Node
        Its arrays with initial values.
    notes : list of str
        What is worth knowing: words that compilers ignore.
    missing : list of str
        What it includes that was not read.
    enumerators : dict of str to int
        The values of its enums.
    broken : list of tuple
        Of each declaration that cannot be understood, what it declares and the `HeaderError`.
    """

    name: str
    target: Target
    records: dict[str, Record] = field(default_factory=dict)
    tables: dict[str, Any] = field(default_factory=dict)
    notes: list[str] = field(default_factory=list)
    missing: list[str] = field(default_factory=list)
    enumerators: dict[str, int] = field(default_factory=dict)
    broken: list[tuple[frozenset[str], HeaderError]] = field(default_factory=list)

    @property
    def structs(self) -> list[str]:
        """The names of the structs, each once, that of its ``typedef`` where it has one."""
        named: dict[int, str] = {}
        for name, record in self.records.items():
            if id(record) not in named or not name.startswith(("struct ", "union ")):
                named[id(record)] = name
        return list(named.values())

    def record(self, name: str) -> Record:
        """Return a struct.

        Parameters
        ----------
        name : str
            Its tag or the name of its ``typedef``; behind points the members that lead to a struct within.

        Raises
        ------
        HeaderError
            If there is none of this name, or what stands there cannot be understood.
        """
        first, *path = name.removeprefix("struct ").split(".")
        found: CType | None = next(
            (self.records[key] for key in (first, f"struct {first}", f"union {first}") if key in self.records), None
        )
        if found is None:
            self.raise_broken(lambda declared: declared == first)
            known = [item.removeprefix("struct ") for item in self.structs]
            refuse(self.name, f"declares no struct {first}", "", nearest(first, known))
        for step in path:
            assert found is not None
            members = _inner(found)
            if step not in members:
                refuse(self.name, f"has no member {step} in {name}", "", nearest(step, list(members)))
            found = members[step]
        while isinstance(found, Array):
            found = found.of
        if not isinstance(found, Record):
            refuse(self.name, f"has no struct in {name}", "must be a struct")
        return found

    def raise_broken(self, is_meant: Callable[[str], bool] = lambda name: True) -> None:
        """Raise why a declaration cannot be understood, of the first that declares what is meant.

        Parameters
        ----------
        is_meant : callable
            Called with the name of a struct; returns whether it is meant. By default any is.
        """
        for names, error in self.broken:
            if any(map(is_meant, names)):
                raise error

    def leaves(self, name: str) -> list[Leaf]:
        """Return the numbers of a struct in the order of their places.

        Parameters
        ----------
        name : str
            The struct; see `record`.
        """
        return list(leaves(self.record(name)))


def outer_structs(header: CHeader) -> list[str]:
    """Return the structs of a header that no other struct holds, by name.

    Parameters
    ----------
    header : CHeader
        The header.

    Returns
    -------
    list of str
        Without the word ``struct``.
    """
    inner = {id(kind) for name in header.structs for kind in _held(header.records[name])}
    outer = [name for name in header.structs if id(header.records[name]) not in inner]
    return [name.removeprefix("struct ") for name in outer]


def _held(record: Record) -> Iterator[Record]:
    """Yield the structs within a struct."""
    for member in record.members:
        kind: CType = member.type
        while isinstance(kind, Array):
            kind = kind.of
        if isinstance(kind, Record):
            yield kind
            yield from _held(kind)


def _inner(kind: CType) -> dict[str, CType]:
    """Return the members of a struct by name, those of structs without a name in it too."""
    while isinstance(kind, Array):
        kind = kind.of
    members: dict[str, CType] = {}
    for member in kind.members if isinstance(kind, Record) else ():
        members |= {member.name: member.type} if member.name else _inner(member.type)
    return members
