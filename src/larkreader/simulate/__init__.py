"""What becomes of characters in buffers, services and programs, played without hardware or a clock.

It may use `decode` and what is before it.
"""

from larkreader.public_names import lazy

__all__, __getattr__, __dir__ = lazy(__name__)
