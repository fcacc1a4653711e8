"""How the types in docstrings become references: known names do, all other words stay words.

A docstring says ``ndarray of float64, shape (n_edges,)`` or ``mapping of str to Trace``, which is English with names in
it. A name in capitals that is known nowhere is an error of the build.
"""

from __future__ import annotations

import re
from collections.abc import Mapping

from sphinx.util import logging

PYTHON = {
    "str": "str", "int": "int", "float": "float", "bool": "bool", "bytes": "bytes", "dict": "dict", "list": "list",
    "tuple": "tuple", "None": "None", "object": "object",
}  # fmt: skip
WORDS = {
    "mapping": "collections.abc.Mapping",
    "sequence": "collections.abc.Sequence",
    "iterable": "collections.abc.Iterable",
    "callable": "collections.abc.Callable",
    "path": "pathlib.Path",
    "ndarray": "numpy.ndarray",
    "Axes": "matplotlib.axes.Axes",
    **{name: f"numpy.{name}" for name in ("int16", "int64", "uint8", "uint16", "uint64", "float32", "float64")},
}
DOTTED = {
    "pathlib.Path", "matplotlib.axes.Axes", "matplotlib.figure.Figure", "pydantic.ValidationError", "pandas.DataFrame",
    "numpy.ndarray",
}  # fmt: skip
# Types that results hold and that have no name of their own in the package's front; described where they are used.
INNER = {
    "Boundary", "Check", "Cycle", "DeclaredPort", "Device", "Difference", "EndClock", "FormatFit", "Jumper", "Load",
    "Messages", "Pauses", "SimulatedEnd", "Slot", "Spread", "StatedSettings", "Substitutes", "WordPart",
}  # fmt: skip
_QUOTED = re.compile(r"``[^`]*``|`[^`]*`|\"[^\"]*\"|'[^']*'|[A-Za-z_][\w.]*")
_NAME = re.compile(r"[A-Z][a-z]+(?:[A-Z][a-z]+)*")
_ERRORS = re.compile(r"[\w.]+Error(, [\w.]+Error)*")
_log = logging.getLogger(__name__)


def converter(public: Mapping[str, str]):  # noqa: ANN201 (it takes the place of a function of Sphinx)
    """Return what turns the type of a docstring into reStructuredText, given the full names of public ones."""

    def convert(text: str, *_: object, **__: object) -> str:
        words = text.split()
        is_sentence = len(words) > 2 and words[0][:1].isupper() and not _is_known(words[0].strip(",."), public)

        def reference(found: re.Match[str]) -> str:
            word = found[0]
            if word[0] in "`\"'":
                return word
            full = public.get(word) or WORDS.get(word) or PYTHON.get(word) or (word if word in DOTTED else None)
            if full is not None and not is_sentence:
                kind = "obj" if full == "None" else "py:exc" if full.endswith("Error") else "py:class"
                return f":{kind}:`{word} <{full}>`"
            if _NAME.fullmatch(word) and not is_sentence and word not in INNER:
                _log.warning('the type "%s" has the name %s, which is known nowhere', text, word)
            return word

        if _ERRORS.fullmatch(text):  # of a section "Raises", where Sphinx makes the reference
            return ", ".join(public.get(name, name) for name in text.split(", "))
        made = _QUOTED.sub(reference, text)
        return made if "`" in made or not made.strip() else f"*{made}*"  # plain text alone would be taken for a name

    return convert


def _is_known(word: str, public: Mapping[str, str]) -> bool:
    return word in public or word in INNER or word in WORDS or word in PYTHON
