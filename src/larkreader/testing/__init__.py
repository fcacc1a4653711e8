"""Equipment for tests: checks that every port must pass, checks that say what went wrong, and the pytest plugin."""

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from .checks import check as check
    from .checks import check_same as check_same
    from .ports import check_port as check_port

_HOMES = {"check": "checks", "check_port": "ports", "check_same": "checks"}
__all__ = ["check", "check_port", "check_same"]


def __getattr__(name: str) -> Any:
    if name not in _HOMES:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    return getattr(import_module(f".{_HOMES[name]}", __name__), name)
