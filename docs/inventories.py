"""Where the names of other packages are documented, so that references to them become links without a network.

Each inventory holds the few names that our docstrings refer to, in Sphinx's own format, with the page that documents
each.
"""

from __future__ import annotations

import zlib
from pathlib import Path

PYTHON, NUMPY = "https://docs.python.org/3/", "https://numpy.org/doc/stable/"
NAMES = {
    "python": (PYTHON, {
        **{name: f"library/stdtypes.html#{name}" for name in ("str", "list", "tuple", "dict", "bytes")},
        **{name: f"library/functions.html#{name}" for name in ("int", "float", "bool", "object")},
        "None": "library/constants.html#None",
        **{f"collections.abc.{name}": f"library/collections.abc.html#collections.abc.{name}"
           for name in ("Callable", "Iterable", "Iterator", "Mapping", "Sequence")},
        "pathlib.Path": "library/pathlib.html#pathlib.Path",
        **{name: f"library/exceptions.html#{name}" for name in
           ("ImportError", "KeyError", "OSError", "ValueError", "AssertionError", "TypeError", "IndexError")},
    }),
    "numpy": (NUMPY, {
        "numpy.ndarray": "reference/generated/numpy.ndarray.html#numpy.ndarray",
        "numpy.asarray": "reference/generated/numpy.asarray.html#numpy.asarray",
        **{f"numpy.{name}": f"reference/arrays.scalars.html#numpy.{name}"
           for name in ("int16", "int64", "uint8", "uint16", "uint64", "float32", "float64")},
    }),
    "pandas": ("https://pandas.pydata.org/docs/", {
        "pandas.DataFrame": "reference/api/pandas.DataFrame.html#pandas.DataFrame"}),
    "matplotlib": ("https://matplotlib.org/stable/", {
        "matplotlib.axes.Axes": "api/_as_gen/matplotlib.axes.Axes.html#matplotlib.axes.Axes",
        "matplotlib.figure.Figure": "api/_as_gen/matplotlib.figure.Figure.html#matplotlib.figure.Figure"}),
    "pydantic": ("https://docs.pydantic.dev/latest/", {
        "pydantic.ValidationError": "api/pydantic_core/#pydantic_core.ValidationError"}),
}  # fmt: skip


def mapping(folder: Path) -> dict[str, tuple[str, str]]:
    """Write the inventories into a folder, and return them as the setting of Sphinx that names them."""
    folder.mkdir(parents=True, exist_ok=True)
    setting = {}
    for project, (home, names) in NAMES.items():
        lines = "".join(
            f"{name} py:{'exception' if name.endswith('Error') else 'data' if name == 'None' else 'class'} 1 {page} -\n"
            for name, page in names.items()
        )
        head = f"# Sphinx inventory version 2\n# Project: {project}\n# Version: \n"
        head += "# The remainder of this file is compressed using zlib.\n"
        file = folder / f"{project}.inv"
        file.write_bytes(head.encode() + zlib.compress(lines.encode()))
        setting[project] = (home, str(file))
    return setting
