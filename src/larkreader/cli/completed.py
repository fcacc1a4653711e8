"""What completes an argument on the command line, loaded when a shell asks."""

from __future__ import annotations

from collections.abc import Callable
from importlib import import_module
from typing import Any

import click


def completed(what: str) -> Callable[[click.Context, click.Parameter, str], list[Any]]:
    """Return what completes figures, ports or frames on the command line; it is loaded when a shell asks."""

    def complete(context: click.Context, parameter: click.Parameter, word: str) -> list[Any]:
        completion = import_module(".completion", __package__)  # by name, as it knows what the commands are made of
        items: list[Any] = getattr(completion, f"complete_{what}")(context, parameter, word)
        return items

    return complete
