"""How the documentation is built: ``sphinx-build -W docs docs/_build``."""

import sys
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent))

import generate
import inventories
import types_of_docstrings as types
from sphinx.ext import napoleon

import larkreader as lr
from larkreader.public_names import paths

project = "Lark Reader"
author = "The Lark Reader developers"
copyright = f"2026, {author}"  # noqa: A001  # the name that the generator asks for
version = release = lr.__version__
extensions = [
    "myst_parser",
    "sphinx.ext.autodoc",
    "sphinx.ext.napoleon",
    "sphinx.ext.intersphinx",
]
myst_heading_anchors = 4
myst_enable_extensions = ["colon_fence"]
exclude_patterns = ["_build"]
html_theme = "furo"
html_title = f"Lark Reader {version}"
html_static_path: list[str] = []
html_show_sourcelink = False
html_theme_options = {
    "light_css_variables": {"color-brand-primary": "#1c2b33", "color-brand-content": "#1c2b33"},
    "dark_css_variables": {"color-brand-primary": "#e4ebee", "color-brand-content": "#e4ebee"},
}
napoleon_google_docstring = False
napoleon_use_rtype = False
napoleon_use_ivar = True
autodoc_typehints = "none"
autodoc_member_order = "bysource"

nitpicky = True
intersphinx_mapping = inventories.mapping(Path(__file__).parent / "_build" / "inventories")
napoleon_preprocess_types = True
convert = types.converter({name: f"larkreader.{path}" for name, path in paths().items()})
for name in {"_convert_type_spec", "_convert_numpy_type_spec"} & set(vars(napoleon.docstring)):  # by Sphinx's version
    setattr(napoleon.docstring, name, convert)

generate.check()
