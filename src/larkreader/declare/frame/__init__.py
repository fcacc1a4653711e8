"""Frames: fields, layouts, boundaries, stuffing, patterns of text.

It may use `common` and `checks`.
"""
