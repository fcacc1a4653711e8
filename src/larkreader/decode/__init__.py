"""From measured to meaning: pure functions, columns to columns."""

from larkreader.public_names import lazy

__all__, __getattr__, __dir__ = lazy(__name__)
