"""The functions of one layout in C: does a frame fit, is it right, what does it hold, and what is sent for values."""

from __future__ import annotations

from collections.abc import Sequence

from .c_code import LayoutCode
from .c_members import LayoutInC
from .c_pack import Packing
from .c_unpack import Unpacking
from .c_walk import Walk
from .c_writer import CWriter


def layout_functions(layout: LayoutInC, prefix: str, checksum: str, *, with_begins: bool) -> Sequence[str]:
    """Return the lines of the functions of a layout.

    Parameters
    ----------
    layout : LayoutInC
        The layout.
    prefix : str
        What the names of shared functions begin with.
    checksum : str
        The name of the function that calculates its checksum; nothing without one.
    with_begins : bool
        Whether that of the fixed values at the beginning is needed, by which damaged packets are sorted.
    """
    code, writer = LayoutCode(layout, prefix, checksum), CWriter()
    if layout.is_walked:
        Walk(code).write(writer)
    Unpacking(code).write(writer, with_begins=with_begins)
    Packing(code).write(writer)
    return writer.lines
