"""Is a frame right: checksums, fixed values, names, ranges.

It may use `columns`.
"""
