"""Lines of C, indented as they are written."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from contextlib import contextmanager


class CWriter:
    """Lines of C under way; `lines` holds them."""

    def __init__(self) -> None:
        self.lines: list[str] = []
        self._depth = 0

    def add(self, *lines: str) -> None:
        """Write lines at the present depth."""
        self.lines += [f"{'    ' * self._depth}{line}" if line else "" for line in lines]

    def extend(self, lines: Iterable[str]) -> None:
        """Write some lines at the present depth."""
        self.add(*lines)

    @contextmanager
    def block(self, head: str, tail: str = "}") -> Iterator[None]:
        """Write what is written within a block of its own, behind a line that opens it."""
        self.add(f"{head} {{" if head else "{")
        self._depth += 1
        yield
        self._depth -= 1
        self.add(tail)

    @contextmanager
    def function(self, head: str) -> Iterator[None]:
        """Write what is written within a function."""
        self.add(head, "{")
        self._depth += 1
        yield
        self._depth -= 1
        self.add("}", "")
