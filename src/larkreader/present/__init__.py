"""Results for people: tables for the terminal, and figures."""

from larkreader.public_names import lazy

__all__, __getattr__, __dir__ = lazy(__name__)
