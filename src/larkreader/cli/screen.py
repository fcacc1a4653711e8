"""Rows that go by on standard output, and under them, on a terminal, what is drawn again and again."""

from __future__ import annotations

import sys
import time
from collections.abc import Callable, Iterable
from types import TracebackType
from typing import TYPE_CHECKING, Any, Self

import click

if TYPE_CHECKING:
    from rich.live import Live

REDRAWN_S = 0.1  # at most so often


class Screen:
    """Where a command on a live port shows things. A context manager.

    Parameters
    ----------
    footer : callable, optional
        Makes what stands under the rows; called again and again. It is drawn where standard output or, if that goes
        elsewhere, standard error is a terminal.
    """

    def __init__(self, footer: Callable[[], Any] | None = None) -> None:
        self._footer = footer
        self._live: Live | None = None
        self._is_drawing = False
        self._drawn_s = -REDRAWN_S

    def rows(self, rows: Iterable[str]) -> None:
        """Show rows."""
        text = "\n".join(rows)
        if not text:
            return
        if self._live is not None and sys.stdout.isatty():
            self._live.console.out(text, highlight=False)
        else:
            click.echo(text)

    def refresh(self) -> None:
        """Draw the footer again, if it is time."""
        if self._live is None or self._footer is None or time.monotonic() - self._drawn_s < REDRAWN_S:
            return
        self._drawn_s = time.monotonic()
        self._live.update(self._footer(), refresh=True)

    def __enter__(self) -> Self:
        if self._footer is not None and (sys.stdout.isatty() or sys.stderr.isatty()):
            from rich.live import Live

            from larkreader.present.text.terminal import make_console

            console = make_console(stderr=not sys.stdout.isatty())
            self._live = Live(
                console=console, auto_refresh=False, transient=True, redirect_stdout=False, redirect_stderr=False
            )
            click.get_current_context().call_on_close(self._stop)  # also if it is interrupted before it has started
            self._live.start()
            self._is_drawing = True
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._stop()

    def _stop(self) -> None:
        """Take away what was drawn under the rows, and show the cursor again. Once more does nothing."""
        if self._live is None:
            return
        try:
            if self._is_drawing:
                self._live.stop()
        finally:
            self._live.console.show_cursor(True)
            self._live = None
