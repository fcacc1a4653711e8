"""What a user asks: a reading, a plan.

The one stage above `capture` that opens sheets and captures. It may use every stage but `present` and the command.
"""

from larkreader.public_names import lazy

__all__, __getattr__, __dir__ = lazy(__name__)
