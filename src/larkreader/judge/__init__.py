"""Is it right, and if not, why: findings, never exceptions over bad data."""

from larkreader.public_names import lazy

__all__, __getattr__, __dir__ = lazy(__name__)
