"""Whether each public callable says what it takes, returns and raises, by the rules of numpydoc.

``python tools/check_docstrings.py``. Not asked for: an extended summary and a section "See Also", which not every name
needs; the order of parameters, which models take by name; "Returns" of a method whose first line says it; and what an
exception or a method has from its base. Every function at the root has an example, which the tests run.
"""

from __future__ import annotations

import enum
import inspect
import sys
from collections.abc import Iterator
from operator import attrgetter
from typing import Any

from numpydoc.validate import validate

import larkreader as lr
from larkreader.public_names import paths

LEFT_OUT = {"ES01", "SA01", "EX01", "PR03"}
OF_RETURNS = {"RT01", "YD01"}


def methods_of(thing: type) -> Iterator[str]:
    """Yield the public methods that a class defines first, as paths to import."""
    for name, member in vars(thing).items():
        is_callable = inspect.isfunction(member) or isinstance(member, (classmethod, staticmethod))
        is_first = not any(hasattr(base, name) for base in thing.__bases__)
        if is_callable and is_first and not name.startswith(("_", "model_")):
            yield f"{thing.__module__}.{thing.__qualname__}.{name}"


def mistakes_of(path: str, left_out: set[str]) -> Iterator[str]:
    """Yield what is wrong with the docstring of a public name."""
    for code, text in validate(path)["errors"]:
        if code not in left_out:
            yield f"{path}: {code} {text}"


def check(path: str) -> Iterator[str]:
    """Yield what is wrong with a public name, and with the methods of a class."""
    thing: Any = attrgetter(path)(lr)
    # an enumeration is never called by its users, and most exceptions are made as their base is
    is_enum = isinstance(thing, enum.EnumMeta)
    is_as_base = isinstance(thing, type) and issubclass(thing, Exception) and "__init__" not in vars(thing)
    left_out = LEFT_OUT | ({"PR01"} if is_enum or is_as_base else set())
    yield from mistakes_of(f"larkreader.{path}", left_out)
    if isinstance(thing, type):
        for method in methods_of(thing):
            yield from mistakes_of(method, LEFT_OUT | OF_RETURNS)
    elif inspect.isfunction(thing) and "." not in path and ">>>" not in (thing.__doc__ or ""):
        yield f"larkreader.{path}: has no example"


def main() -> int:
    """Check all of them; print what is wrong and return the exit status."""
    every = sorted(paths().values())
    mistakes = [mistake for path in every for mistake in check(path)]
    print("\n".join([*mistakes, f"{len(every)} public names, {len(mistakes)} mistakes"]))
    return 1 if mistakes else 0


if __name__ == "__main__":
    sys.exit(main())
