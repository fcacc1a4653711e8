"""What a capture holds of a wire."""

from larkreader.capture.characters import Characters
from larkreader.capture.trace import Trace

Measured = Trace | Characters
