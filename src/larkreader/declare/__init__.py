"""What the engineer says: frozen, validated models of a link. No arrays, and no file but the sheet."""

from larkreader.public_names import lazy

__all__, __getattr__, __dir__ = lazy(__name__)
