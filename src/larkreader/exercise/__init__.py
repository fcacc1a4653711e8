"""Make it happen: transmit, port, device, loopback."""

from larkreader.public_names import lazy

__all__, __getattr__, __dir__ = lazy(__name__)
