"""What was measured: level changes, characters and bytes, in columns."""

from larkreader.public_names import lazy

__all__, __getattr__, __dir__ = lazy(__name__)
