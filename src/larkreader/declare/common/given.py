"""What a model's constructor takes, where that is more than what the model then holds.

A table of a sheet is a mapping in Python, and a list need not be a tuple: ``ReceivePath(fifo={"size": 8})`` is right,
and ``path.fifo`` is a `Fifo`. A field declares both, ``fifo: Input[Fifo, Fifo | Table]``. Type checkers see a
descriptor, whose setter has the type of the constructor's parameter; pydantic sees the type that the model holds.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any, Generic, TypeVar

Table = Mapping[str, Any]
Held = TypeVar("Held")
Given = TypeVar("Given")

if TYPE_CHECKING:

    class Input(Generic[Held, Given]):
        """A field that holds `Held`, and for which the constructor takes `Given`."""

        def __get__(self, instance: object, owner: type | None = None) -> Held: ...

        def __set__(self, instance: object, value: Given) -> None: ...

else:

    class Input:
        """A field that holds the first type, and for which the constructor takes the second."""

        def __class_getitem__(cls, types: tuple[Any, Any]) -> Any:
            return types[0]


def default(value: Any) -> Any:
    """Return the default of such a field, untyped, as it is not a descriptor."""
    return value
