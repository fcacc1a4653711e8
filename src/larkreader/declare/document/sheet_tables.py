"""The tables of a sheet's document, made into models one by one, with the mistakes of all of them gathered."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any, TypeVar

from pydantic import BaseModel, ValidationError

from larkreader.declare.common.mistakes import mistakes_of, show
from larkreader.errors import Mistake, nearest

_Model = TypeVar("_Model", bound=BaseModel)


class TableReader:
    """Makes models of the tables of a document.

    Parameters
    ----------
    document : mapping of str to object
        What the TOML file holds.
    """

    def __init__(self, document: Mapping[str, Any]) -> None:
        self.document = document
        self.mistakes: list[Mistake] = []

    def _table(self, key: str) -> Mapping[str, Any]:
        table = self.document.get(key, {})
        if isinstance(table, Mapping):
            return table
        self.mistakes.append(Mistake(key, show(table), f"must be a table, [{key}]"))
        return {}

    def _each(self, key: str, make: Callable[[str, Mapping[str, Any]], _Model | None]) -> dict[str, _Model]:
        made = {}
        for name, table in self._table(key).items():
            if not isinstance(table, Mapping):
                self.mistakes.append(Mistake(f"{key}.{name}", show(table), f"must be a table, [{key}.{name}]"))
            elif "key" in table:
                self.mistakes.append(Mistake(f"{key}.{name}.key", "", f"is not a key of [{key}.{name}]"))
            elif (model := make(name, table)) is not None:
                made[name] = model
        return made

    def _list(self, key: str, make: Callable[[str, Mapping[str, Any]], _Model | None]) -> tuple[_Model, ...]:
        tables = self.document.get(key, [])
        if not isinstance(tables, list) or not all(isinstance(table, Mapping) for table in tables):
            self.mistakes.append(Mistake(key, show(tables), f"must be tables, each begun with [[{key}]]"))
            return ()
        made = [make(f"{key}[{number}]", table) for number, table in enumerate(tables)]
        return tuple(model for model in made if model is not None)

    def _refer(self, where: str, names: Any, table: str) -> None:
        """Note which of the names, one or a list of them, are not of a table of the sheet."""
        known = list(self._table(table))
        article = "an" if table[0] in "aeiou" else "a"
        for name in names if isinstance(names, list) else [names]:
            if isinstance(name, str) and name not in known:
                told = (
                    f"is not {article} {table} of this sheet"
                    if known
                    else f"is not on this sheet, which has no [{table}.*]"
                )
                self.mistakes.append(Mistake(where, show(name), told, nearest(name, known)))

    def _model(self, model: type[_Model], table: Mapping[str, Any], where: str) -> _Model | None:
        try:
            return model.model_validate(table)
        except ValidationError as error:
            self.mistakes += mistakes_of(error, model, where)
            return None
