"""What a capture holds of a wire."""

from .characters import Characters
from .trace import Trace

Measured = Trace | Characters
