"""Names and texts of others, shown so that they do nothing to the terminal or the page on which they stand."""

from __future__ import annotations

# Control characters of ECMA-48 (C0 and C1), and the marks of Unicode (UAX 9) that turn the direction of writing
_CONTROLS = (*range(0x20), *range(0x7F, 0xA0))
_DIRECTIONS = (0x061C, 0x200E, 0x200F, 0x2028, 0x2029, *range(0x202A, 0x202F), *range(0x2066, 0x206A))
_ESCAPED = {code: f"\\x{code:02x}" for code in _CONTROLS} | {code: f"\\u{code:04x}" for code in _DIRECTIONS}
_ESCAPED |= {code: f"\\u{code:04x}" for code in range(0xD800, 0xE000)}  # half a pair, which no output can encode
_LAYOUT = {ord("\n"), ord("\t")}
_ESCAPED_IN_TEXT = {code: text for code, text in _ESCAPED.items() if code not in _LAYOUT}


def harmless(text: str, *, is_name: bool = False) -> str:
    r"""Write the characters that control a terminal, or turn the direction of writing, as escapes of Python.

    Parameters
    ----------
    text : str
        What others have written.
    is_name : bool
        Whether it stands in a line, so that it has neither line ends nor tabs.

    Returns
    -------
    str
        The same text, if nothing in it is harmful.

    Examples
    --------
    >>> from larkreader.harmless import harmless
    >>> harmless("flow\x1b[2J")
    'flow\\x1b[2J'
    """
    if text.isascii() and text.isprintable():
        return text
    return text.translate(_ESCAPED if is_name else _ESCAPED_IN_TEXT)
