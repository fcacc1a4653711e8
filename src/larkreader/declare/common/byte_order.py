"""In which order the bytes of a number lie."""

from __future__ import annotations

from typing import Literal

ByteOrder = Literal["little", "big"]
