"""Error marks in what a terminal driver delivers (POSIX ``PARMRK``).

A character with a parity or framing error arrives as FF 00 and the character, a break as FF 00 00, and a character FF
that is sound as FF FF.
"""

from __future__ import annotations

from .characters import Fault

MARK = 0xFF


class MarkReader:
    """Takes the marks out of what arrives, piece by piece.

    Parameters
    ----------
    fault : Fault
        What a mark means: a parity error on a line with parity, else a framing error.

    Attributes
    ----------
    held : bytes
        What may be the beginning of a mark.
    """

    held: bytes

    def __init__(self, fault: Fault) -> None:
        self._fault = fault
        self.held = b""

    def feed(self, data: bytes) -> tuple[bytes, bytes]:
        """Take in the next piece; return the characters and one byte of faults for each.

        What may be the beginning of a mark is kept for the next piece.
        """
        data, self.held = self.held + data, b""
        if MARK not in data:
            return data, bytes(len(data))
        values, faults = bytearray(), bytearray()
        place = 0
        while place < len(data):
            mark = data.find(MARK, place)
            plain = data[place:] if mark < 0 else data[place:mark]
            values += plain
            faults += bytes(len(plain))
            if mark < 0:
                break
            kind = data[mark + 1 : mark + 2]
            if not kind or (kind == b"\x00" and mark + 2 >= len(data)):
                self.held = data[mark:]
                break
            if kind == b"\x00":
                value = data[mark + 2]
                values.append(value)
                faults.append(self._fault if value else Fault.BREAK)
                place = mark + 3
            else:  # FF FF is a sound FF; a driver that does not double it sends it alone
                values.append(MARK)
                faults.append(0)
                place = mark + (2 if kind == b"\xff" else 1)
        return bytes(values), bytes(faults)
