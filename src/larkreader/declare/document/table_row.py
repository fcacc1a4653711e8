"""What is declared of a table of a sheet, from which loader, writer, schema and documentation are made."""

from __future__ import annotations

from collections.abc import Mapping
from types import MappingProxyType
from typing import Literal, NamedTuple

from pydantic import BaseModel

NO_REFERENCES: Mapping[str, str] = MappingProxyType({})


class Row(NamedTuple):
    """One table of a sheet.

    Parameters
    ----------
    table : str
        Its key.
    model : type
        What is made of it.
    form : {"one", "named", "list"}
        Whether there is one, ``[line]``, one by name, ``[wire.NAME]``, or a list, ``[[step]]``.
    refers : mapping of str to str
        Its keys that hold names of parts of another table, and that table.
    names : str
        The table whose parts its own names are.
    field : str
        The field of `Sheet` that holds it, where that has another name.
    """

    table: str
    model: type[BaseModel]
    form: Literal["one", "named", "list"]
    refers: Mapping[str, str] = NO_REFERENCES
    names: str = ""
    field: str = ""

    @property
    def attribute(self) -> str:
        """The field of `Sheet` that holds it."""
        return self.field or self.table
